package profile

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pgregory.net/rapid"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

func TestTernLoads(t *testing.T) {
	p := tern(t)
	assert.Equal(t, "look", p.Start)
	assert.Equal(t, []string{"operator"}, p.Secrets())
	assert.Equal(t, runbook.YesNoColumn, p.Tables()["clock"].Columns["settled"])
	assert.True(t, p.Tables()["neighbours"].Many)
	assert.Equal(t, 20*time.Second, p.Traits().Boot)
}

// What is asked to be confirmed is what is done, and no more.
func TestTouchesOnlyWhatTheProfileHas(t *testing.T) {
	p := &Profile{}
	assert.Equal(t, []string{"edit mode will be entered", "a word that no device knows sent in it"}, p.Touches())
	p.Timer.Arm.Send = "arm"
	assert.Len(t, p.Touches(), 2, "a timer that is not there is not spoken of")
	p.Timer.Kind = plan.RestartTimer
	p.Trial.Apply.Send = "apply"
	assert.Equal(t, []string{"edit mode will be entered", "a word that no device knows sent in it", "a rollback timer armed and disarmed", "its configuration applied on trial as it is and taken back"}, p.Touches())
}

func TestMistakesInAProfileAreNamedAtTheirPlace(t *testing.T) {
	for name, c := range map[string]struct{ old, new, want string }{
		"yaml":           {"platform: tern", "platform: [tern", "tern.yaml:"},
		"unknown entry":  {"title: tern", "titel: tern", `unknown field "titel"`},
		"a path":         {"platform: tern", "platform: ../../x", `"../../x" cannot be the name of a platform`},
		"pattern":        {`'^Kept\.$'`, `'^Kept(\.$'`, "error parsing regexp"},
		"protocol":       {"protocol: ssh", "protocol: carrier", `protocol "carrier" is not known; write: one of ssh, telnet`},
		"loose prompt":   {`'^\[(?P<host>\S+) look\] $'`, `'look\] $'`, "a prompt's pattern must fit the whole line"},
		"mode":           {"from: look", "from: lock", `there is no mode "lock"; write: look`},
		"circle":         {"from: look", "from: edit", "the modes go round in a circle"},
		"no login":       {"    login: true\n", "", "in which mode a session starts"},
		"command's mode": {"save:\n  in: work", "save:\n  in: wrok", `there is no mode "wrok"; write: work`},
		"delay":          {"restart in <<seconds>> s", "restart in 10 s", "the delay <<seconds>> is missing"},
		"clock, no form": {"restart in <<seconds>> s", "restart at <<at>>", "nothing says how that is written"},
		"clock's form":   {"kind: restart\n  arm: {in: work, send: restart in <<seconds>> s", "kind: restart\n  at: HHMM\n  arm: {in: work, send: restart at <<at>>", `"HHMM" is no way to write a time of day`},
		"clock, no time": {"kind: restart\n", "kind: restart\n  at: HH:MM\n", "the time <<at>> is missing"},
		"clock's zone":   {"kind: restart\n  arm: {in: work, send: restart in <<seconds>> s", "kind: restart\n  at: HH:MM\n  zone: Harbour\n  arm: {in: work, send: restart at <<at>>", `the time zone "Harbour" is not known here`},
		"no clock":       {"kind: restart\n  arm: {in: work, send: restart in <<seconds>> s", "kind: restart\n  at: HH:MM\n  arm: {in: work, send: restart at <<at>>", "nothing reads that"},
		"trial's timer":  {"kind: restart", "kind: trial", "nothing says how a change is applied on trial"},
		"whole":          {"layout: indented\n  running: {in: work", "layout: indented\n  whole: true\n  running: {in: work", "configuration.apply: the command is missing"},
		"not whole":      {"  edit: edit\n", "  edit: edit\n  check: {in: work, send: check}\n", "only a configuration that is handed over as a whole is checked and applied"},
		"pending":        {"(?P<seconds>", "(?P<left>", "needs a group named seconds"},
		"no proof":       {`  none: '^No restart is pending\.$'` + "\n", "", "disarming cannot be proven"},
		"kind":           {"kind: restart", "kind: restrat", `timer kind "restrat" is not known; write: restart`},
		"column type":    {"source: {type: text", "source: {type: txt", `type "txt" is not known; write: text`},
		"column group":   {`'^source +(\S+)$'`, `'^source'`, "nothing says where the value stands"},
		"row group":      {"(?P<their_port>", "(?P<other>", "no group of that name"},
		"yes":            {", yes: settled", "", "which text means yes"},
		"unit":           {`(\d+) MB$', unit: MB}`, `(\d+) MB$', unit: TB}`, `unit "TB" is not known`},
		"layout":         {"layout: indented", "layout: indent", `layout "indent" is not known; write: indented`},
		"refused":        {"refused:\n  - '^Refused: (.*)$'\n  - '^Fault: (.*)$'\n", "", "a refused line would go unnoticed"},
		"answer":         {", secret: operator", "", "an answer needs its question, and a text or a secret"},
	} {
		src := ternFile(t)
		if name == "no clock" {
			src = strings.Replace(src, "      time: {type: time,", "      now: {type: time,", 1)
		}
		require.Contains(t, src, c.old, name)
		_, err := Load("tern.yaml", []byte(strings.Replace(src, c.old, c.new, 1)))
		assert.ErrorContains(t, err, c.want, name)
	}
}

