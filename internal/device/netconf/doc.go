// Package netconf works devices by NETCONF (RFC 6241) over SSH (RFC 6242).
//
// A [Session] is a [driver.Session]: it says in NETCONF's operations what the run asks for.
// A line of a change is one edit of the candidate, or of what runs where there is no
// candidate; applying is a confirmed commit (RFC 6241, section 8.4), which the device takes
// back by itself unless it is confirmed in time. The commit persists: it outlives the
// session that began it, so a lost session loses nothing, and it is confirmed or cancelled
// by a name that only we know.
//
// Whoever wants to teach Metabasis another protocol can copy this folder: framing and
// requests in frame.go and client.go, what the run asks for in session.go, how it begins in
// start.go.
package netconf
