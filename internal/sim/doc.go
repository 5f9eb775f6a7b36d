// Package sim simulates network devices that really behave.
//
// A [Fleet] is built from a [Scenario]: devices on a tree of uplinks. Each
// device serves SSH, has a configuration that runs and one that is saved, and
// a restart timer. When the timer fires, all sessions drop, the device is away
// for its boot time and comes back with what was saved. A device that shuts
// its uplink, or locks the management station out, is really cut off: its
// connections go silent, as they would.
//
// Devices are reached in memory with [Fleet.Dial], which works inside a
// testing/synctest bubble, or on loopback with [Fleet.Listen], where an
// ordinary SSH client can work on them by hand.
//
// Everything that truly happens to a device is kept in its [Truth], so that a
// test can hold what the product claims against it.
//
// The platform simulated here is tern, a line-at-a-time access switch. Its
// command language is our own; tern.go is its manual.
package sim
