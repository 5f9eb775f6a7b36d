package runbook

import (
	"strings"
	"testing"

	"metabasis/internal/core/kind"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func sameBook(cond string) string {
	return head + "step \"S\"\n  send\n    | port 7\n  undo\n    | port 7\n  expect    " + cond + " within 5s\n"
}

// What was before is held against what is: rows in any order, without columns that do not
// count; and the reason says which rows are gone and which are new.
func TestSameAsBefore(t *testing.T) {
	before := []map[string]any{{"port": 1.0, "name": "ald-quay-1"}, {"port": 2.0, "name": "ald-quay-2"}}
	for _, c := range []struct {
		cond string
		now  []map[string]any
		why  string
	}{
		{"same(neighbours)", []map[string]any{before[1], before[0]}, ""},
		{"same(neighbours)", before[:1], "neighbours is not as before; gone: name ald-quay-2, port 2"},
		{"same(neighbours, except: [name])", []map[string]any{before[0], {"port": 2.0, "name": "brm"}}, ""},
		{"len(neighbours) == 2 and same( neighbours , except: [ name ] )", []map[string]any{before[0], {"port": 3.0}}, "neighbours is not as before; gone: port 2; new: port 3"},
	} {
		rb, err := compiled(t, sameBook(c.cond))
		require.NoError(t, err, c.cond)
		cond := rb.Steps[0].Expect[0].Cond
		assert.Equal(t, []string{"neighbours"}, cond.Names())
		env := Env{"neighbours": c.now}.WithBefore(func(s Same, now any) string { return Unlike(s.Table, before, now, s.Except) })
		ok, err := cond.Eval(env)
		require.NoError(t, err)
		assert.Equal(t, c.why == "", ok, c.cond)
		assert.Equal(t, c.why, cond.Explain(env))
	}
}

func TestSameThatCannotBe(t *testing.T) {
	for cond, want := range map[string]string{
		"same(neighbors)":                 `nothing is called "neighbors"`,
		"same(neighbours, except: [prt])": `the table neighbours has no column "prt"; write: port`,
	} {
		_, err := compiled(t, sameBook(cond))
		assert.ErrorContains(t, err, want)
	}
	_, err := compiled(t, strings.Replace(sameBook("clock.settled"), "  send\n", "  already   when same(neighbours)\n  send\n", 1))
	assert.ErrorContains(t, err, "it can be expected, nothing else")
	rb, err := compiled(t, sameBook(`config has "same(neighbours)"`))
	require.NoError(t, err)
	assert.Empty(t, rb.Steps[0].Expect[0].Cond.Sames(), "a text is a text")
}

func TestPrefixesAndSwitches(t *testing.T) {
	for _, c := range []struct {
		kind        kind.Type
		good, wrong string
		why         string
	}{
		{kind.Prefix, "192.0.2.0/24", "192.0.2.1/24", "an address within the range 192.0.2.0/24"},
		{kind.Prefix, "2001:db8::/32", "192.0.2.1", "is not a range of addresses"},
		{kind.Switch, "yes", "true", "neither yes nor no"},
	} {
		a := Ask{Name: "v", Kind: kind.Kind{Type: c.kind}}
		assert.NoError(t, a.Check(c.good))
		assert.ErrorContains(t, a.Check(c.wrong), c.why)
		assert.NoError(t, a.Check(a.Sample()))
	}
	text := strings.Replace(sameBook("clock.settled"), "scope\n", "ask\n  shut  switch  \"Shut them?\"  = no\n\nscope\n", 1)
	text = strings.Replace(text, "step \"S\"\n", "step \"S\"\n  when      not shut\n", 1)
	text = strings.Replace(text, "    | port 7\n  undo", "    | port 7 shut <<shut>>\n  undo", 1)
	rb, err := compiled(t, text)
	require.NoError(t, err)
	for answer, want := range map[string]bool{"yes": false, "no": true} {
		env := rb.DeviceEnv(nil, map[string]string{"shut": answer})
		ok, err := rb.Steps[0].When.Eval(env)
		require.NoError(t, err)
		assert.Equal(t, want, ok)
		line, err := rb.Steps[0].On[0].Send[0].Render(env)
		require.NoError(t, err)
		assert.Equal(t, "port 7 shut "+answer, line)
	}
}

// What a device prints as a large number is not sent with an exponent.
func TestNumbersInLines(t *testing.T) {
	assert.Equal(t, "12345678", inLine(12345678.0))
	assert.Equal(t, "0.5", inLine(0.5))
}
