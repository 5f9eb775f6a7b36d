package runbook

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/config"
	"metabasis/internal/core/kind"
)

var schema = Schema{
	Platforms: []string{"tern", "osier"},
	Fields:    []kind.Column{{Name: "gate_port"}},
	Tables: map[string]Table{
		"clock":      {Columns: map[string]ColumnType{"source": TextColumn, "settled": YesNoColumn, "time": TimeColumn}},
		"neighbours": {Many: true, Columns: map[string]ColumnType{"port": NumberColumn, "name": TextColumn}},
	},
}

func quays(t testing.TB) []byte {
	b, err := os.ReadFile("testdata/quays.runbook")
	require.NoError(t, err)
	return b
}

func TestParseQuays(t *testing.T) {
	rb, err := Parse("quays.runbook", quays(t))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(schema))
	assert.Equal(t, "Move the quays to the new clocks", rb.Title)
	assert.Equal(t, "MSF-2291", rb.Change)
	assert.Equal(t, Window{Start: 90 * time.Minute, Length: 165 * time.Minute, Line: 3}, rb.Window)
	assert.Equal(t, Ask{Name: "gate_lan", Kind: kind.Kind{Type: kind.Number, Min: 2, Max: 4000, Bounded: true}, Prompt: "New ticket-gate LAN", Default: "310", Line: 9}, rb.Ask[1])
	assert.Equal(t, Batches{Sizes: []Size{{Count: 1}, {Count: 4}, {Percent: 25}}, Together: 8, PerSite: 2,
		PairsApart: true, FarFirst: true, HoldAfter: []int{1}, StopAfter: 2, StopGiven: true}, rb.Batches)
	assert.Len(t, rb.Prechecks, 4)
	assert.Equal(t, int64(20e6), rb.Prechecks[3].AtLeast)
	assert.Equal(t, 10*time.Minute, rb.Timer.For)
	assert.Equal(t, Unattended{Given: true, Tries: 1, Then: BackDevice, Line: 54}, rb.Unattended)
	require.Len(t, rb.Steps, 2)
	values, err := rb.Steps[1].For.Values(nil)
	require.NoError(t, err)
	assert.Equal(t, []any{7, 8, 9}, values)
	assert.Equal(t, []string{"clock", "clock_a"}, rb.Steps[0].Expect[0].Cond.Names())
	assert.Equal(t, []string{"clock_a", "config"}, rb.Steps[0].Already.Names())
}

func env(t testing.TB, rb *Runbook) Env {
	t.Helper()
	return rb.DeviceEnv(map[string]any{"name": "ald-quay-1", "role": "quay", "site": "ALD", "gate_port": "7"},
		map[string]string{"clock_a": "192.0.2.40", "gate_lan": "310", "log_host": "x"})
}

func TestConditionsAndLines(t *testing.T) {
	rb, err := Parse("quays.runbook", quays(t))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(schema))
	e := env(t, rb)
	for _, c := range rb.Scope {
		ok, err := c.Eval(e)
		assert.True(t, ok, c.Source)
		assert.NoError(t, err)
	}
	line, err := rb.Steps[0].On[0].Send[0].Render(e)
	require.NoError(t, err)
	assert.Equal(t, "time source 192.0.2.40 first", line)
	line, err = rb.Steps[1].On[0].Send[1].Render(e.With("n", 8))
	require.NoError(t, err)
	assert.Equal(t, `  label "gate # 8"`, line)

	style := config.Style{Layout: "indented"}
	for text, want := range map[string]bool{"time source 192.0.2.40 first": true, "time source 192.0.2.4 first": false} {
		got, err := rb.Steps[0].Already.Eval(e.WithConfig(config.Parse(text, style)))
		require.NoError(t, err)
		assert.Equal(t, want, got, text)
	}
	lacks := &Cond{Source: `config lacks "log host <<clock_a>>" and config has "a" and clock.settled`, at: span{line: 1, col: 1}}
	rb.Prechecks = append(rb.Prechecks, Precheck{Name: "x", Where: lacks})
	require.NoError(t, rb.Compile(schema))
	cfg := e.WithConfig(config.Parse("log host 192.0.2.40\n", style)).With("clock", map[string]any{"settled": true})
	assert.NotContains(t, lacks.Explain(cfg), "config_has")
	plain := &Cond{Source: `config lacks "log host x" and config has "b"`, at: span{line: 1, col: 1}}
	rb.Prechecks = append(rb.Prechecks, Precheck{Name: "y", Where: plain})
	require.NoError(t, rb.Compile(schema))
	assert.Equal(t, `config has "b" is not so`, plain.Explain(cfg))
	assert.Equal(t, `config lacks "log host x" is not so`, plain.Explain(e.WithConfig(config.Parse("log host x\nb\n", style))))
	clock := e.With("clock", map[string]any{"source": "192.0.2.9", "settled": true, "time": 0.0})
	assert.Equal(t, "clock.source is 192.0.2.9, wanted 192.0.2.40", rb.Steps[0].Expect[0].Cond.Explain(clock))
}

