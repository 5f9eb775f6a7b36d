package report

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/work"
)

// A night that was cut off is told device by device, those together of which the same is to be told,
// and what is proposed follows from what was read.
func TestANightThatWasCutOffIsTold(t *testing.T) {
	at := time.Now()
	o := &night.Outline{Title: "Quays", Window: plan.Window{Open: at.Add(-time.Hour), Close: at.Add(-time.Minute)},
		Batches: [][]night.OutlineDevice{{{Name: "a", Steps: []string{"x"}}, {Name: "b", Steps: []string{"x"}}, {Name: "c", Steps: []string{"x"}}, {Name: "d", Steps: []string{"x"}}}}}
	n := night.Fold(night.Night{}, night.Event{Kind: night.Planned, At: at, Outline: o},
		night.Event{Kind: night.Intent, At: at, Device: "a", What: night.ToArm, For: time.Minute},
		night.Event{Kind: night.Intent, At: at, Device: "b", What: night.ToArm, For: time.Minute})
	for _, name := range []string{"a", "b"} {
		n = night.Fold(n, night.Event{Kind: night.Moved, At: at, Device: name, State: night.Changing})
	}
	same := work.Looked{Runs: work.InPart, Saved: work.AsBefore, Lines: []string{"+ x"}, Timer: "restarts at 01:30:00", Ours: true}
	a, b := same, same
	a.Device, b.Device = "a", "b"
	text := strings.Join(CutOff(&n, []work.Looked{a, b, {Device: "c", Unreached: "no answer"}}), "\n")
	assert.Contains(t, text, "it can be taken back, and not gone on with")
	assert.NotContains(t, text, "--go-on")
	assert.Contains(t, text, CutOffMark+"a, b: 2 devices\n")
	assert.Contains(t, text, "what runs is part of the change; what is saved is as before the night; restarts at 01:30:00, by the timer of this night")
	assert.Contains(t, text, "not looked at: no answer")
	assert.Contains(t, LookedText(work.Looked{Runs: work.NotKnown, Saved: work.AsBefore, Lines: []string{"+ x"}}), "what runs is not as before;")
	assert.Contains(t, text, "2 devices had not been begun with")
	for want, l := range map[string]work.Looked{
		"look again once it answers":                        {Unreached: "no answer"},
		"a person: somebody was there":                      {Left: "somebody was there", Runs: work.Neither},
		"whether \"recount\" was done is not known":         {NotOn: "whether \"recount\" was done is not known", Runs: work.InPart},
		"wait until its own way back takes the change back": {Waits: true, Runs: work.AsPredicted},
		"begin with it anew; or leave it":                   {Runs: work.AsBefore},
		"begin with it anew, with its timer":                {Runs: work.AsBefore, Timer: "restarts"},
		"go on behind the restart; or leave it":             {Runs: work.AsBefore, Restarted: "27s"},
		"prove it; or take it back":                         {Runs: work.AsPredicted, Saved: work.AsPredicted},
		"prove it and save it; or take it back":             {Runs: work.AsPredicted, Saved: work.AsBefore},
		"go on with what is left to be sent; or take it":    {Runs: work.InPart},
	} {
		assert.Contains(t, Proposed(l, false), want)
		if l.Unreached == "" && l.Left == "" {
			assert.NotRegexp(t, "begin|prove|go on", Proposed(l, true), "its window is closed")
		}
	}
}
