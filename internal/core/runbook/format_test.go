package runbook

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestFormatLeavesTheGoodLayoutAlone(t *testing.T) {
	out, err := Format("quays.runbook", quays(t))
	require.NoError(t, err)
	assert.Equal(t, string(quays(t)), string(out))
}

func TestFormatMendsLayoutAndKeepsComments(t *testing.T) {
	out, err := Format("x", []byte(`
runbook   "A  b"
    window 01:30   for 1h # opens late
scope
    role == "a  b"
# about the timer
timer 10m
ask
    a   address   "A?"
    # the lan
    longer_name number   2..4 "B?"=3
step "S"
    on  tern ,osier
       send
          |    x   y
       undo
          |drop x
    expect   clock.settled   within   5s
`))
	require.NoError(t, err)
	assert.Equal(t, `runbook "A  b"
  window    01:30 for 1h  # opens late

scope
  role == "a  b"

# about the timer
timer       10m

ask
  a            address      "A?"
  # the lan
  longer_name  number 2..4  "B?"  = 3

step "S"
  on tern, osier
    send
      |    x   y
    undo
      | drop x
  expect    clock.settled   within   5s
`, string(out))
}

// strip removes positions, so that two runbooks can be compared by meaning.
func strip(rb *Runbook) string {
	var b strings.Builder
	win, batches := rb.Window, rb.Batches
	win.Line, batches.CanaryLine = 0, 0
	timers := slices.Clone(rb.Timer.Of)
	for i := range timers {
		timers[i].Line = 0
	}
	fmt.Fprintln(&b, rb.Title, rb.Change, win, rb.Reserve, batches, rb.Timer.None, rb.Timer.For, rb.Timer.NoneOn, timers, rb.Soak,
		rb.Unattended.Tries, rb.Unattended.Then, rb.Unattended.GoOn)
	for _, a := range rb.Ask {
		a.Line = 0
		fmt.Fprintln(&b, a)
	}
	for _, p := range rb.Prechecks {
		p.Line = 0
		fmt.Fprintln(&b, p)
	}
	for _, c := range rb.Scope {
		fmt.Fprintln(&b, c.Source)
	}
	for _, s := range rb.Steps {
		fmt.Fprintln(&b, s.Title)
		if s.When != nil {
			fmt.Fprintln(&b, "when", s.When.Source)
		}
		if s.Already != nil {
			fmt.Fprintln(&b, "already", s.Already.Source)
		}
		if s.For != nil {
			fmt.Fprintln(&b, "for", s.For.Var, s.For.From, s.For.To, sources(s.For.List), s.For.Table)
			if s.For.Where != nil {
				fmt.Fprintln(&b, "where", s.For.Where.Source)
			}
		}
		for _, on := range s.On {
			fmt.Fprintln(&b, "on", on.Platforms)
			fmt.Fprintf(&b, "want %q\ngone %q\nno other %q\nsend %q\nundo %q %t\n", sources(on.Want), sources(on.Gone), sources(on.NoOther), sources(on.Send), sources(on.Undo), on.UndoFirst)
		}
		for _, e := range s.Expect {
			fmt.Fprintln(&b, "expect", e.Cond.Source, e.Within)
		}
	}
	return b.String()
}

func sources(list []*Text) (out []string) {
	for _, t := range list {
		out = append(out, t.Source)
	}
	return out
}

// Formatting never changes what a runbook means, and is stable.
func TestRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		src := drawRunbook(t)
		before, err := Parse("x", []byte(src))
		require.NoError(t, err, src)
		once, err := Format("x", []byte(src))
		require.NoError(t, err)
		after, err := Parse("x", once)
		require.NoError(t, err, string(once))
		assert.Equal(t, strip(before), strip(after))
		twice, err := Format("x", once)
		require.NoError(t, err)
		assert.Equal(t, string(once), string(twice))
	})
}

