// Package door keeps the place at a terminal while the screens in it change.
//
// A shell waits for the process that it has started, and a terminal that is closed ends what its
// session runs. A night outlives both. So the process that the shell has started shows nothing
// itself: it keeps the door ([Keep]), and starts another one inside, of the same job, that draws and
// takes the keys. Where a night is begun inside, that process takes it, and all that it has in
// memory for it, away from the terminal: it leaves the session ([Inside.Leave]), and has the keeper
// show another screen in its place ([Inside.Hand]), one that attaches to the night. The keeper ends
// with the last screen, and its exit code is that one's.
//
// The two speak over a pair of sockets. What is inside sees its end closed when the keeper has gone:
// with the terminal, by a signal, or killed. Stopped and gone on is the job as one: what is inside is
// stopped with its keeper and the other way round.
package door
