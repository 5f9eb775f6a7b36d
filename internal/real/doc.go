// Package real tests Metabasis against real systems on loopback: OpenSSH as
// device and as jump host, the inetutils Telnet server, and routers that run
// BIRD 2. It needs root, since it makes users to log in as; make test-real
// installs what it needs and runs it.
package real
