// Package run carries a night out: it takes a plan and works it off over
// many devices, in batches, under the laws that keep a town on the network.
//
// A [Run] is a conductor; package work has the workers, one for each device that is being
// worked on. It knows of them what they tell it by a [work.Message], and nothing else; of disks,
// screens and networks it knows nothing. What happens comes out as [night.Event] values; what a
// person decides goes in as [night.Command] values. The state of a run is what [night.Fold]
// makes of its events, and nothing else.
//
// start.go and conduct.go keep the caps, pairs and budgets (laws 8 and 9), abort.go what becomes of the
// devices in change (law 7), ask.go the holds, record.go makes every intention durable before
// it is acted on (law 11).
package run