// drawRunbook writes a runbook in a random hand: spacing, comments, order.
func drawRunbook(t *rapid.T) string {
	var b strings.Builder
	gap := func() string { return strings.Repeat(" ", rapid.IntRange(1, 4).Draw(t, "gap")) }
	noise := func() {
		switch rapid.IntRange(0, 5).Draw(t, "noise") {
		case 0:
			b.WriteString("\n")
		case 1:
			b.WriteString("   # a remark | \"\n")
		}
	}
	indent := strings.Repeat(" ", rapid.IntRange(1, 4).Draw(t, "indent"))
	line := func(level int, words ...string) {
		noise()
		b.WriteString(strings.Repeat(indent, level) + strings.Join(words, gap()))
		if rapid.IntRange(0, 6).Draw(t, "remark") == 0 && !strings.HasPrefix(words[0], "|") {
			b.WriteString(gap() + "# why")
		}
		b.WriteString("\n")
	}
	title := rapid.StringMatching(`[a-z "\\#|]{0,8}[a-z]`)
	line(0, "runbook", quote(title.Draw(t, "title")))
	line(1, append([]string{"window"}, rapid.SampledFrom([][]string{{"01:30", "for", "2h"}, {"none"}, {"Wed", "01:30", "for", "2h", "in", "Europe/Berlin"}, {"2026-12-02", "01:30", "for", "2h"}}).Draw(t, "window")...)...)
	sections := []func(){
		func() {
			line(0, "ask")
			for i := range rapid.IntRange(1, 3).Draw(t, "asks") {
				line(1, fmt.Sprintf("value_%d", i), "number", "1..9", quote(title.Draw(t, "prompt")), "=", "3")
			}
			line(1, "other", "choice", "red", ",", "blue", quote("Which"))
		},
		func() { line(0, "scope"); line(1, `role == "a  #  b"`); line(1, "true") },
		func() { line(0, "timer", rapid.SampledFrom([]string{"none", "10m"}).Draw(t, "timer")) },
		func() { line(0, "precheck"); line(1, "storage", "at", "least", "3", "GB"); line(1, "reachable") },
		func() {
			line(0, "batches")
			line(1, "sizes", "1", ",", "50%")
			line(1, "per", "site", "3")
			line(1, "while", "held", "go", "on")
			line(1, "per", "uplink", "2")
			line(1, append([]string{"canaries"}, rapid.SampledFrom([][]string{{"one", "of", "each", "platform", "and", "role"}, {"a", ",", "b"}}).Draw(t, "canaries")...)...)
		},
		func() {
			for i := range rapid.IntRange(1, 2).Draw(t, "steps") {
				line(0, "step", quote(fmt.Sprint("step ", i)))
				if rapid.Bool().Draw(t, "loop") {
					line(1, "for", "n", "in", rapid.SampledFrom([]string{`red, "pale blue"`, `ports where n.label == "a  where b"`}).Draw(t, "through"))
				}
				text := "|" + rapid.StringMatching(`[ a-z#"]{0,6}[a-z]`).Draw(t, "text")
				switch rapid.IntRange(0, 2).Draw(t, "kind") {
				case 0:
					line(1, "send")
					line(2, text)
				case 1:
					line(1, "send")
					line(2, text)
					line(1, "undo", rapid.SampledFrom([]string{"", "first"}).Draw(t, "first"))
					line(2, "| <<name>>")
				case 2:
					line(1, "want")
					line(2, text)
					line(1, "no", "other", quote("log  host *"), ",", quote("a > <<name>> *"))
					line(1, "gone")
					line(2, text)
				}
				line(1, "expect", `a == " within 3s"`, "within", "5s")
			}
		},
	}
	for _, i := range rapid.Permutation([]int{0, 1, 2, 3, 4, 5}).Draw(t, "order") {
		sections[i]()
	}
	return b.String()
}

func FuzzParse(f *testing.F) {
	f.Add(quays(f))
	f.Add([]byte("runbook \"x\"\n  window now for 3m\nscope\n  config has \"a <<b\"\n"))
	f.Add([]byte("step\n  for n in 1..\n  send\n    | <<>>\n  expect within \n"))
	f.Add([]byte("runbook \"x\"\n  window now for 3m\nscope\n  site == \"ALD\"\nrecord ports, config\nstep \"Back\"\n  restore   \"2026-11-20 03:00\"\nfinish\n  compare ports: no loss\n"))
	f.Add([]byte("step\n  restore before night 21\nstep\n  restore without night 0\nstep\n  restore carried from ald-quay-1\nfinish\n  compare : no change within\n"))
	for i, src := range cutAtEachWord(f) {
		if i%7 == 0 { // of all of them, TestNoLineThatIsCutPanics takes each
			f.Add(src)
		}
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		rb, err := Parse("f", src)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		before := strip(rb)
		_ = rb.Compile(schema)
		out, err := Format("f", src)
		require.NoError(t, err)
		again, err := Parse("f", out)
		require.NoError(t, err, "%q became %q", src, out)
		require.Equal(t, before, strip(again))
	})
}
