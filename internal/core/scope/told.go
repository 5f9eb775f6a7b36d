package scope

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/runbook"
)

// Looks is what a scope goes by of what devices told when they were last read, a table each. It
// is told with the scope: what has changed since, it cannot know.
type Looks []Look

// Look is a table that a scope looks at.
type Look struct {
	Table string
	// Read is how many devices had told it, and Not how many had not.
	Read, Not int
	// Oldest is the oldest of the readings, with its device, and Newest the newest.
	Oldest, Newest time.Time
	Of             string

	counted map[string]bool // devices: a scope may have several conditions over one table
}

// Add gives an environment what a condition looks at of what its device told last, and takes
// note of it.
func (l *Looks) Add(d fleet.Device, cond *runbook.Cond, env runbook.Env, told runbook.Teller) runbook.Env {
	if len(cond.Told()) == 0 {
		return env
	}
	var all []runbook.Told
	for _, table := range cond.Told() {
		t := runbook.Told{Table: table, Not: table + " was never read of it"}
		if told != nil {
			t = told(d.Name, d.Platform, table)
		}
		all = append(all, t)
		look := Look{Table: table, Not: 1, counted: map[string]bool{d.Name: true}}
		if t.Not == "" {
			look.Read, look.Not, look.Oldest, look.Newest, look.Of = 1, 0, t.At, t.At, d.Name
		}
		if i := l.of(table); i < 0 || !(*l)[i].counted[d.Name] {
			*l = l.Join(Looks{look})
		}
	}
	return env.WithTold(all...)
}

func (l Looks) of(table string) int {
	return slices.IndexFunc(l, func(x Look) bool { return x.Table == table })
}

// Join puts together what was looked at of some devices, and of others.
func (l Looks) Join(more Looks) Looks {
	for _, m := range more {
		i := l.of(m.Table)
		if i < 0 {
			l = append(l, m)
			continue
		}
		have := &l[i]
		if m.Read > 0 && (have.Read == 0 || m.Oldest.Before(have.Oldest)) {
			have.Oldest, have.Of = m.Oldest, m.Of
		}
		if m.Read > 0 && m.Newest.After(have.Newest) {
			have.Newest = m.Newest
		}
		have.Read += m.Read
		have.Not += m.Not
		maps.Copy(have.counted, m.counted)
	}
	return l
}

// Says says it in a sentence for each table: "version is as it was read between Sat 28 Nov 02:11
// (ald-gate-3) and Mon 30 Nov 18:02; 4 devices never told it".
func (l Looks) Says() (out []string) {
	for _, x := range l {
		var parts []string
		switch at := when(x.Oldest); {
		case x.Read == 0:
		case at == when(x.Newest):
			parts = append(parts, fmt.Sprintf("%s is as it was read at %s", x.Table, at))
		default:
			parts = append(parts, fmt.Sprintf("%s is as it was read between %s (%s) and %s", x.Table, at, x.Of, when(x.Newest)))
		}
		if x.Not > 0 {
			parts = append(parts, fmt.Sprintf("%s of %d devices is not known", x.Table, x.Not))
		}
		out = append(out, strings.Join(parts, "; ")+"; metabasis read "+x.Table+" reads it anew")
	}
	return out
}

// when is a time to the minute, on this machine's clock.
func when(t time.Time) string { return t.Local().Format("Mon 2 Jan 2006 15:04") }
