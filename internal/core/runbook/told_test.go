package runbook

import (
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/config"
	"metabasis/internal/core/kind"
	"metabasis/internal/core/problem"
)

var update = flag.Bool("update", false, "write what stands in testdata anew")

// compare holds a text against the one in testdata; whoever writes it anew answers for
// each line that changes.
func compare(t *testing.T, file, got string) {
	t.Helper()
	path := filepath.Join("testdata", file)
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
		return
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, string(want), got)
}

// TestMistakesToldInFull holds what a person reads for each mistake: the place, the
// line with its marker, what is wrong, and what to write instead.
func TestMistakesToldInFull(t *testing.T) {
	more := maps.Clone(mistakes)
	for name, c := range map[string][2]string{
		"long line":          {"  reserve   20m", "  reserve   20m  " + strings.Repeat("x", maxLine)},
		"empty scope":        {"  role == \"quay\"\n  site in [\"ALD\", \"BRM\"]  # the rest on Thursday\n", ""},
		"no condition":       {"already   when config has \"time source <<clock_a>> first\"", "already   when"},
		"no when":            {"already   when config has", "already   config has"},
		"no expectation":     {"clock.source == clock_a within 90s", "within 90s"},
		"within in a text":   {"clock.source == clock_a within 90s", `clock.source == " within 3s" within 90`},
		"after within":       {"within 90s", "within 90s or so"},
		"empty angles":       {"<<clock_a>> first\n    undo", "<< >> first\n    undo"},
		"half angles":        {"when config has \"time source <<clock_a>>", "when config has \"time source <<clock_a"},
		"empty line sent":    {"      | time source <<clock_a>> first\n    undo", "      |\n    undo"},
		"nothing sent":       {"    send\n      | time source <<clock_a>> first\n", "    send\n"},
		"stop":               {"stop      after 2 failures", "stop      before 2 failures"},
		"stop what":          {"stop      after 2 failures", "stop      after 2 devices"},
		"order":              {"order     far first", "order     near first"},
		"order what":         {"order     far first", "order     far last"},
		"hold":               {"hold      after batch 1", "hold      after lunch"},
		"hold which":         {"hold      after batch 1", "hold      after batch 0"},
		"hold every":         {"hold      after batch 1", "hold      after every device"},
		"pairs":              {"pairs     apart, standby first", "pairs     together"},
		"pairs order":        {"pairs     apart, standby first", "pairs     apart, standby last"},
		"sizes":              {"1, 4, 25%", "1 4"},
		"sizes none":         {"sizes     1, 4, 25%", "sizes"},
		"clock":              {"clock     within 30s", "clock     30s"},
		"storage":            {"at least 20 MB", "at least 20 TB"},
		"storage what":       {"at least 20 MB", "at most 20 MB"},
		"precheck twice":     {"  saved\n", "  saved\n  saved\n"},
		"precheck quoted":    {"  saved\n", "  \"saved\"\n"},
		"precheck under":     {"  saved\n", "  saved\n    now\n"},
		"check":              {"  saved\n", "  check     Two where true\n"},
		"check no where":     {"  saved\n", "  check     \"Two\" true\n"},
		"check of a name":    {"  saved\n", "  check     \"clock\" where true\n"},
		"version":            {"  saved\n", "  version   ,\n"},
		"pair":               {"  saved\n", "  pair      sick\n"},
		"ask twice":          {"  gate_lan  number", "  clock_a   text  \"Again\"\n  gate_lan  number"},
		"ask name":           {"  gate_lan  number", "  Gate-Lan  number"},
		"ask no question":    {"\"New ticket-gate LAN\"", ""},
		"ask range":          {"2..4000", "4000..2"},
		"ask default kind":   {"= 310", "= many"},
		"ask choice":         {"number 2..4000", "choice red, blue"},
		"ask address":        {"  clock_a   address         \"First time source\"", "  clock_a   address \"First\" = here"},
		"unattended try":     {"try again once,", "try again often,"},
		"unattended ten":     {"try again once,", "try again 10 times,"},
		"unattended times":   {"try again once,", "try again 3,"},
		"loop":               {"n in 7..9", "N in 7..9"},
		"loop in":            {"n in 7..9", "n of 7..9"},
		"loop tail":          {"n in 7..9", "n in 7..9 more"},
		"on nothing":         {"on tern", "on"},
		"on two":             {"on tern", "on tern osier"},
		"timer none on":      {"timer       10m", "timer       10m\ntimer       none on turn"},
		"timer on":           {"timer       10m", "timer       10m\ntimer       4m on turn"},
		"timer on, twice":    {"timer       10m", "timer       10m\ntimer       4m on tern\ntimer       3m on tern"},
		"timer on, and none": {"timer       10m", "timer       10m\ntimer       4m on tern\ntimer       none on tern"},
		"timer on, short":    {"timer       10m", "timer       10m\ntimer       4s on tern"},
		"timer on, alone":    {"timer       10m", "timer       4m on tern"},
		"needs":              {"  for       n in 7..9", "  needs     \"Time source\"\n  for       n in 7..9"},
		"needs two":          {"  for       n in 7..9", "  needs     \"Time sources\" \"Gate ports\"\n  for       n in 7..9"},
		"no window":          {"  window    01:30 for 2h45m\n", ""},
		"no step":            {"step \"Time sources\"", "stop \"Time sources\""},
		"window length":      {"for 2h45m", "for ever"},
		"window tail":        {"for 2h45m", "for 2h45m or more"},
		"change tail":        {"MSF-2291", "MSF-2291 MSF-2292"},
		"lining up":          {"  reserve   20m", "     reserve   20m"},
		"a comment's place":  {"# the rest on Thursday", "#the rest"},
		"tab in a line":      {"  reserve   20m", "\treserve\t20"},
		"no undo":            {"    undo\n      | drop time source <<clock_a>>\n", ""},
		"undo last":          {"    undo\n", "    undo last\n"},
		"want beside":        {"    send\n      | time source", "    want\n      | time source"},
		"no other":           {"    send\n      | time source <<clock_a>> first\n    undo\n      | drop time source <<clock_a>>\n", "    no other\n"},
		"no one":             {"    send\n      | time source <<clock_a>> first\n    undo\n      | drop time source <<clock_a>>\n", "    no one    \"log host *\"\n"},
		"no other words":     {"    send\n      | time source <<clock_a>> first\n    undo\n      | drop time source <<clock_a>>\n", "    no other  log host *\n"},
		"no other anything":  {"    send\n      | time source <<clock_a>> first\n    undo\n      | drop time source <<clock_a>>\n", "    no other  \"*\", \"port 7 > * 3\"\n"},
		"no other one":       {"    send\n      | time source <<clock_a>> first\n    undo\n      | drop time source <<clock_a>>\n", "    no other  \"log host 192.0.2.1\"\n"},
		"gone nothing":       {"    send\n      | time source <<clock_a>> first\n    undo\n      | drop time source <<clock_a>>\n", "    gone\n"},
		"want a table":       {"    send\n      | time source <<clock_a>> first\n    undo\n      | drop time source <<clock_a>>\n", "    want\n      | time source <<clock.source>> first\n"},
		"loop over no table": {"n in 7..9", "n in wharves where n.port == 7"},
		"loop over one row":  {"n in 7..9", "n in clock where n.settled"},
		"loop where":         {"n in 7..9", "n in neighbours where n.prt == 7"},
		"loop where nothing": {"n in 7..9", "n in neighbours where"},
		"loop of rows":       {"n in 7..9", "n in neighbours"},
		"undo of nothing":    {"    send\n      | time source <<clock_a>> first\n", ""},
		"expect alone on":    {"    send\n      | time source <<clock_a>> first\n    undo\n      | drop time source <<clock_a>>\n", "    expect    clock.settled within 2h\n"},
		"finish":             {"soak      3m", "soak      3"},
		"record what":        {"timer       10m", "record      neighbour, config\n\ntimer       10m"},
		"record nothing":     {"timer       10m", "record\n\ntimer       10m"},
		"record twice":       {"timer       10m", "record      clock, clock\n\ntimer       10m"},
		"compare":            {"soak      3m", "soak      3m\n  compare   neighbours, clock: no loss within 60s"},
		"compare for ever":   {"soak      3m", "soak      3m\n  compare   neighbours: no loss for 60s"},
		"compare what":       {"soak      3m", "soak      3m\n  compare   neighbours: no fun"},
		"compare config":     {"soak      3m", "soak      3m\n  compare   config: no change"},
		"compare no colon":   {"soak      3m", "soak      3m\n  compare   neighbours no loss"},
		"compare at the top": {"  soak      3m", "compare  neighbours: no loss"},
		"restore":            {"step \"Time sources\"", "step \"Back\"\n  restore   \"2026-11-20 03:00\"\n\nstep \"Time sources\""},
		"restore when":       {"step \"Time sources\"", "step \"Back\"\n  restore   \"yesterday\"\n\nstep \"Time sources\""},
		"restore what":       {"step \"Time sources\"", "step \"Back\"\n  restore   after night 3\n\nstep \"Time sources\""},
		"restore which":      {"step \"Time sources\"", "step \"Back\"\n  restore   before night none\n\nstep \"Time sources\""},
		"restore and send":   {"step \"Time sources\"", "step \"Back\"\n  restore   before night 3\n  send\n    | x\n\nstep \"Time sources\""},
		"batch share":        {"25%", "0%"},
		"values in angles":   {"| time source <<clock_a>> first", "| time source <<clock_a + gate_lan>> first"},
		"kind of comparison": {"role == \"quay\"", "role > 3"},
	} {
		more[name] = struct{ old, new, want string }{c[0], c[1], ""}
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(more)) {
		c := more[name]
		rb, err := Parse("quays.runbook", []byte(with(t, c.old, c.new)))
		if err == nil {
			err = rb.Compile(schema)
		}
		fmt.Fprintf(&b, "== %s\n", name)
		var list problem.List
		if errors.As(err, &list) {
			b.WriteString(list.String())
		} else if err == nil {
			b.WriteString("nothing is wrong with it\n")
		}
	}
	compare(t, "mistakes.txt", b.String())
}

