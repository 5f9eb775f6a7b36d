package plan

import (
	"fmt"
	"maps"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/runbook"
)

// speaking are the traits of a tern with a small language.
func speaking() map[string]Traits {
	port := regexp.MustCompile(`^port \d+$`)
	tr := traits["tern"]
	tr.Style = config.Style{Layout: "indented"}
	tr.Language = &config.Language{Leave: "up", Takes: regexp.MustCompile(`^drop `), Style: tr.Style, Rules: []config.Rule{
		{In: port, Line: regexp.MustCompile(`^lan (\d+)$`), Key: "lan", Away: "drop lan", Needs: []string{"lan $1"}},
		{In: port, Line: regexp.MustCompile(`^label "[^"]*"$`), Key: "label", Away: "drop label"},
		{Line: regexp.MustCompile(`^log host \S+$`), Away: "drop $0"},
		{Line: regexp.MustCompile(`^lan (\d+)$`), Section: true, Away: "drop $0"},
		{Line: port, Section: true, Fixed: true},
	}}
	return map[string]Traits{"tern": tr}
}

const wanting = `runbook "x"
  window    01:30 for 2h

scope
  true

timer       10m

step "Logs"
  want
    | log host 192.0.2.1
  no other  "log host *"

step "Lan"
  want
    | lan 310

step "Port"
  send
    | port 7
    | lan 310

step "Verbatim"
  send
    | blink 3
  undo
    | blink 0

step "After"
  want
    | log host 192.0.2.2
`

func planned(t testing.TB, text string, devices int) *Plan {
	rb, err := runbook.Parse("x.runbook", []byte(text))
	require.NoError(t, err)
	csv := "name,address,platform\n"
	for i := range devices {
		csv += fmt.Sprintf("quay-%d,192.0.2.%d,tern\n", i, i%250+1)
	}
	if devices > 250 {
		csv = "name,address,platform\n"
		for i := range devices {
			csv += fmt.Sprintf("quay-%d,quay-%d.example,tern\n", i, i)
		}
	}
	f, err := fleet.Read("fleet.csv", []byte(csv), []string{"tern"})
	require.NoError(t, err)
	require.NoError(t, rb.Compile(Schema(speaking(), nil)))
	p, err := Make(rb, f, nil, speaking(), time.Now())
	require.NoError(t, err)
	return p
}

// Each step is computed from what the one before will have left; behind lines of which
// nobody knows what they do, lines are only known later.
func TestStepsBuildOnOneAnother(t *testing.T) {
	target := planned(t, wanting, 1).Targets()[0]
	now := config.Parse("log host 192.0.2.9\nport 7\n  lan 20\nlan 20\n", target.Traits.Style)
	read, err := target.Read(Reading{Config: now})
	require.NoError(t, err)
	assert.Equal(t, []string{"log host 192.0.2.1", "drop log host 192.0.2.9"}, read.Steps[0].Send)
	assert.Equal(t, []string{"log host 192.0.2.9", "drop log host 192.0.2.1"}, read.Steps[0].Undo)
	assert.Equal(t, []string{"lan 310"}, read.Steps[1].Send)
	assert.Equal(t, []string{"port 7", "lan 20"}, read.Steps[2].Undo, "where it was, not where nobody had put it")
	assert.Nil(t, read.Steps[3].After)
	assert.True(t, read.Steps[4].Later)
	assert.Empty(t, read.Steps[4].Send)
	_, known := read.Predicted(now)
	assert.False(t, known)

	later := read.Compute(4, *read.Steps[2].After)
	assert.False(t, later.Steps[4].Later)
	assert.Equal(t, []string{"log host 192.0.2.2"}, later.Steps[4].Send)
	assert.Equal(t, read.Steps[0].Send, later.Steps[0].Send, "what is done is not computed anew")
	assert.True(t, read.Steps[4].Later, "the target that was read stays as it was")
}

func TestWhatCannotBeComputed(t *testing.T) {
	target := planned(t, wanting, 1).Targets()[0]
	now := config.Parse("log host 192.0.2.9\nport 8\n  lan 20\nlan 20\n", target.Traits.Style)
	_, err := target.Read(Reading{Config: now})
	assert.ErrorContains(t, err, `step "Port": it has no undo lines, and what it does is not known: line 1, "port 7": there is no such section, and it cannot be made`)
}