// A value must never smuggle a second line into what a device is sent.
func TestRenderRefusesControlCharacters(t *testing.T) {
	rb, err := Parse("quays.runbook", quays(t))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(schema))
	for _, bad := range []string{"192.0.2.1\nrestart", "a\rb", "\x1b[2J", ""} {
		_, err := rb.Steps[0].On[0].Send[0].Render(env(t, rb).With("clock_a", bad))
		assert.Error(t, err, "%q", bad)
	}
}

// with replaces one line of the good runbook, or adds lines at its end.
func with(t *testing.T, old, new string) string {
	src := string(quays(t))
	if old == "" {
		return src + new
	}
	require.Contains(t, src, old)
	return strings.Replace(src, old, new, 1)
}

// mistakes are made one at a time in the good runbook.
var mistakes = map[string]struct{ old, new, want string }{
	"section":          {"precheck\n", "prechek\n", `:25:1: unknown section "prechek"; write: precheck`},
	"precheck":         {"reachable", "reachabel", `:26:3: unknown precheck "reachabel"; write: reachable`},
	"entry":            {"  together  8", "  togeter  8", `:18:3: unknown entry "togeter"; write: together`},
	"for under on":     {"", "\nstep \"Lans\"\n  on tern\n    for n in 310..312\n    send\n      | lan <<n>>\n    undo\n      | drop lan <<n>>\n", `unknown entry "for"; write: it under the step, beside on`},
	"twice":            {"  together  8", "  together  8\n  together  9", "together stands already on line 18"},
	"title":            {`"Move the quays to the new clocks"`, "Move", "1:9: expected the title in quotes"},
	"window":           {"01:30 for", "25:30 for", `"25:30" is not a time of day; write: 01:30`},
	"window for":       {"01:30 for 2h45m", "01:30 to 04:15", `expected "for", found "to"`},
	"duration":         {"reserve   20m", "reserve   20", `4:13: "20" is not a length of time; write: 20m`},
	"reserve":          {"reserve   20m", "reserve   4h", "the reserve takes the whole window"},
	"ask kind":         {"clock_a   address", "clock_a   adress", `unknown kind of value "adress"; write: address`},
	"ask default":      {"= 310", "= 5000", "gate_lan: 5000 is not from 2 to 4000"},
	"ask taken":        {"clock_a   address ", "site   address ", "site is the name of something a device has"},
	"quote":            {`"Log collector" `, `"Log collector `, "this quote is not closed"},
	"size":             {"1, 4, 25%", "1, 4, 125%", `"125%" is not a batch size`},
	"number":           {"per site  2", "per site  two", `"two" is not a whole number`},
	"no such day":      {"01:30 for", "Wod 01:30 for", `"Wod" is not a day; write: Wed 01:30, or 2026-12-02 01:30`},
	"no such zone":     {"01:30 for 2h45m", "01:30 for 2h45m in Europe/Alder", `there is no time zone "Europe/Alder"; write: in Europe/Berlin`},
	"none for":         {"01:30 for 2h45m", "none for 2h", `"for" cannot stand here`},
	"none, reserve":    {"01:30 for 2h45m", "none", "a reserve is kept free at the end of a window, and there is none"},
	"per what":         {"per site  2", "per town  2", `"town" is nothing that devices can be counted by`},
	"per twice":        {"per site  2", "per site  2\n  per role 3\n  per site 4", "per site stands already"},
	"canaries":         {"per site  2", "canaries  one of each", `expected "platform"`},
	"no canary":        {"per site  2", "canaries", "expected a word"},
	"while":            {"per site  2", "while held stop", `"stop" says neither that the others wait nor that they go on; write: while held wait, or while held go on`},
	"while what":       {"per site  2", "while it rains", `expected "held"`},
	"trailing":         {"together  8", "together  8 devices", `"devices" cannot stand here`},
	"unknown name":     {`role == "quay"`, `roll == "quay"`, `13:3: nothing is called "roll" here; write: role`},
	"not a condition":  {`role == "quay"`, `role`, "this is not a condition"},
	"assignment":       {`role == "quay"`, `role = "quay"`, "write: == to compare"},
	"bare address":     {`role == "quay"`, `role in [192.0.2.1, 2001:db8::7]`, `an address is text, and stands in quotes; write: role in ["192.0.2.1", "2001:db8::7"]`},
	"scope config":     {`role == "quay"`, `config has "lan 7"`, "config is read from the device and is not known yet: a scope can look at"},
	"scope read":       {`role == "quay"`, `clock read within soon`, "how long ago clock may have been read stands behind within"},
	"when read":        {`already   when config has "time source <<clock_a>> first"`, `when      clock read within 7d`, "in a scope only"},
	"column":           {"clock.source ==", "clock.sauce ==", `no column "sauce"; write: source`},
	"kind of value":    {"clock.source == clock_a", "clock.settled == clock_a", "yes or no and a text do not go together with =="},
	"has name":         {"<<clock_a>> first\"", "<<clock_x>> first\"", `nothing is called "clock_x" here; write: clock_a`},
	"line name":        {"| time source <<clock_a>> first", "| time source <<clock_b>> first", `nothing is called "clock_b" here; write: clock_a`},
	"line table":       {"| time source <<clock_a>> first", "| time source <<clock.source>>", "lines are rendered before any device is reached"},
	"line angles":      {"| time source <<clock_a>> first", "| time source <<clock_a first", "these angles are not closed"},
	"bar":              {"      | time source <<clock_a>> first", "      time source", "device text stands behind a bar; write: | time source"},
	"loop inside":      {"      | time source <<clock_a>> first", "      for n in 1..2\n        | x", "for stands above send, as far left as it, and is for the whole step; write: for n in 1..2"},
	"loop over a word": {"n in 7..9", "n in berths", `there is no table "berths"`},
	"platform":         {"on tern", "on turn", `no profile for platform "turn"; write: on tern`},
	"want twice":       {"    undo\n      | drop time source <<clock_a>>\n", "    want\n      | time source <<clock_a>> first\n", `says both what shall be there and what is sent`},
	"within":           {" within 90s", "", "an expectation needs a time"},
	"loop taken":       {"n in 7..9", "site in 7..9", "site is already the name of something else"},
	"loop range":       {"n in 7..9", "n in 9..7", `"9..7" is not a range`},
	"loop large":       {"n in 7..9", "n in 1..9000", "a range of 9000; the most is 512"},
	"timer":            {"timer       10m", "timer       3s", "a rollback timer of 3s fires before a line is sent"},
	"no timer":         {"timer       10m", "", "write: timer none"},
	"unattended":       {"take back the device", "take back devices", "is not something an unattended run can do; write: take back the device"},
	"alone for long":   {"try again once,", "after 25h, try again once,", "for 10s at least, and for 24h at most; write: after 10m"},
	"alone for ever":   {"try again once,", "after ever, try again once,", "is not a length of time"},
	"alone, no comma":  {"try again once,", "after 10m try again once,", ","},
	"tab":              {"  together  8", "\ttogether  8", "a tab in the indentation"},
	"indent":           {"  together  8", "   together  8", "nothing can stand under line 17"},
	"step twice":       {`"Gate ports"`, `"Time sources"`, "stands already on line 33"},
	"second runbook":   {"ask\n", "runbook \"x\"\nask\n", "a runbook starts with its title"},
	"control":          {"together  8", "together  8\x07", "a control character"},
}

