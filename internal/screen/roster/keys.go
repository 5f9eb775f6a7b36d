package roster

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/console"
	"metabasis/internal/screen/grid"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/watch"
	"metabasis/internal/stream"
)

// Keys implements [screen.View].
func (v *View) Keys() (out []screen.Key) {
	add := func(can bool, b screen.Binding, does string, do func()) {
		if can {
			out = append(out, screen.On(b, does, do))
		}
	}
	what := "reach all"
	if n := len(v.marked); n > 0 {
		what = fmt.Sprintf("reach %d marked", n)
	}
	failed := len(v.failed()) > 0
	add(!v.busy && v.src.Reach != nil, keys.Reach, what, func() { v.again(v.meant()) })
	add(!v.busy && failed, keys.Again, "failed again", func() { v.again(v.failed()) })
	add(len(v.fresh()) > 0, keys.HostKeys, "keys", v.accept)
	out = append(out, v.list.Moves("")...)
	add(true, keys.Mark, "mark", v.mark)
	add(v.src.Where != nil, keys.Where, "mark where", v.where)
	add(failed, keys.Need, "failed", v.nextFailed)
	add(true, keys.Order, "group", v.regroupNext)
	add(len(v.src.Tables) > 0, keys.Table, "table", v.table)
	does := v.src.Does
	add(does.Backup != nil && !v.busy, keys.Backup, "back up", func() { v.doing("Backing up", v.src.Does.Backup) })
	add(does.Ask != nil && !v.busy, keys.Ask, "ask", v.ask)
	add(does.Record != nil && !v.busy, keys.Record, "record", v.record)
	add(does.Begin != nil && len(v.marked) > 0, keys.Begin, "a runbook", v.runbook)
	add(v.src.Said != nil, keys.Open, "transcript", v.transcript)
	add(v.src.Console != nil, keys.Console, "console", v.console)
	add(v.src.Login != nil && !v.busy, keys.Login, "login anew", v.login)
	add(len(v.marked) > 0 && v.src.Save != nil, keys.Save, "save", v.save)
	add(true, keys.Find, "find", func() { v.list.Find(v.host, "device") })
	out = append(out, v.list.More(v.host)...)
	add(len(v.marked) > 0, keys.Range, "", v.markRange)
	add(len(v.marked) > 0, keys.Unmark, "", func() { v.marked, v.from = map[string]bool{}, "" })
	return out
}

func (v *View) mark() {
	i := v.current()
	if i < 0 {
		return
	}
	name := v.src.Devices[i].Name
	if v.marked[name] {
		delete(v.marked, name)
	} else {
		v.marked[name] = true
	}
	v.from = name
	v.list.Move(1)
}

// markRange marks from the device that was marked last to the cursor.
func (v *View) markRange() {
	from := slices.IndexFunc(v.rows, func(r row) bool { return r.device >= 0 && v.src.Devices[r.device].Name == v.from })
	if from < 0 {
		v.host.Say("mark the first of the range with m, then go to the last and press M")
		return
	}
	lo, hi := min(from, v.list.Cursor), max(from, v.list.Cursor)
	for _, r := range v.rows[lo : hi+1] {
		if r.device >= 0 {
			v.marked[v.src.Devices[r.device].Name] = true
		}
	}
}

func (v *View) where() {
	v.host.Type(screen.Line{Label: "mark where", Hint: `such as site == "ALD"`, Done: func(text string) error {
		if strings.TrimSpace(text) == "" {
			return nil
		}
		names, told, err := v.src.Where(text)
		if err != nil {
			return err
		}
		for _, n := range names {
			v.marked[n] = true
		}
		said := fmt.Sprintf("%s marked, %d in all", report.Count(len(names), "device"), len(v.marked))
		v.host.Say(strings.Join(append([]string{said}, told...), "; "))
		return nil
	}})
}

func (v *View) save() {
	names := v.markedNames()
	v.host.Type(screen.Line{Label: fmt.Sprintf("save %d marked as @", len(names)), Done: func(name string) error {
		if name == "" {
			return nil
		}
		said, err := v.src.Save(name, scope.Selection{Devices: names})
		if err != nil {
			return err
		}
		v.host.Say(said)
		return nil
	}})
}

// regroupNext groups the devices by the next thing.
func (v *View) regroupNext() {
	v.group = (v.group + 1) % groupings
	v.regroup()
	if i := v.current(); v.group == byOutcome && i >= 0 && v.board.Entries[i].State != reach.Failed {
		v.list.To(0) // what needs somebody comes first
	}
}

