// Package nights holds the tests that run whole nights: the real run over real
// SSH sessions with simulated devices, in virtual time, with seeded faults, and
// what it claims is held against what truly happened.
//
//	make nights N=5000                 runs that many random nights
//	go test ./internal/nights -run 'TestNights/seed=17$' -seed 17 -nights 1
//
// A failing night prints the command that runs it again.
package nights
