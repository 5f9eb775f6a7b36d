package acts

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/person"
)

const askBook = `runbook "Ask first"
  window    now for 10m
  reserve   2m

ask
  collector  address  "The log collector"
  lan        number 2..4000  "The LAN" = 310
  key        secret   "The ferry's key"

scope
  role == "quay"

precheck
  clock     within 30s

timer       60s

step "Log collector"
  send
    | log host <<collector>>
    | login pilot secret <<key>>
  undo
    | drop log host <<collector>>
    | drop login pilot
`

// asked is a person who answers from a list, in order, and what they were asked.
type asked struct {
	answers []string
	forms   []person.Form
}

func (a *asked) Ask(_ context.Context, f person.Form) (out []string, err error) {
	a.forms = append(a.forms, f)
	for i, q := range f.Questions {
		if q.Text == "The same again" { // a new secret is typed twice
			out = append(out, out[i-1])
			continue
		}
		if len(a.answers) == 0 {
			return nil, person.ErrLeft
		}
		out = append(out, a.answers[0])
		a.answers = a.answers[1:]
	}
	return out, nil
}

func (a *asked) questions() (out []string) {
	for _, f := range a.forms {
		for _, q := range f.Questions {
			if q.Text != "The same again" {
				out = append(out, q.Text)
			}
		}
	}
	return out
}

func desk(t *testing.T, p person.Person) (*Desk, string) {
	t.Setenv("METABASIS_SSH_CONFIG", "none")
	t.Setenv("SSH_AUTH_SOCK", "")
	t.Setenv("HOME", t.TempDir())
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fleet.csv"), []byte("name,address,platform,site,role,login\nald-quay-1,192.0.2.1,tern,ALD,quay,crew\nald-quay-2,192.0.2.2,tern,ALD,quay,crew\n"), 0o600))
	book := filepath.Join(dir, "ask.runbook")
	require.NoError(t, os.WriteFile(book, []byte(askBook), 0o600))
	d, err := Open(dir, nil, p)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	return d, book
}

// What is not given is asked for, with the values that are the runbook's own beside it, then the secrets, each once; no
// secret is in the log.
func TestPlanningAsksForWhatIsMissing(t *testing.T) {
	who := &asked{answers: []string{"198.51.100.14", "310", "gull-w1ng", "harbour-lamp", "deep-fathom"}}
	d, book := desk(t, who)
	c, err := d.Change(book, "")
	require.NoError(t, err)
	n, err := c.Plan(t.Context(), Request{})
	require.NoError(t, err)
	assert.Equal(t, []string{"The log collector", "The LAN", "The ferry's key (key, hidden)", "operator of login crew", "password of login crew"}, sortedTail(who.questions()))
	assert.Contains(t, strings.Join(n.Lines("ald-quay-1"), "\n"), "| log host 198.51.100.14")
	assert.NotContains(t, strings.Join(n.Lines("ald-quay-1"), "\n"), "gull-w1ng")
	assert.Equal(t, []*Tonight{n}, d.Planned())

	d, book = desk(t, nil)
	c, err = d.Change(book, "")
	require.NoError(t, err)
	_, err = c.Plan(t.Context(), Request{})
	assert.ErrorContains(t, err, "give it with --answer collector=VALUE")
	_, err = c.Plan(t.Context(), Request{Answers: []string{"collector=198.51.100.14"}})
	assert.ErrorContains(t, err, "set METABASIS_ANSWER_KEY")
	_, err = c.Plan(t.Context(), Request{Answers: []string{"key=1"}})
	assert.ErrorContains(t, err, "it is a secret")
	_, err = c.Plan(t.Context(), Request{Answers: []string{"collector"}})
	assert.ErrorContains(t, err, "write NAME=VALUE")
	assert.Empty(t, d.Planned())

	d, book = desk(t, &asked{})
	c, err = d.Change(book, "")
	require.NoError(t, err)
	_, err = c.Plan(t.Context(), Request{})
	assert.ErrorIs(t, err, person.ErrLeft)
}

// sortedTail leaves the first two where they are: parts of a login are asked in the
// order of its profile.
func sortedTail(q []string) []string {
	if n := len(q); n > 1 && q[n-2] > q[n-1] {
		q[n-2], q[n-1] = q[n-1], q[n-2]
	}
	return q
}

// A waiver is asked for before the night, with its reason, and stands in the plan.
func TestAWaiverIsAskedFor(t *testing.T) {
	who := &asked{answers: []string{"198.51.100.14", "310", "gull-w1ng", "harbour-lamp", "deep-fathom"}}
	d, book := desk(t, who)
	c, err := d.Change(book, "")
	require.NoError(t, err)
	n, err := c.Plan(t.Context(), Request{})
	require.NoError(t, err)
	checks, what := n.Waivable()
	assert.Contains(t, checks, "clock")
	assert.NotContains(t, checks, "reachable", "a device that is not reached cannot be changed")
	assert.Equal(t, []string{"ald-quay-1", "ald-quay-2", "tern"}, what)
	who.answers = []string{"clock", "ald-quay-2", "its battery is dead: Friday"}
	require.NoError(t, n.Waive(t.Context()))
	planned := n.Planned()
	assert.Contains(t, planned.Outline.Warnings, "clock is waived on ald-quay-2: its battery is dead: Friday")
	form := who.forms[len(who.forms)-1]
	assert.Error(t, form.Questions[1].Refuses("ald-quay-9"))
	assert.Error(t, form.Questions[2].Refuses("  "))
	who.answers = []string{"saved", "tern", "because"}
	assert.ErrorContains(t, n.Waive(t.Context()), "cannot be waived", "what a law asks for stays")
	assert.ErrorIs(t, n.Waive(t.Context()), person.ErrLeft)
	assert.Len(t, n.Planned().Outline.Waivers, 1)
}

// Before the night its values can be given anew: those that it has stand there, secrets are
// not asked for again, waivers stay.
func TestValuesAreGivenAnew(t *testing.T) {
	who := &asked{answers: []string{"198.51.100.14", "310", "gull-w1ng", "harbour-lamp", "deep-fathom"}}
	d, book := desk(t, who)
	c, err := d.Change(book, "")
	require.NoError(t, err)
	n, err := c.Plan(t.Context(), Request{})
	require.NoError(t, err)
	who.answers = []string{"clock", "ald-quay-2", "its battery is dead: Friday"}
	require.NoError(t, n.Waive(t.Context()))

	who.answers = []string{"198.51.100.77", "311"}
	again, err := n.Replan(t.Context())
	require.NoError(t, err)
	form := who.forms[len(who.forms)-1]
	require.Len(t, form.Questions, 2)
	assert.Equal(t, []string{"198.51.100.14", "310"}, []string{form.Questions[0].Usual, form.Questions[1].Usual})
	assert.Contains(t, strings.Join(again.Lines("ald-quay-1"), "\n"), "| log host 198.51.100.77")
	assert.Contains(t, strings.Join(n.Lines("ald-quay-1"), "\n"), "| log host 198.51.100.14", "the night itself stays as it is")
	assert.Len(t, again.Planned().Outline.Waivers, 1)
	require.NoError(t, n.Close())

	who.answers = []string{"198.51.100.78", "312"}
	third, err := again.Replan(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "198.51.100.77", who.forms[len(who.forms)-1].Questions[0].Usual)
	assert.Len(t, third.Planned().Outline.Waivers, 1)
	_, err = third.Replan(t.Context())
	assert.ErrorIs(t, err, person.ErrLeft)
	third.request.Sealed = "plan.json"
	_, err = third.Replan(t.Context())
	assert.ErrorContains(t, err, "sealed in plan.json")
}