// nextFailed goes to the next device that was not reached.
func (v *View) nextFailed() {
	for n := 1; n <= len(v.rows); n++ {
		i := (v.list.Cursor + n) % len(v.rows)
		if d := v.rows[i].device; d >= 0 && v.board.Entries[d].State == reach.Failed {
			v.list.To(i)
			return
		}
	}
	v.host.Say("no device has failed")
}

// again reaches devices; where a login was denied before, what was typed as its secret
// is typed anew first.
func (v *View) again(names []string) {
	denied := slices.ContainsFunc(v.board.Entries, func(e reach.Entry) bool {
		return e.State == reach.Failed && (e.Stage == reach.Login || e.Stage == reach.Privileged) && slices.Contains(names, e.Device)
	})
	if !denied || v.src.Renew == nil {
		v.reach(names)
		return
	}
	v.host.Work("Getting ready again", v.src.Renew, func(err error) {
		if err != nil {
			v.host.Say("not reached again: " + err.Error())
			return
		}
		v.reach(names)
	})
}

func (v *View) reach(names []string) {
	if v.busy || len(names) == 0 {
		return
	}
	v.busy, v.asked = true, make(map[string]bool, len(names))
	for _, name := range names {
		v.asked[name] = true
	}
	events := stream.New[reach.Event]()
	v.host.Go(func(ctx context.Context) {
		defer events.Close()
		if left := v.src.Reach(ctx, names, func(e reach.Event) { events.Put(e) }); len(left) > 0 {
			v.host.Then(func() { v.host.Say("not tried, the night works on them: " + report.Some(left, 4)) })
		}
	})
	screen.Listen(v.host, events.Next, func(e []reach.Event) {
		v.board = v.board.Fold(e...)
		c := v.board.Count()
		v.host.Progress("reaching", c[reach.Ready]+c[reach.Failed], len(v.board.Entries))
	}, func() {
		v.host.Progress("", 0, 0)
		v.busy = false
		v.regroup()
	})
}

// failed are the devices that were not reached; those whose new host keys wait to
// be accepted are not among them.
func (v *View) failed() (names []string) {
	for _, e := range v.board.Entries {
		if e.State == reach.Failed && !v.isFresh(e) {
			names = append(names, e.Device)
		}
	}
	return names
}

// accept asks about new host keys, and reaches again the devices whose keys were
// accepted.
func (v *View) accept() {
	var again []string
	fresh := v.fresh()
	v.host.Work("Host keys", func(ctx context.Context) (err error) {
		again, err = v.src.Accept(ctx, fresh)
		return err
	}, func(err error) {
		switch {
		case err != nil:
			v.host.Say("nothing is accepted: " + err.Error())
		case len(again) == 0:
			v.host.Say("refused: these devices stay unreached")
		default:
			v.reach(again)
		}
	})
}

func (v *View) transcript() {
	if i := v.current(); i >= 0 {
		watch.OpenTranscript(v.host, v.src.Devices[i].Name, v.src.Said)
	}
}

// login has the login of the device under the cursor typed anew.
func (v *View) login() {
	i := v.current()
	if i < 0 {
		return
	}
	d := v.src.Devices[i].Name
	v.host.Work("Login", func(ctx context.Context) error { return v.src.Login(ctx, d) }, func(err error) {
		if err != nil {
			v.host.Say("the login of " + d + ": " + err.Error())
			return
		}
		v.host.Say("the login of " + d + " was typed anew; R reaches again what was not reached")
	})
}

func (v *View) console() {
	if i := v.current(); i >= 0 {
		name := v.src.Devices[i].Name
		var guarded func()
		if by := v.src.Does.ByHand; by != nil {
			guarded = func() { by(v.host, name) }
		}
		console.Work(v.host, name, v.src.Console(v.host.Context(), name), guarded)
	}
}

// table opens a table, read from the devices that are marked, else from all.
func (v *View) table() {
	tables := strings.Join(v.src.Tables, ", ")
	v.host.Type(screen.Line{Label: "read table", Hint: tables, Done: func(name string) error {
		if name == "" {
			return nil
		}
		if !slices.Contains(v.src.Tables, name) {
			return fmt.Errorf("there is no table %q; there are %s", name, tables)
		}
		if v.busy {
			return errors.New("devices are being reached: read them when that is over")
		}
		src, err := v.src.Table(name, v.markedNames())
		if err != nil {
			return err
		}
		v.host.Open(grid.New(src))
		return nil
	}})
}
