package report

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/work"
	"metabasis/internal/store"
)

const documented = `runbook "Gates | and *clocks*"
  change    MSF-2291
  window    01:30 for 2h
  reserve   20m

ask
  key       secret  "Key"
  log_host  address  "Log host"

scope
  role == "quay"

batches
  sizes     1
  stop      after 2 failures

precheck
  clock     within 30s

timer       5m

step "Log host"
  send
    | log host <<log_host>> key <<key>>
  undo
    | drop log host <<log_host>>
`

func documentPlan(t *testing.T) *plan.Plan {
	t.Helper()
	traits := map[string]plan.Traits{"tern": {Timer: plan.RestartTimer, Saves: true, TellsSaved: true, Restores: true, Command: time.Second,
		Tables: map[string]runbook.Table{"clock": {Columns: map[string]runbook.ColumnType{"time": runbook.TimeColumn}}}}}
	f, err := fleet.Read("fleet.csv", []byte("name,address,platform,site,role\na,192.0.2.1,tern,ALD,quay\nb,192.0.2.2,tern,ALD,quay\nc,192.0.2.3,tern,ALD,quay\nd,192.0.2.4,tern,ALD,desk\n"), []string{"tern"})
	require.NoError(t, err)
	rb, err := runbook.Parse("x.runbook", []byte(documented))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(plan.Schema(traits, f)))
	p, err := plan.Make(rb, f, map[string]string{"log_host": "192.0.2.40", "key": "gull-wing-77"}, traits, time.Date(2026, 12, 1, 20, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	return p
}

func documentRehearsal() *store.Rehearsal {
	r := &store.Rehearsal{Ended: time.Date(2026, 12, 1, 21, 0, 0, 0, time.UTC), By: "ada", Title: "x", Values: []plan.Value{{Name: "log_host", Value: "192.0.2.40"}}}
	for _, d := range []string{"a", "b", "c"} {
		f := work.Rehearsed{Device: d, Batch: 1, Differs: []string{"+ log host 192.0.2.40"}, Steps: []work.RehearsedStep{{Title: "Log host", Send: []string{"log host 192.0.2.40 key ▒▒▒▒"}, Undo: []string{"drop log host 192.0.2.40"}}},
			Checks: []night.Check{{Name: "clock", OK: true, Note: "off by 1s"}}}
		if d == "b" {
			f.Differs, f.Path = append(f.Differs, "- manage from any"), []string{"manage from any"}
		}
		if d == "c" {
			f.Blocked, f.Checks[0].OK, f.Steps[0].Done = "clock: its clock is off by 4m", false, true
		}
		r.Devices = append(r.Devices, f)
	}
	return r
}

// The document says all that an approval rests on: when, where, which lines, which device
// is unlike the others, how it is taken back; and nothing that is secret.
func TestDocument(t *testing.T) {
	p := documentPlan(t)
	text := strings.Join(Document(p, documentRehearsal(), 3).Markdown(), "\n")
	for _, want := range []string{
		`# Gates \| and \*clocks\*`, "| Change | MSF-2291 |", "3 earlier nights", "| Log host | log\\_host = 192.0.2.40 |",
		"| 1 | 1 | 01:30:00 |", "- stop after 2 failures", "| 1 | a | ALD | quay | tern | as the fleet lists it | 1 line will differ |",
		"would be blocked: clock: its clock is off by 4m", "- d, because role is desk, wanted quay", "- the precheck clock within 30s must hold",
		"### 1 device\n\na\n", "    | log host 192.0.2.40 key ▒▒▒▒", "on the way by which it is managed: manage from any",
		"- lines touch the way by which the device is managed, on b", "After 2 failures no further device is begun",
	} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "gull-wing-77")
	none := strings.Join(Document(p, nil, 0).Markdown(), "\n")
	assert.Contains(t, none, "not yet: the lines for each device are not known")
	assert.Contains(t, none, "### 3 devices")
	assert.Contains(t, none, "no earlier night has shown how long things take")
	assert.NotContains(t, none, "gull-wing-77")
}

// A rehearsal is told with devices alike together, those unlike the others first.
func TestRehearsalInWords(t *testing.T) {
	r := documentRehearsal()
	lines := Rehearsal(r)
	text := strings.Join(lines, "\n")
	assert.Contains(t, lines[0], "Nothing was changed.")
	assert.Equal(t, "3 devices: 2 ready, 1 would be blocked", lines[1])
	for _, want := range []string{"1 device: b\n  + log host 192.0.2.40\n  - manage from any\n  on the way by which it is managed: manage from any", "1 device: c\n  would be blocked: clock: its clock is off by 4m\n  + log host"} {
		assert.Contains(t, text, want)
	}
	device := strings.Join(RehearsedLines(r.Of("c")), "\n")
	assert.Contains(t, device, "precheck clock does not hold: off by 1s")
	assert.Contains(t, device, "already so: nothing is sent")
	assert.Nil(t, r.Of("nobody"))
	plain := strings.Join(Plan(documentPlan(t), 0), "\n")
	assert.Contains(t, plain, "Batch 1 of 3, 1 device: 01:30:00 to")
	assert.Contains(t, plain, "must start by")
	assert.Equal(t, "over 99 %", Chance(1))
	assert.Equal(t, "under 1 %", Chance(0))
	assert.Equal(t, "42 %", Chance(0.42))
	assert.Equal(t, 3, len(PlanOf(documentPlan(t)).Devices))
}

// Of a large fleet those unlike the others are named, and the rest is told by that.
func TestRehearsalOfManyDevices(t *testing.T) {
	r := documentRehearsal()
	a := r.Devices[0]
	many := func(n int) (out []work.Rehearsed) {
		for i := range n {
			one := a
			one.Device = fmt.Sprintf("q%d", i)
			out = append(out, one)
		}
		return out
	}
	r.Devices = many(24)
	assert.Contains(t, strings.Join(Rehearsal(r), "\n"), "24 devices: q0, q1, ")
	r.Devices = many(600)
	assert.Contains(t, strings.Join(Rehearsal(r), "\n"), "\nall 600 devices\n")
	r.Devices = append(r.Devices, documentRehearsal().Devices[1:]...)
	text := strings.Join(Rehearsal(r), "\n")
	assert.Contains(t, text, "1 device: b\n")
	assert.Contains(t, text, "\nthe other 600 devices\n")
}
