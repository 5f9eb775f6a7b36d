// Package work takes one device through its night: it reaches it, looks whether it is the one
// that is meant and fit to be changed, backs it up, arms its rollback timer, sends the lines,
// proves what is expected, saves; or takes the change back and proves that.
//
// The laws (numbers as in docs/architecture.md) that are about one device are kept here and in
// no other place: armed.go arms before it changes, alone.go looks right before a step's first
// line, forward.go sends, finish.go proves before it saves, dark.go waits for a lost device,
// ladder.go is the ladder back, decide.go what follows it. Those that are about many are kept by package run.
//
// A worker speaks to its device through [driver.Session], to disk through [Log] and [Backups],
// and to its conductor by a [Message] and [Orders].
package work