// Prechecks of the settings, and how a runbook's own come before them.
func TestPrechecksOfTheSettings(t *testing.T) {
	var b strings.Builder
	rb := &Runbook{Prechecks: []Precheck{{Name: "clock", Off: true}}}
	for _, c := range [][2]string{{"alone", "on"}, {"saved", "true"}, {"reachable", ""}, {"clock", "within 30s"}, {"storage", "at least 20 MB"}, {"storage", "at least 3 KB"}, {"alone", "off"}, {"saved", "false"},
		{"version", "4.2, 4.3"}, {"pair", "healthy"}, {"clock", "30s"}, {"clocks", "on"}, {"clock", "within 30s\n  saved"}, {"check", `"Two" where true`}} {
		pc, err := DefaultPrecheck("metabasis.yaml", c[0], c[1])
		fmt.Fprintf(&b, "%s: %q is %q, off %v, within %s, at least %d, %q, from %q, error %v\n", c[0], c[1], pc.String(), pc.Off, pc.Within, pc.AtLeast, pc.Versions, pc.From, err)
		if err == nil {
			rb.AddPrechecks([]Precheck{pc})
		}
	}
	for _, p := range rb.Prechecks {
		fmt.Fprintf(&b, "then %s, off %v\n", p, p.Off)
	}
	compare(t, "prechecks.txt", b.String())
}

