package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"sync"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/runbook"
	"metabasis/internal/store"
)

// Told is what each device told of its tables when they were last read.
func (w *Workspace) Told() store.Told { return store.Told{Dir: filepath.Join(w.Dir, "told")} }

// Teller gives what devices told, to scopes that go by it: the truth of when it was read, of
// this device, as its profile reads it now.
func (w *Workspace) Teller() runbook.Teller {
	kept := w.Told()
	last := func(string) identity.Last { return identity.Last{} }
	if ids, err := w.Identities(); err == nil {
		last = ids.Last
	}
	traits := sync.OnceValue(w.Profiles.Traits)
	return func(device, platform, table string) runbook.Told {
		out := runbook.Told{Table: table}
		schema, reads := traits()[platform].Tables[table]
		if !reads {
			out.Not = fmt.Sprintf("the profile of %s reads no %s", platform, table)
			return out
		}
		told, err := kept.Get(device, table)
		other := identity.Differ(told.Who, last(device).Seen)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			out.Not = table + " was never read of it"
		case err != nil:
			out.Not = err.Error()
		case told.Platform != platform:
			out.Not = fmt.Sprintf("%s was read of it as %s, and it is %s now", table, told.Platform, platform)
		case other != "":
			out.Not = fmt.Sprintf("%s was read of another device of its name: %s", table, other)
		case schema.Many:
			out.At, out.Rows = told.At, told.Rows
		case len(told.Rows) == 1:
			out.At, out.Rows = told.At, told.Rows[0]
		default:
			out.Not = fmt.Sprintf("%s has one row, and %d were kept of it", table, len(told.Rows))
		}
		return out
	}
}