// A reason may quote lines of the device that hold secrets: they are masked, each as the
// line that it is.
func TestNoSecretInAReason(t *testing.T) {
	target := planned(t, wanting, 1).Targets()[0]
	target.Steps[0].Want.NoOther = []string{"log key *"}
	l := target.Traits.Language
	target.Traits.Language = &config.Language{Leave: l.Leave, Takes: l.Takes, Style: l.Style, Rules: append([]config.Rule{{Line: regexp.MustCompile(`^log key \S+$`), Key: "key"}}, l.Rules...)}
	target.Traits.Mask = func(line string) string {
		return regexp.MustCompile(`^log key \S+$`).ReplaceAllString(line, "log key ▒▒▒▒")
	}
	_, err := target.Read(Reading{Config: config.Parse("log key t0ps3cret\nport 7\n", l.Style)})
	assert.EqualError(t, err, `step "Logs": "log key ▒▒▒▒" cannot be taken away`)
}

// What a platform's language cannot do is told before any device is reached.
func TestWhatALanguageCannotDo(t *testing.T) {
	for what, c := range map[string]struct{ old, new, want string }{
		"unknown":   {"| lan 310\n\n", "| colour red\n\n", `step "Lan" cannot be done by the language of tern: "colour red": no rule of the language knows it`},
		"no undo":   {"    | lan 310\n\nstep \"V", "    | paint red\n\nstep \"V", `step "Port" has no undo lines, and none can be computed on tern: "paint red"`},
		"wide":      {`"log host *"`, `"log host *", "paint *"`, `"paint *": no rule of the language takes such a line away`},
		"no indent": {"| lan 310\n\n", "| port 7\n    | label \"x\"\n\n", `it belongs into "port 7"`},
	} {
		rb, err := runbook.Parse("x.runbook", []byte(strings.Replace(wanting, c.old, c.new, 1)))
		require.NoError(t, err, what)
		f, err := fleet.Read("fleet.csv", []byte("name,address,platform\na,192.0.2.1,tern\nb,192.0.2.2,tern\n"), []string{"tern"})
		require.NoError(t, err)
		require.NoError(t, rb.Compile(Schema(speaking(), nil)))
		_, err = Make(rb, f, nil, speaking(), time.Now())
		if assert.ErrorContains(t, err, c.want, what) {
			assert.Equal(t, 1, strings.Count(err.Error(), c.want), "told once")
		}
	}
	rb, err := runbook.Parse("x.runbook", []byte(wanting))
	require.NoError(t, err)
	f, err := fleet.Read("fleet.csv", []byte("name,address,platform\na,192.0.2.1,tern\n"), []string{"tern"})
	require.NoError(t, err)
	mute := map[string]Traits{"tern": traits["tern"]}
	require.NoError(t, rb.Compile(Schema(mute, nil)))
	_, err = Make(rb, f, nil, mute, time.Now())
	assert.ErrorContains(t, err, `the profile of tern has no language: which lines lead to what is wanted in step "Logs" is not known`)
	assert.ErrorContains(t, err, `step "Port" cannot be taken back on tern: it has no undo lines`)
}

// BenchmarkRead computes what a night does to 5,000 devices whose configurations, of 200
// lines each, are known.
func BenchmarkRead(b *testing.B) {
	text := strings.Replace(wanting, "step \"Verbatim\"\n  send\n    | blink 3\n  undo\n    | blink 0\n\n", "", 1)
	targets := planned(b, text, 5000).Targets()
	var config200 strings.Builder
	config200.WriteString("log host 192.0.2.9\nlan 20\n")
	for i := range 66 {
		fmt.Fprintf(&config200, "port %d\n  label \"desk %d\"\n  lan 20\n", i, i)
	}
	now := config.Parse(config200.String(), targets[0].Traits.Style)
	for b.Loop() {
		var workers sync.WaitGroup // as devices are: each computed by whoever read it
		for w := range runtime.GOMAXPROCS(0) {
			workers.Go(func() {
				for i := w; i < len(targets); i += runtime.GOMAXPROCS(0) {
					if _, err := targets[i].Read(Reading{Config: now}); err != nil {
						b.Error(err)
					}
				}
			})
		}
		workers.Wait()
	}
}

