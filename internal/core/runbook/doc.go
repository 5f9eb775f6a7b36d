// Package runbook is our language for a change over many devices: read by the
// people who approve it, written by the people who make it.
//
// A runbook is lines. A section starts at the left edge, its entries stand two
// spaces in, and what belongs to an entry two spaces further. Text meant for a
// device stands verbatim behind a bar, with values in <<double angles>>:
//
//	step "Time sources"
//	  already   when config has "time source <<clock_a>> first"
//	  on tern
//	    send
//	      | time source <<clock_a>> first
//	    undo
//	      | drop time source <<clock_a>>
//	  expect    clock.source == clock_a within 90s
//
// The work is done in four stages, each in a file of its own. scan.go turns
// text into a tree of lines; parse.go turns the tree into a [Runbook];
// [Runbook.Compile] type-checks every condition and every value against a
// [Schema], so that nothing is left to fail at night; format.go writes the one
// layout. Conditions are expr-lang expressions.
//
// All errors of a file are reported together, as a problem.List.
package runbook
