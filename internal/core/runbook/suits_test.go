package runbook

import (
	"strings"
	"testing"

	"metabasis/internal/core/kind"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// head is the least that a runbook has before its steps.
const head = "runbook \"x\"\n  window    01:30 for 2h\n\nscope\n  true\n\ntimer       10m\n\n"

// twoPlatforms is a schema in which only tern reads neighbours, and only osier a
// clock's drift.
func twoPlatforms() Schema {
	s := schema
	s.Tables = map[string]Table{
		"clock":      {Columns: map[string]ColumnType{"source": TextColumn, "settled": YesNoColumn, "drift": NumberColumn}},
		"neighbours": schema.Tables["neighbours"],
	}
	s.Of = map[string]map[string]Table{
		"tern":  {"clock": {Columns: map[string]ColumnType{"source": TextColumn, "settled": YesNoColumn}}, "neighbours": schema.Tables["neighbours"]},
		"osier": {"clock": {Columns: map[string]ColumnType{"source": TextColumn, "drift": NumberColumn}}},
	}
	return s
}

func compiled(t *testing.T, src string) (*Runbook, error) {
	t.Helper()
	rb, err := Parse("x.runbook", []byte(src))
	if err != nil {
		return nil, err
	}
	return rb, rb.Compile(twoPlatforms())
}

// What a platform does not read is refused before the night, for the platforms a
// step names and for those in scope; what no device of it would look at is not.
func TestConditionsSuitThePlatforms(t *testing.T) {
	const lines = "    send\n      | a\n    undo\n      | b\n"
	for name, c := range map[string]struct{ step, named, inScope string }{
		"both read it":       {"step \"S\"\n  on osier\n" + lines + "  expect    clock.source == \"x\" within 5s\n", "", ""},
		"named, no table":    {"step \"S\"\n  on osier\n" + lines + "  expect    len(neighbours) > 1 within 5s\n", `the profile of osier reads no table "neighbours"`, `osier reads clock`},
		"named, no column":   {"step \"S\"\n  on osier\n" + lines + "  already   when clock.settled\n", "this can never be told on devices of platform osier", ""},
		"under on":           {"step \"S\"\n  on tern\n" + lines + "    expect    len(neighbours) > 1 within 5s\n  on osier\n" + lines + "    expect    clock.drift < 3 within 5s\n", "", ""},
		"under on, not it":   {"step \"S\"\n  on osier\n    already   when len(neighbours) > 1\n" + lines, `the profile of osier reads no table "neighbours"`, ""},
		"for all":            {"step \"S\"\n  send\n    | a\n  undo\n    | b\n  expect    len(neighbours) > 1 within 5s\n", "", `the profile of osier reads no table "neighbours"`},
		"not for it":         {"step \"S\"\n  on tern\n" + lines + "  expect    len(neighbours) > 1 within 5s\n", "", ""},
		"only expectations":  {"step \"S\"\n  expect    clock.drift < 3 within 5s\n", "", ""},
		"config is no table": {"step \"S\"\n  on osier\n" + lines + "  already   when config has \"a\"\n", "", ""},
	} {
		rb, err := compiled(t, head+c.step)
		if c.named != "" {
			assert.ErrorContains(t, err, c.named, name)
			assert.ErrorContains(t, err, "x.runbook:", name)
			assert.ErrorContains(t, err, c.inScope, name)
			continue
		}
		require.NoError(t, err, name)
		got := rb.Suits("osier", twoPlatforms(), nil).Err()
		if c.inScope == "" {
			assert.NoError(t, got, name)
		} else {
			assert.ErrorContains(t, got, c.inScope, name)
		}
		assert.NoError(t, rb.Suits("osier", twoPlatforms(), []int{}).Err(), "no step is for it: %s", name)
	}
	rb, err := compiled(t, strings.Replace(head, "timer", "precheck\n  check     \"Two\" where len(neighbours) > 1\n\ntimer", 1)+"step \"S\"\n  expect    clock.drift < 3 within 5s\n")
	require.NoError(t, err)
	assert.ErrorContains(t, rb.Suits("osier", twoPlatforms(), []int{}).Err(), `reads no table "neighbours"`, "a check of one's own")
	assert.ErrorContains(t, rb.Suits("tern", twoPlatforms(), nil).Err(), "this can never be told on devices of platform tern")
}

// Lists of a loop hold words, quoted texts and values; a bare name of something
// is most likely meant as its value.
func TestLoopsOverLists(t *testing.T) {
	book := func(list string) string {
		return strings.Replace(head, "scope\n", "ask\n  log_a     address  \"A\"\n  lan       number   \"B\"\n\nscope\n", 1) +
			"step \"S\"\n  for       h in " + list + "\n  send\n    | log host <<h>>\n  undo\n    | drop log host <<h>>\n"
	}
	for list, want := range map[string][]string{
		"red, green":                           {"red", "green"},
		`red, "pale blue"`:                     {"red", "pale blue"},
		`"a, b" , c`:                           {"a, b", "c"},
		"<<log_a>>, 192.0.2.9":                 {"192.0.2.40", "192.0.2.9"},
		`<<log_a>>, "<<lan>>.example"`:         {"192.0.2.40", "310.example"},
		"port-<<lan + 1>>":                     {"port-311"},
		`<< log_a >>`:                          {"192.0.2.40"},
		`"log_a"`:                              {"log_a"},
		`<<lan in [1, 310] ? "yes" : "no">>,x`: {"yes", "x"},
	} {
		rb, err := compiled(t, book(list))
		require.NoError(t, err, list)
		env := rb.DeviceEnv(map[string]any{"name": "a"}, map[string]string{"log_a": "192.0.2.40", "lan": "310"})
		values, err := rb.Steps[0].For.Values(env)
		require.NoError(t, err, list)
		var got []string
		for _, v := range values {
			got = append(got, v.(string))
		}
		assert.Equal(t, want, got, list)
		out, err := Format("x", []byte(book(list)))
		require.NoError(t, err)
		again, err := Parse("x", out)
		require.NoError(t, err)
		assert.Equal(t, sources(rb.Steps[0].For.List), sources(again.Steps[0].For.List), "%s", out)
	}
	for list, want := range map[string]string{
		"log_a":           `log_a is the name of a value; write: <<log_a>> for its value, or "log_a" for the word itself`,
		"red, site":       "site is the name of a value; write: <<site>>",
		"red, neighbours": "neighbours is a table or a list: a loop goes through it",
		"<<neighbours>>":  "neighbours is read from the device and is not known yet",
		"<<log_b>>":       `nothing is called "log_b" here; write: log_a`,
		"<<log_a":         "these angles are not closed",
		"<<>>":            "there is no value between these angles",
		"a, , b":          "expected a word",
		"a,":              "expected a word",
		"":                "expected a word",
		"a b":             "two words without a comma",
		`"a" b`:           `"b" cannot stand here`,
		"lan..<<lan+2>>":  "is neither a number nor a value",
	} {
		_, err := compiled(t, book(list))
		assert.ErrorContains(t, err, want, list)
	}
	rb, err := compiled(t, book("<<log_a>>"))
	require.NoError(t, err)
	_, err = rb.Steps[0].For.Values(Env{"log_a": ""})
	assert.ErrorContains(t, err, "value log_a is empty")
	_, err = compiled(t, book(strings.Repeat("x, ", maxLoop)+"y"))
	assert.ErrorContains(t, err, "a list of more than 512")
}

// The variable of a range is a number, that of a list is a text.
func TestLoopVariablesHaveTypes(t *testing.T) {
	step := func(loop, cond string) error {
		_, err := compiled(t, head+"step \"S\"\n  for       n in "+loop+"\n  send\n    | port <<n>>\n  undo\n    | drop port <<n>>\n  expect    "+cond+" within 5s\n")
		return err
	}
	assert.NoError(t, step("7..9", "any(neighbours, .port == n)"))
	assert.NoError(t, step("a, b", "any(neighbours, .name == n)"))
	assert.ErrorContains(t, step("7..9", "any(neighbours, .name == n)"), "a number is held against a text")
	assert.ErrorContains(t, step("a, b", "any(neighbours, .port == n)"), "a number is held against a text")
}

func TestTimersOfSome(t *testing.T) {
	steps := "step \"S\"\n  send\n    | x\n  undo\n    | y\n"
	rb, err := compiled(t, strings.Replace(head, "timer       10m\n", "timer       10m\ntimer       none on osier\n", 1)+steps)
	require.NoError(t, err)
	assert.True(t, rb.Timer.NoneFor("osier"))
	assert.False(t, rb.Timer.NoneFor("tern"))
	assert.False(t, rb.Timer.None)
	rb, err = compiled(t, strings.Replace(head, "timer       10m\n", "timer       none\n", 1)+steps)
	require.NoError(t, err)
	assert.True(t, rb.Timer.NoneFor("tern"))
	for lines, want := range map[string]string{
		"timer       none on osier\n":                           "the runbook arms no rollback timer",
		"timer       10m\ntimer       5m\n":                     "timer stands already on line 7",
		"timer       10m\ntimer       none on rook\n":           `no profile for platform "rook"`,
		"timer       10m\ntimer       none on\n":                "expected a word",
		"timer       10m\ntimer       none on osier for ever\n": `"for" cannot stand here`,
	} {
		_, err := compiled(t, strings.Replace(head, "timer       10m\n", lines, 1)+steps)
		assert.ErrorContains(t, err, want, lines)
	}
}

func TestNeedsStopAndSecrets(t *testing.T) {
	const a, b = "step \"Gate LAN\"\n  expect    clock.source == \"x\" within 5s\n\n", "step \"Ports\"\n  expect    clock.source == \"x\" within 5s\n"
	rb, err := compiled(t, head+a+strings.Replace(b, "\n", "\n  needs     \"Gate LAN\"\n", 1))
	require.NoError(t, err)
	assert.Equal(t, []string{"Gate LAN"}, rb.Steps[1].Needs)
	assert.Equal(t, UsualStop, rb.Batches.StopAfter)
	assert.False(t, rb.Batches.StopGiven)
	for line, want := range map[string]string{
		`needs     "Gate LNA"`: `no step before this one is called "Gate LNA"; write: "Gate LAN"`,
		`needs     "Ports"`:    `no step before this one is called "Ports"`,
		`needs     Gate`:       "expected the title of an earlier step in quotes",
		`needs`:                "expected the title",
	} {
		_, err := compiled(t, head+a+strings.Replace(b, "\n", "\n  "+line+"\n", 1))
		assert.ErrorContains(t, err, want, line)
	}
	rb, err = compiled(t, strings.Replace(head, "timer", "batches\n  stop      never\n\ntimer", 1)+a)
	require.NoError(t, err)
	assert.Equal(t, 0, rb.Batches.StopAfter)
	assert.True(t, rb.Batches.StopGiven)
	_, err = compiled(t, strings.Replace(head, "timer", "batches\n  stop      never ever\n\ntimer", 1)+a)
	assert.ErrorContains(t, err, `"ever" cannot stand here`)

	ask := func(line string) error {
		_, err := compiled(t, strings.Replace(head, "scope\n", "ask\n  "+line+"\n\nscope\n", 1)+a)
		return err
	}
	assert.NoError(t, ask(`key  secret  "The key"`))
	assert.ErrorContains(t, ask(`key  secret  "The key" = gull-wing`), "a secret has no answer to take when none is given")
	key := Ask{Name: "key", Kind: kind.Kind{Type: kind.Secret}}
	assert.NoError(t, key.Check("gull"))
	for _, bad := range []string{"", "abc", "gull\nwing"} {
		err := key.Check(bad)
		require.Error(t, err)
		if bad != "" {
			assert.NotContains(t, err.Error(), bad, "a secret is not said back")
		}
	}
}

// Steps that hold conditions of their own for some platforms.
func TestOnWithConditions(t *testing.T) {
	for body, want := range map[string]string{
		"  on tern\n    expect    clock.settled within 5s\n":                           "",
		"  on tern\n    already   when clock.settled\n":                                "says when its lines are there already, but has none to send",
		"  on tern\n    already   when clock.settled\n    undo\n      | a\n":           "has lines to undo but none to send",
		"  on tern\n    expect    clock.setled within 5s\n":                            `no column "setled"`,
		"  on tern\n    expect    clock.settled within 2h\n":                           "an expectation may wait an hour at most",
		"  on tern\n    already   clock.settled\n    send\n      | a\n":                `expected "when"`,
		"  on tern\n  expect    clock.settled within 5s\n":                             `step "S" does nothing on tern`,
		"  already   when config has \"a <<name\"\n  send\n    | a\n  undo\n    | b\n": "these angles are not closed",
	} {
		_, err := compiled(t, head+"step \"S\"\n"+body)
		if want == "" {
			assert.NoError(t, err, body)
			continue
		}
		assert.ErrorContains(t, err, want, body)
	}
}

func TestAnEmptyScopeIsSaid(t *testing.T) {
	_, err := ParseScope("the scope", "  ", Schema{Fields: []kind.Column{{Name: "site"}}})
	assert.ErrorContains(t, err, "the scope is empty")
}

// What cannot be parsed is not formatted: nothing of it could be lost.
func TestWhatCannotBeParsedIsNotFormatted(t *testing.T) {
	out, err := Format("x.runbook", []byte("runbook \"x\"\n  window  half past one\n"))
	assert.ErrorContains(t, err, "x.runbook:2")
	assert.Nil(t, out)
}

func TestWhatIsInQuotesStaysAsItIs(t *testing.T) {
	const src = "runbook \"x ,  y\"\n  change    \"MSF \\\"a ,  b\\\" ,  2291\"\n  window    01:30 for 1h\n\nask\n  lan       text  \"LAN ,  new  \\\"one\\\" , two\" = \"7 ,  8\"\n\nscope\n  site in [ \"A ,  B\" ,   \"C  ,D\" ]\n\ntimer       10m\n\nstep \"Lans ,  all\"\n  send\n    | lan\n  undo\n    | drop lan\n"
	out, err := Format("x.runbook", []byte(src))
	require.NoError(t, err)
	for _, quoted := range []string{`"x ,  y"`, `"MSF \"a ,  b\" ,  2291"`, `"LAN ,  new  \"one\" , two"`, `"7 ,  8"`, `"A ,  B"`, `"C  ,D"`, `"Lans ,  all"`} {
		assert.Contains(t, string(out), quoted)
	}
}

func TestRangesAndPlatformsThatMakeNoSense(t *testing.T) {
	for text, want := range map[string]string{
		"  for n in 0..x\n  send\n    | lan <<n>>\n  undo\n    | drop lan <<n>>\n":                                                         "is not a range from a lower to a higher number",
		"  for n in x..5\n  send\n    | lan <<n>>\n  undo\n    | drop lan <<n>>\n":                                                         "is not a range from a lower to a higher number",
		"  for n in 5..4\n  send\n    | lan <<n>>\n  undo\n    | drop lan <<n>>\n":                                                         "is not a range from a lower to a higher number",
		"  send\n    | lan\n  undo\n    | drop lan\n  on tern\n    send\n      | hello\n    undo\n      | drop hello\n":                    "has lines for every platform and lines for some",
		"  on tern\n    send\n      | lan\n    undo\n      | drop lan\n  on tern\n    send\n      | hello\n    undo\n      | drop hello\n": "speaks twice of platform tern",
	} {
		_, err := Parse("x.runbook", []byte("runbook \"x\"\n  window    01:30 for 1h\nscope\n  site == \"ALD\"\ntimer       10m\nstep \"Lans\"\n"+text))
		assert.ErrorContains(t, err, want, text)
	}
}

// A key that is as wide as its column, or wider, still has a space behind it.
func TestWideKeysKeepTheirSpace(t *testing.T) {
	const src = "runbook \"x\"\n  window    01:30 for 1h\nscope\n  site == \"ALD\"\ntimer  10m\nstep \"Lans\"\n  send\n    | lan\n  undo\n    | drop lan\nunattended take back the device\n"
	out, err := Format("x.runbook", []byte(src))
	require.NoError(t, err)
	assert.Contains(t, string(out), "unattended  take back the device\n")
	assert.Equal(t, "unattended ", pad("unattended", 10))
	assert.Equal(t, "unattended ", pad("unattended", 9))
}
