// Package ssh opens an interactive shell on a device over SSH (RFC 4251–4254),
// directly or through jump hosts.
//
// A [Hop] says how to connect to one host: address, login, algorithms and the
// check of its host key. [Open] connects to a device and starts a shell;
// [Jumps] keeps one connection to each jump host and shares it among all the
// devices behind it. Every error is a [reach.Failure] that names the stage.
package ssh