// A whole file is refused where lines are taken, and is known to be in place where it is.
func TestPuttingAWholeFile(t *testing.T) {
	const text = `runbook "x"
  window    now for 1h

scope
  role == "quay"

timer       5m

step "All of it"
  put file "a.conf"
`
	rb, err := runbook.Parse("x.runbook", []byte(text))
	require.NoError(t, err)
	require.NoError(t, rb.Fill(func(string) ([]byte, error) { return []byte("name <<name>>\n\nlog host 198.51.100.14\n"), nil }))
	require.NoError(t, rb.Compile(schema))
	_, err = Make(rb, read(t, six), nil, traits, night)
	assert.ErrorContains(t, err, `step "All of it" puts a whole file in place, and tern takes lines`)

	kinds := maps.Clone(traits)
	tern := kinds["tern"]
	tern.Stages, tern.Whole = true, true
	kinds["tern"] = tern
	p, err := Make(rb, read(t, six), nil, kinds, night)
	require.NoError(t, err)
	target := p.Targets()[0]
	name := target.Device.Name
	assert.Equal(t, []string{"name " + name, "", "log host 198.51.100.14"}, target.Steps[0].Send)
	assert.True(t, target.Steps[0].Changes())
	other := target.Compute(0, config.Parse("name "+name+"\n", tern.Style)).Steps[0]
	assert.False(t, other.Done)
	assert.Equal(t, target.Steps[0].Put, other.Send)
	assert.True(t, other.After.Has("log host 198.51.100.14"))
	same := target.Compute(0, config.Parse("log host 198.51.100.14\nname "+name+"\n", tern.Style)).Steps[0]
	assert.True(t, same.Done)
	assert.Empty(t, same.Send)
}

// Empty lines set parts of a file apart: they are not sent.
func TestEmptyLinesOfAFileAreNotSent(t *testing.T) {
	const text = `runbook "x"
  window    now for 1h

scope
  role == "quay"

timer       5m

step "Sent"
  send file "a.txt"
  undo file "a.txt"
`
	rb, err := runbook.Parse("x.runbook", []byte(text))
	require.NoError(t, err)
	require.NoError(t, rb.Fill(func(string) ([]byte, error) { return []byte("\nlan 310\n\n   \nlog host 198.51.100.14\n\n"), nil }))
	require.NoError(t, rb.Compile(schema))
	p, err := Make(rb, read(t, six), nil, traits, night)
	require.NoError(t, err)
	round := p.Targets()[0].Steps[0].Rounds[0]
	lines := []string{"lan 310", "log host 198.51.100.14"}
	assert.Equal(t, lines, round.Send)
	assert.Equal(t, lines, round.Undo)
}

// A text of several lines is ended, or refused: on a device it would take in what is typed next.
func TestATextThatIsNotEndedIsRefused(t *testing.T) {
	kinds := maps.Clone(traits)
	tern := kinds["tern"]
	tern.Style.Opens = regexp.MustCompile(`^greeting until (?P<end>\S+)$`)
	kinds["tern"] = tern
	for lines, whole := range map[string]bool{
		"    | greeting until END\n    |   lan 310\n    | END\n    | lan 311\n": true,
		"    | greeting until END\n    |   lan 310\n    | ENDE\n":               false,
		"    | lan 311\n    | greeting until END\n":                             false,
		"    | greeting until END\n    | END\n    | greeting until END\n":       false,
	} {
		for _, step := range []string{"  send\n" + lines + "  undo\n    | lan 1\n", "  send\n    | lan 1\n  undo\n" + lines} {
			rb, err := runbook.Parse("x.runbook", []byte("runbook \"x\"\n  window now for 1h\n\nscope\n  role == \"quay\"\n\ntimer 5m\n\nstep \"s\"\n"+step))
			require.NoError(t, err)
			require.NoError(t, rb.Compile(schema))
			_, err = Make(rb, read(t, six), nil, kinds, night)
			if whole {
				assert.NoError(t, err, step)
			} else {
				assert.ErrorContains(t, err, "begins a text of several lines, and the line that ends it is missing; write: END", step)
			}
		}
	}
}