func TestAProblemSaysItsLine(t *testing.T) {
	src := strings.Replace(ternFile(t), "save:\n  in: work", "save:\n  in: wrok", 1)
	_, err := Load("tern.yaml", []byte(src))
	line := strings.Count(src[:strings.Index(src, "wrok")], "\n") + 1
	assert.ErrorContains(t, err, fmt.Sprintf("tern.yaml:%d:", line))
}

// The shortcut on a pattern's plain start never changes what it matches.
func TestPatternShortcut(t *testing.T) {
	for pattern, prefix := range map[string]string{`^Refused: (.*)$`: "Refused: ", `^(Refused|Fault)`: "", `Refused`: "", `^(?i)refused x`: "", `^a*b`: "", `^ab*c`: "a", `^\d+`: "", `^x|y`: "", `(?m)^x.`: ""} {
		p := MustPattern(pattern)
		assert.Equal(t, prefix, p.prefix, pattern)
	}
	rapid.Check(t, func(t *rapid.T) {
		source := rapid.StringMatching(`\^?[ab]{0,2}[*+?]?(\(a\|b\))?[ab.]{0,2}\$?`).Draw(t, "pattern")
		var p Pattern
		if p.UnmarshalYAML(func(v any) error { *v.(*string) = source; return nil }) != nil {
			t.Skip()
		}
		line := rapid.StringMatching(`[ab]{0,5}`).Draw(t, "line")
		assert.Equal(t, p.MatchString(line), p.Matches(line), source)
		assert.Equal(t, p.FindStringSubmatch(line), p.Find(line), source)
	})
}

func TestMask(t *testing.T) {
	p := tern(t)
	assert.Equal(t, "  login crew secret ▒▒▒▒", p.Mask("  login crew secret hunter-2-x"))
	assert.Equal(t, "log host 192.0.2.1", p.Mask("log host 192.0.2.1"))
}

func TestReaders(t *testing.T) {
	p := tern(t)
	v, err := p.Readers["clock"].Parse([]string{"time      2026-12-02T01:34:12Z", "source    192.0.2.40", "state     settled", "offset    -0.004 s"})
	require.NoError(t, err)
	at := time.Date(2026, 12, 2, 1, 34, 12, 0, time.UTC)
	assert.Equal(t, map[string]any{"time": float64(at.Unix()), "source": "192.0.2.40", "settled": true, "offset": -0.004}, v)
	_, err = p.Readers["clock"].Parse([]string{"time      never"})
	assert.Error(t, err)
	v, err = p.Readers["neighbours"].Parse([]string{"port  neighbour        their port", "1     ald-quay-1       12"})
	require.NoError(t, err)
	assert.Equal(t, []map[string]any{{"port": 1.0, "name": "ald-quay-1", "their_port": 12.0}}, v)
	v, err = p.Readers["storage"].Parse([]string{"total     64 MB", "free      41 MB"})
	require.NoError(t, err)
	assert.Equal(t, 41e6, v.(map[string]any)["free"])
}

// No file makes the loader panic, and what it accepts can be used.
func FuzzLoad(f *testing.F) {
	f.Add([]byte(ternFile(f)))
	for _, name := range []string{"skerry", "skerry-restconf", "bittern"} {
		b, err := os.ReadFile("../../../profiles/" + name + ".yaml")
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
	}
	f.Add([]byte("platform: [\n"))
	f.Add([]byte("modes: {a: {prompt: '^x$', login: true}}\nrefused: ['(']\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := Load("x.yaml", data)
		if err == nil {
			p.Traits()
			p.Tables()
			p.Secrets()
			p.Mask("login crew secret x")
			p.Claims()
			p.Unsendable("set a = 1")
		}
	})
}
