// Package acts is what can be asked for, the same for a command and for a view:
// select devices, reach them, read a table from them, ask them something, work one by
// hand; plan a night, begin it, open a past one.
//
// Each act takes values and gives results, or tells events as they come. A command
// parses what was typed, calls an act and prints; a view takes keys, calls the same
// act and draws. Neither puts parts together. Whatever has to be asked meanwhile goes
// to the [person.Person] of the [Desk].
//
//	desk, err := acts.Open(dir, nil, nil) // a workspace, and who can be asked: nobody
//	e, err := desk.Select("", []string{`site == "ALD"`}) // devices; nothing connects yet
//	err = e.Ready(ctx, "reach")                          // secrets, keys, jump hosts
//	e.Reach(ctx, e.Devices(), func(ev reach.Event) { … })
//
// A night has its own life: [Desk.Plan] makes it, [Tonight.Begin] begins it, and it goes
// on to its end whoever looks.
package acts