// What a condition says of itself when it does not hold, cannot be told or holds.
func TestWhatConditionsSay(t *testing.T) {
	style := config.Style{Layout: "indented"}
	env := Env{"name": "ald-quay-1", "site": "ALD", "role": "", "lan": 310, "floor": "3",
		"clock":      map[string]any{"source": "192.0.2.9", "settled": true, "time": 3.5},
		"neighbours": []map[string]any{{"port": 1.0, "name": "ops-core"}},
		"config":     config.Parse("time source 192.0.2.40 first\nport 3\n  lan 310\n", style)}
	s := schema
	s.Fields = []kind.Column{{Name: "floor"}}
	var b strings.Builder
	for _, source := range []string{`site == "ALD"`, `site == "BRM"`, `site != "ALD"`, `site in ["BRM", "CLD"]`, `site == "ALD" and role == "quay"`, `role == "quay" and site == "BRM"`,
		`clock.settled`, `not clock.settled`, `clock.time > 5`, `clock.time >= 3 and clock.time <= 3`, `len(neighbours) == 2`, `any(neighbours, .name == "nobody")`, `config has "port 3 > lan 310"`,
		`config lacks "port 3 > lan 310"`, `config has "time source <<site>> first"`, `neighbours[3].name == "x"`, `clock.source == floor`, `site == "BRM" or role == "quay"`, `int(floor) < 2 && site == "ALD"`, `int(name) == 3`, `site == neighbours[9].name`} {
		rb := &Runbook{lines: map[int]string{}}
		cond := &Cond{Source: source, at: span{line: 1, col: 1}}
		rb.Prechecks = []Precheck{{Name: "x", Where: cond}}
		require.NoError(t, rb.Compile(s), source)
		ok, err := cond.Eval(env)
		fmt.Fprintf(&b, "%s\n  %v, %v; says %q; rule %q; names %q; asks %q\n", source, ok, err, cond.Explain(env), cond.Rule(env), cond.Names(), cond.Asks(env))
	}
	unknown := &Cond{Source: `config has "lan <<nothing>>" and config has "lan 1"`}
	fmt.Fprintf(&b, "of nothing known: asks %q\n", unknown.Asks(Env{}))
	never := &Cond{Source: "true"}
	_, err := never.Eval(env)
	fmt.Fprintln(&b, err)
	_, err = (&Text{Source: "x", pieces: []piece{{source: "site"}}}).Render(env)
	fmt.Fprintln(&b, err)
	compare(t, "conditions.txt", b.String())
}

