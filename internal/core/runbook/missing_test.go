package runbook

import (
	"testing"

	"metabasis/internal/core/kind"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var told = Schema{Tables: map[string]Table{
	"routes": {Many: true, Columns: map[string]ColumnType{"prefix": TextColumn, "preference": NumberColumn, "best": YesNoColumn}},
	"clock":  {Columns: map[string]ColumnType{"offset": NumberColumn, "source": TextColumn}},
}}

// A number that the fleet does not say of a device is missing, not 0; in a line it is
// as a text that is empty.
func TestNumbersOfTheFleet(t *testing.T) {
	s := Schema{Fields: []kind.Column{{Name: "lan", Kind: kind.Kind{Type: kind.Number}}, {Name: "note"}}}
	env := func(lan any) Env { return Env{"lan": lan, "note": ""} }
	for _, c := range []struct {
		source string
		lan    any
		want   bool
		err    string
	}{
		{"lan == 20", 20, true, ""},
		{"lan + 1 > 20 and lan in 5..30", 20, true, ""},
		{"lan < 20", nil, false, `condition "lan < 20" cannot be told: lan is missing in the fleet`},
		{"not (lan == 20)", nil, false, "missing in the fleet"},
		{"missing(lan)", nil, true, ""},
		{"not missing(lan) and lan == 20", 20, true, ""},
		{`note == ""`, nil, true, ""},
	} {
		cond, err := ParseScope("the scope", c.source, s)
		require.NoError(t, err, c.source)
		got, err := cond.Eval(env(c.lan))
		if c.err != "" {
			assert.ErrorContains(t, err, c.err)
			continue
		}
		require.NoError(t, err, c.source)
		assert.Equal(t, c.want, got, c.source)
	}
	for source, want := range map[string]string{
		`lan == "20"`:             "the column lan are whole numbers; write: lan == 20",
		`lan != "" and note == 3`: "whole numbers",
		`lan == ""`:               "write: missing(lan)",
		`note == 3`:               `the column note holds text: not all that stands in it are whole numbers; write: note == "3"`,
	} {
		_, err := ParseScope("the scope", source, s)
		assert.ErrorContains(t, err, want, source)
	}
	rb, err := Parse("x.runbook", []byte(head+"step \"x\"\n  send\n    | port <<lan>>, then <<lan + 1>>\n  undo\n    | y\n"))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(s))
	line, err := rb.Steps[0].On[0].Send[0].Render(env(7))
	require.NoError(t, err)
	assert.Equal(t, "port 7, then 8", line)
	_, err = rb.Steps[0].On[0].Send[0].Render(env(nil))
	assert.ErrorContains(t, err, "value lan is empty")
}

// condOf compiles a precheck of the test's own.
func condOf(t *testing.T, source string) *Cond {
	t.Helper()
	rb, err := Parse("x.runbook", []byte("runbook \"x\"\n  window    01:00 for 1h\n\nscope\n  name == \"a\"\n\nprecheck\n  check     \"x\" where "+source+"\n\ntimer       10m\n\nstep \"x\"\n  send\n    | x\n  undo\n    | y\n"))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(told), source)
	return rb.Prechecks[0].Where
}

// A condition over a value that the device did not tell is neither true nor
// false, unless the rest of it decides already.
func TestWhatIsMissingIsNeitherTrueNorFalse(t *testing.T) {
	env := Env{
		"clock": map[string]any{"offset": nil, "source": "192.0.2.9"},
		"routes": []map[string]any{
			{"prefix": "192.0.2.0/24", "preference": nil, "best": true},
			{"prefix": "198.51.100.0/24", "preference": 100.0, "best": false},
		},
	}
	for source, want := range map[string]any{
		`clock.offset < 1`:  "offset",
		`clock.offset == 0`: "offset",
		`clock.source == "192.0.2.9" and clock.offset >= 0`:    "offset",
		`clock.source == "192.0.2.9" or clock.offset >= 0`:     true,
		`not (clock.offset < 1)`:                               "offset",
		`all(routes, .preference >= 0)`:                        "preference",
		`any(routes, .preference == 0)`:                        "preference",
		`all(routes, .best or .preference == 100)`:             true,
		`missing(clock.offset)`:                                true,
		`missing(clock.source)`:                                false,
		`all(routes, missing(.preference) or .preference > 9)`: true,
		`len(routes) == 2`:                                     true,
	} {
		c := condOf(t, source)
		got, err := c.Eval(env)
		if column, missing := want.(string); missing {
			var e *NotKnown
			require.ErrorAs(t, err, &e, source)
			assert.Equal(t, column, e.Column, source)
			assert.Contains(t, c.Explain(env), column+" is missing", source)
			continue
		}
		require.NoError(t, err, source)
		assert.Equal(t, want, got, source)
	}
}

func TestAnglesThatAreMeant(t *testing.T) {
	rb, err := Parse("x.runbook", []byte("runbook \"x\"\n  window    01:00 for 1h\n\nscope\n  name == \"a\"\n\ntimer       10m\n\nstep \"x\"\n  already   when config has \"cat \\<<END <<name>>\"\n  send\n    | cat > /etc/<<name>> \\<<'END'\n    | \\<<\n  undo\n    | x\n"))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(told))
	env := Env{"name": "a", "config": nil}
	got, err := rb.Steps[0].On[0].Send[0].Render(env)
	require.NoError(t, err)
	assert.Equal(t, "cat > /etc/a <<'END'", got)
	got, err = rb.Steps[0].On[0].Send[1].Render(env)
	require.NoError(t, err)
	assert.Equal(t, "<<", got)
	assert.Equal(t, []string{"cat <<END a"}, rb.Steps[0].Already.Asks(env))
	_, err = rb.Steps[0].On[0].Send[0].Render(Env{"name": "<<x>>"})
	assert.ErrorContains(t, err, "not filled in")
}
