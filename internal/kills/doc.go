// Package kills holds the tests that kill the real program at each event of a night, over
// devices of every kind, and hold every word that is said of that night afterwards against
// what the simulated devices truly are: its report, its comparison, the workspace, what a
// restore would do, and what the next run does.
//
// The program is killed when it has printed the event with a certain number, and not at a
// time: so each place of a night is met on a slow machine, too. A few places are tried each
// time; with -kills 0, all of them.
package kills
