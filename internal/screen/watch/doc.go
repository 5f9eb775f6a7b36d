// Package watch is the view of a night: before it begins what will be done, then the
// batches as groups, a device a line, and beside them the device under the cursor or
// what is asked; after it, how it ended. A night that runs stands on top of every other
// view, too.
//
// It draws an immutable view of the night and passes decisions on; it never reaches
// into the run.
package watch
