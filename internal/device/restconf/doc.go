// Package restconf works devices by RESTCONF (RFC 8040), in JSON (RFC 7951) over HTTPS.
//
// A [Session] is a [driver.Session]. Each line of a change takes effect as it is sent: what is
// set is merged into the datastore by PATCH, what is deleted by DELETE, and a backup is put
// back by PUT. Every one of them says which state of the datastore it is for (If-Match), so
// that nobody else's change since we have read it is written over. A server is known by the
// key of its certificate, as a host is by its SSH key. RESTCONF takes nothing back by
// itself: the way back is what was read before.
package restconf
