// Package snmp works devices by SNMP (RFC 3416), version 2c or 3 with authentication and
// privacy (RFC 3414).
//
// A [Session] is a [driver.Session]: its configuration is the objects that the profile lists,
// and a line of a change sets one of them. The sets of a step go in one message, which a
// device carries out as a whole or not at all (RFC 3416, section 4.2.5); since not every
// device does, each object is read afterwards and compared. SNMP takes nothing back by
// itself: the way back is to set what was read before.
package snmp
