package roster

import (
	"context"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/screen"
)

// What is marked is backed up, asked, recorded, and given a runbook; what came of it is shown.
func TestDoingWithWhatIsMarked(t *testing.T) {
	f := newFixture(t)
	var did []string
	note := func(what string) func(context.Context, []string, string) ([]string, error) {
		return func(_ context.Context, names []string, text string) ([]string, error) {
			did = append(did, what+" "+text+" "+strings.Join(names, ","))
			return []string{what + " came of it"}, nil
		}
	}
	f.v.src.Does = Doing{
		Backup: func(ctx context.Context, names []string) ([]string, error) { return note("backup")(ctx, names, "-") },
		Ask:    note("ask"),
		Record: func(context.Context, []string, string) ([]string, error) {
			return nil, errors.New("there is a record old already")
		},
		Runbooks: func(_ context.Context, names []string) (files, wrong []string) {
			return []string{"a.runbook", "b.runbook"}[:len(names)-1], wrong
		},
		Begin: func(_ *screen.Host, file string, names []string) {
			did = append(did, "begin "+file+" "+strings.Join(names, ","))
		},
	}
	assert.NotContains(t, f.Text(), "a runbook", "nothing is marked")
	f.Press("m", "m")
	shown := func(key ...string) string {
		f.Press(key...)
		for range 40 {
			f.Send(nil)
			if strings.Contains(f.Text(), "came of it") || strings.Contains(f.Text(), "already") {
				break
			}
		}
		s := f.Text()
		f.Press("esc")
		return s
	}
	assert.Contains(t, shown("u"), "backup came of it")
	assert.Contains(t, shown("Q", "tell clock", "enter"), "ask came of it")
	assert.Contains(t, shown("z", "old", "enter"), "there is a record old already")
	f.Press("B")
	assert.Equal(t, []string{"backup - quay-0,quay-1", "ask tell clock quay-0,quay-1", "begin a.runbook quay-0,quay-1"}, did)
	f.Press("x", "m", "B")
	assert.Contains(t, f.Text(), "no runbook here is for any of the 1 marked")
}