func TestEveryMistakeIsNamedAtItsPlace(t *testing.T) {
	for name, c := range mistakes {
		rb, err := Parse("quays.runbook", []byte(with(t, c.old, c.new)))
		if err == nil {
			err = rb.Compile(schema)
		}
		assert.ErrorContains(t, err, c.want, name)
	}
}

func TestAllMistakesAtOnce(t *testing.T) {
	src := strings.NewReplacer("reachable", "reachabel", "together  8", "togeter 8", "20m", "20").Replace(string(quays(t)))
	_, err := Parse("q", []byte(src))
	assert.Len(t, strings.Split(err.Error(), "\n"), 3)
}

func TestEmptyAndForeignFiles(t *testing.T) {
	for _, src := range []string{"", "\n\n# nothing\n", "\x00\x01", "\xff\xfe", strings.Repeat("x\n", maxLines+1), `{"json": true}`} {
		_, err := Parse("x", []byte(src))
		assert.Error(t, err, "%.20q", src)
	}
}

func TestDurations(t *testing.T) {
	for s, want := range map[string]time.Duration{"2h45m": 165 * time.Minute, "90s": 90 * time.Second, "1h1m1s": 3661 * time.Second} {
		d, err := ParseDuration(s)
		require.NoError(t, err)
		assert.Equal(t, want, d)
	}
	for _, s := range []string{"", "0s", "-5m", "5", "1.5h", "3ms", "1d", "9999999h"} {
		_, err := ParseDuration(s)
		assert.Error(t, err, s)
	}
	assert.Equal(t, "2h45m", FormatDuration(165*time.Minute))
	assert.Equal(t, "0s", FormatDuration(0))
}
