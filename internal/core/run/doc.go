// Package run carries a night out: it takes a plan and works it off over
// many devices, in batches, under the laws that keep a town on the network.
//
// A [Run] is a conductor with a worker for each device that is being worked
// on. It speaks to devices through [Session], to disk through [Journal] and
// [Backups]; it knows nothing of screens, SSH or databases. What happens comes
// out as [night.Event] values; what a person decides goes in as [night.Command] values. The
// state of a run is what [night.Fold] makes of its events, and nothing else.
//
// The laws (numbers as in docs/architecture.md) are kept here and in no other
// place: worker.go arms before it changes, alone.go looks right before a step's
// first line, forward.go sends, finish.go proves before it saves, dark.go waits for
// a lost device, revert.go climbs the ladder back, conduct.go keeps the caps, pairs
// and budgets, record.go makes every intention durable before it is acted on.
package run