// What fits what is asked for, and what does not.
func TestAnswers(t *testing.T) {
	var b strings.Builder
	for _, a := range []Ask{{Name: "a", Kind: kind.Kind{Type: kind.Address}}, {Name: "n", Kind: kind.Kind{Type: kind.Number}}, {Name: "m", Kind: kind.Kind{Type: kind.Number, Min: 2, Max: 9, Bounded: true}}, {Name: "t", Kind: kind.Kind{Type: kind.Text}}, {Name: "c", Kind: kind.Kind{Type: kind.Choice, Choices: []string{"red", "blue"}}},
		{Name: "s", Kind: kind.Kind{Type: kind.Secret}}, {Name: "d", Kind: kind.Kind{Type: kind.Text}, Default: "usual"}} {
		fmt.Fprintf(&b, "%s %s, for example %q (%v)\n", a.Name, a.Kind.Type, a.Sample(), a.Check(a.Sample()))
		for _, answer := range []string{"", "192.0.2.1", "2001:db8::1", "192.0.2.300", "1", "2", "9", "10", "red", "reds", "three words here", "bell\a", "gull", "gu\x00ll"} {
			if a.Kind.Type == kind.Secret && a.Check(answer) != nil {
				assert.NotContains(t, a.Check(answer).Error(), "gu\x00ll")
			}
			fmt.Fprintf(&b, "  %q: %v\n", answer, a.Check(answer))
		}
	}
	compare(t, "answers.txt", b.String())
}
