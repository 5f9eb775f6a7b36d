package runbook

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// deeds is a runbook of steps that are no lines.
const deeds = `runbook "x"
  window    now for 1h

scope
  role == "quay"

timer       10m

step "Counts"
  look in work
    | tell counts
  answers   "port*", "* frames" within 30s
  answers   not "Fault*"

step "Count anew"
  needs     "Counts"
  do
    | recount ports
  asked     "Count*" say "yes"
  answers   "Counted*"
  takes     at most 1m
  repeatable
  expect    clock.settled within 10s

step "Settle"
  wait      until clock.settled within 30s

step "Cable" by hand
  tell      "Put the cable of port <<gate_port>> in."
`

func TestStepsThatAreNoLines(t *testing.T) {
	rb, err := Parse("x.runbook", []byte(deeds))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(schema))
	look, do := rb.Steps[0].On[0], rb.Steps[1].On[0]
	assert.True(t, look.Looks())
	assert.Equal(t, "work", look.Mode)
	assert.Len(t, look.Deed.Answers, 2)
	assert.Len(t, look.Deed.Never, 1)
	assert.Equal(t, 30*time.Second, look.Deed.Within)
	assert.True(t, do.Does())
	assert.Equal(t, time.Minute, do.Deed.Takes)
	assert.True(t, do.Deed.Repeatable)
	assert.Len(t, do.Deed.Asked, 1)
	assert.Zero(t, do.Deed.Within)
	assert.Equal(t, 30*time.Second, rb.Steps[2].Wait.Most)
	assert.True(t, rb.Steps[3].Hand)
	for i, touches := range []bool{false, true, false, false} {
		assert.Equal(t, touches, rb.Steps[i].Touches(), rb.Steps[i].Title)
	}
}

// What a step that is no line cannot be is told, with what to write.
func TestMistakesInStepsThatAreNoLines(t *testing.T) {
	for name, c := range map[string]struct{ step, want string }{
		"a look that asks":          {"look\n    | a\n  asked \"x\" say \"y\"", "what changes nothing asks nothing; write: do"},
		"a look that takes":         {"look\n    | a\n  takes at most 1m", `stands behind what it answers; write: answers "4 of 4*" within 30s`},
		"a look that is repeated":   {"look\n    | a\n  repeatable", "which may always be done twice"},
		"a look until tomorrow":     {"look\n    | a\n  answers \"b\" within 3h", "a step may wait an hour at most"},
		"a look that is undone":     {"look\n    | a\n  undo\n    | b", "what is looked at needs none"},
		"a look that is there":      {"already when config has \"a\"\n  look\n    | a", "it is never there already"},
		"a deed that is repeated":   {"do\n    | a\n  answers \"b\" within 30s", "does something once: it is not given again until it answers so"},
		"a deed that is undone":     {"do\n    | a\n  undo\n    | b", "what is done cannot be undone"},
		"a deed of two hours":       {"do\n    | a\n  takes at most 2h", "a command may take an hour at most"},
		"both":                      {"look\n    | a\n  do\n    | b", "a step is of one kind"},
		"lines beside it":           {"do\n    | a\n  want\n    | b", "a step is of one kind"},
		"judged, and nothing":       {"send\n    | a\n  undo\n    | b\n  answers \"c\"", "says how a command is judged, and does nothing"},
		"anything answers":          {"look\n    | a\n  answers \" * \"", "fits anything, so it tells nothing"},
		"no pattern":                {"look\n    | a\n  answers", "expected a pattern of what comes back in quotes"},
		"a comma too few":           {"look\n    | a\n  answers \"b\" \"c\"", `expected ","`},
		"within nothing":            {"look\n    | a\n  answers \"b\" within", "is not a length of time"},
		"within, and more":          {"look\n    | a\n  answers \"b\" within 3s or so", `"or" cannot stand here`},
		"wait and more":             {"wait 3s\n  save", "is of several kinds"},
		"wait and lines":            {"wait 3s\n  want\n    | a", "a step of its own for the lines"},
		"a long wait":               {"wait 3h", "a step may wait an hour at most"},
		"told, and not by hand":     {"tell \"go\"\n  want\n    | a", "what a person is told stands in a step by hand"},
		"saves and has lines":       {"save\n  want\n    | a", "a step of its own for the lines"},
		"a restart and a deed":      {"restart\n  do\n    | a", "a step is of one kind"},
		"a restart that is undone":  {"restart\n  undo\n    | a", "cannot be undone"},
		"a restart for each":        {"for n in 1..3\n  restart", "once is enough"},
		"a restart that is there":   {"already when config has \"a\"\n  restart", "it is never there already"},
		"a restart that is judged":  {"restart\n  answers \"b\"", "what its device answers to that stands in its profile"},
		"a restart of two hours":    {"restart\n  back within 2h", "a step may wait an hour at most"},
		"back from nothing":         {"back within 2m\n  expect clock.settled within 3s", "restarts none; write: restart"},
		"back by no time":           {"restart\n  back within", "is not a length of time"},
		"no command":                {"do", "no lines under do"},
		"follows what is not there": {"follows \"y\"\n  do\n    | a", `no step before this one is called "y"`},
	} {
		src := "runbook \"x\"\n  window none\n\nscope\n  role == \"quay\"\n\ntimer 10m\n\nstep \"s\"\n  " + c.step + "\n"
		rb, err := Parse("x.runbook", []byte(src))
		if err == nil {
			err = rb.Compile(schema)
		}
		assert.ErrorContains(t, err, c.want, name)
	}
	_, err := Parse("x.runbook", []byte("runbook \"x\"\n  window none\n\nscope\n  role == \"quay\"\n\nstep \"s\" by hand\n  expect clock.settled within 3s\n"))
	assert.ErrorContains(t, err, "nothing says what is to be done")
}
