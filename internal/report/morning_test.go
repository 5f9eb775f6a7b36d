package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// aNight is the events of a night of n devices in two batches. Of every hundred one is
// taken back by decision, one is blocked, and the last device of all is stranded.
func aNight(n int) []night.Event {
	open := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	o := &night.Outline{Title: "Move the quays", Change: "MSF-2291", Window: plan.Window{Open: open, Close: open.Add(2 * time.Hour), Reserve: 20 * time.Minute},
		LeftOut: []plan.LeftOut{{Device: "ops-1", Why: "role is core, wanted quay"}}, Values: []plan.Value{{Name: "gate_lan", Prompt: "Gate LAN", Value: "310", Usual: true}},
		Waivers: []plan.Waiver{{Check: "clock", Device: "q-0002", Reason: "its battery is dead", By: "ada"}}, Batches: make([][]night.OutlineDevice, 2)}
	name := func(i int) string { return fmt.Sprintf("q-%04d", i) }
	for i := range n {
		b := min(i, 1)
		o.Batches[b] = append(o.Batches[b], night.OutlineDevice{Name: name(i), Site: []string{"ALD", "BRM"}[i%2], Role: "quay", Platform: "tern", Steps: []string{"Log collector"}})
	}
	var out []night.Event
	at := open
	add := func(e night.Event) {
		e.Seq, e.At = int64(len(out)+1), at
		out = append(out, e)
	}
	add(night.Event{Kind: night.Planned, Outline: o})
	add(night.Event{Kind: night.Began, By: "ada"})
	add(night.Event{Kind: night.Forecast, Due: open.Add(50 * time.Minute)})
	for b, batch := range o.Batches {
		add(night.Event{Kind: night.BatchBegan, Batch: b + 1})
		for i, d := range batch {
			at = at.Add(100 * time.Millisecond)
			k, last := b+i, b == 1 && i == len(batch)-1
			dev := func(e night.Event) { e.Device = d.Name; add(e) }
			dev(night.Event{Kind: night.Moved, State: night.Checking})
			if k%100 == 7 {
				dev(night.Event{Kind: night.Moved, State: night.Blocked, Note: "saved: it has unsaved changes: + lan 4", OK: true})
				continue
			}
			if k == 2 {
				dev(night.Event{Kind: night.Prechecked, What: "clock", Note: "off by 3m", Waived: "its battery is dead", By: "ada"})
			}
			dev(night.Event{Kind: night.Prediction, OK: true, Lines: []string{"+ log host 198.51.100.14"}})
			dev(night.Event{Kind: night.Moved, State: night.Recording})
			dev(night.Event{Kind: night.BackedUp, What: "backups/" + d.Name + "/2026-12-02T013000Z.cfg", Note: strings.Repeat("a", 64)})
			dev(night.Event{Kind: night.Moved, State: night.Changing})
			dev(night.Event{Kind: night.Stepped, Step: 1, What: night.StepBegan})
			at = at.Add(time.Second)
			switch {
			case last:
				dev(night.Event{Kind: night.Moved, State: night.Stranded, Note: "could not be taken back", OK: true})
				continue
			case k%100 == 5:
				dev(night.Event{Kind: night.Moved, State: night.Held, Note: `line 1 of "Log collector" was refused`})
				dev(night.Event{Kind: night.HoldOpened, Hold: k, Note: `line 1 of "Log collector" was refused`, Lines: []string{"sent: log host 198.51.100.14", "said: no & <room> ]]>"}})
				dev(night.Event{Kind: night.HoldClosed, Hold: k, Choice: night.BackDevice, By: "ada", Note: "seen before"})
				dev(night.Event{Kind: night.Moved, State: night.Reverting})
				dev(night.Event{Kind: night.Moved, State: night.Reverted, Note: "equal to the backup", OK: true})
				continue
			}
			dev(night.Event{Kind: night.Stepped, Step: 1, What: night.StepDone})
			dev(night.Event{Kind: night.Differs, Lines: []string{"+ log host 198.51.100.14"}})
			dev(night.AtTheEnd(true, nil))
			dev(night.Event{Kind: night.Shelved, What: "backups/" + d.Name + "/2026-12-02T013100Z.cfg", Note: strings.Repeat("b", 64), OK: true})
			dev(night.Event{Kind: night.Moved, State: night.Kept, Note: "kept and saved; as predicted", OK: true})
		}
		add(night.Event{Kind: night.BatchEnded, Batch: b + 1})
	}
	add(night.Event{Kind: night.Ended})
	return out
}

// A device that is held twice is told as it was held last, with when that was.
func TestWhatADeviceWasHeldForLast(t *testing.T) {
	events := aNight(2)
	last := events[len(events)-1]
	hold := func(n int, after time.Duration, why string) night.Event {
		return night.Event{At: last.At.Add(after), Kind: night.HoldOpened, Device: "q-0001", Hold: n, Note: why, Lines: []string{why}}
	}
	m := MorningOf(21, "/ws/quays.runbook", "c0ffee", append(events[:len(events)-1], hold(801, 0, "ready"), hold(802, time.Minute, "worked by hand"), last))
	for _, f := range m.Failures {
		if f.Device == "q-0001" {
			assert.Equal(t, Failure{Device: "q-0001", Site: "BRM", At: last.At.Add(time.Minute), State: f.State, Cause: "worked by hand",
				Why: "worked by hand", Evidence: []string{"worked by hand"}}, f)
			return
		}
	}
	assert.Fail(t, "the device is not told of", "%v", m.Failures)
}

func TestTheReportOfANight(t *testing.T) {
	m := MorningOf(21, "/ws/quays.runbook", "c0ffee", aNight(24))
	assert.Equal(t, int(night.NeedsPerson), m.Code)
	assert.Equal(t, "Of 24 devices, 21 kept, 1 blocked, 1 reverted, 1 stranded. 1 device must be looked at by a person.", m.Outcome)
	assert.Len(t, m.Devices, 24)
	assert.Len(t, m.Failures, 3)
	assert.Equal(t, []Waived{{"clock", "q-0002", "ada", "its battery is dead", true}}, m.Waivers)
	require.Len(t, m.Decisions, 1)
	assert.Equal(t, `line 1 of "Log collector" was refused`, m.Decisions[0].Why)
	assert.Equal(t, "seen before", m.Decisions[0].Reason)
	assert.InDelta(t, 0.0035, m.Window.Used, 0.001)
	causes, sites := m.Causes()
	assert.Len(t, causes, 3)
	assert.Contains(t, causes, Counted{"saved", 1})
	assert.Equal(t, 3, sites[0].N+sum(sites[1:]))
	text := strings.Join(MorningDocument(m).Markdown(), "\n")
	assert.Contains(t, text, "Of 1 device it is not known: q-0023.", "what was not seen is not called equal")
	for _, want := range []string{
		"# Move the quays\n", "| Change | MSF-2291 |", "| Run by | ada |", "## Left to do\n\n- q-0005 reverted: equal to the backup",
		"### q-0023: stranded", "said: no & <room> ]]>", "### 21 devices", "+ log host 198.51.100.14", "| gate\\_lan | Gate LAN | 310 | the runbook's own |",
		"| ada | take back the device | q-0005: line 1 of \"Log collector\" was refused | seen before |", "| clock | q-0002 | ada | its battery is dead | passed by it |",
		"batch 1    01:30:00", "| q-0000 | ALD | tern | 1 | kept |", "| ops-1 | role is core, wanted quay |", "c0ffee", strings.Repeat("b", 64) + "  q-0000/2026-12-02T013100Z.cfg",
	} {
		assert.Contains(t, strings.ReplaceAll(text, time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC).Local().Format("15:04:05"), "01:30:00"), want)
	}
}

func sum(list []Counted) (n int) {
	for _, c := range list {
		n += c.N
	}
	return n
}

// A night that runs is not one that was cut off, and what it leaves is not known.
func TestTheReportOfANightThatRuns(t *testing.T) {
	all := aNight(24)
	m := MorningOf(21, "q.runbook", "", all[:len(all)/2])
	m.StillRuns()
	assert.Contains(t, m.Outcome, "The night runs now. As far as it has come, of ")
	for _, no := range []string{"never saw its end", "Nothing is left to do", "must be looked at"} {
		assert.NotContains(t, m.Outcome, no)
	}
	doc := strings.Join(MorningDocument(m).Markdown(), "\n")
	assert.Contains(t, doc, "what it leaves is known at its end")
	assert.NotContains(t, doc, "Nothing.")
}

// What a night that crashed, or of which only a part can be read, came to is said as far
// as it is known.
func TestTheReportOfHalfANight(t *testing.T) {
	all := aNight(24)
	for i := range all {
		m := MorningOf(21, "q.runbook", "", all[:i])
		if i == 0 {
			assert.Equal(t, "nothing of it can be read", m.Outcome)
			continue
		}
		assert.Contains(t, m.Outcome, "never saw its end")
		assert.NotContains(t, m.Outcome, "All went as intended")
		doc := strings.Join(MorningDocument(m).Markdown(), "\n")
		assert.NotEmpty(t, doc)
		assert.NotContains(t, doc, " to , ", "an end that nobody saw is not an empty one")
		for _, d := range m.Devices {
			if d.Result == night.Waiting {
				assert.Equal(t, "nothing sent", d.DiffersBy(), "of %s nobody has read by how much it differs", d.Name)
			}
		}
		if slices.ContainsFunc(m.Devices, func(d DeviceReport) bool { return !d.Result.Ended() }) {
			assert.NotEmpty(t, m.Todo)
			assert.NotContains(t, m.Outcome, "Nothing is left to do")
			assert.NotContains(t, doc, "Nothing.")
		}
		assert.NoError(t, m.JUnit(io.Discard))
		assert.NoError(t, m.WriteCSV(io.Discard))
		_, err := json.Marshal(m)
		assert.NoError(t, err)
	}
}

// As pipelines read it: every device once, and what its numbers say is what stands in it.
func TestJUnit(t *testing.T) {
	m := MorningOf(21, "q.runbook", "", aNight(24))
	m.Devices[3].Note = "a control \x1b and ]]> in it"
	var b strings.Builder
	require.NoError(t, m.JUnit(&b))
	var got struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Errors   int `xml:"errors,attr"`
		Suites   []struct {
			Tests int    `xml:"tests,attr"`
			Stamp string `xml:"timestamp,attr"`
			Cases []struct {
				Name    string    `xml:"name,attr"`
				Time    float64   `xml:"time,attr"`
				Failure *struct{} `xml:"failure"`
				Error   *struct{} `xml:"error"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal([]byte(b.String()), &got))
	var names []string
	failures, errors := 0, 0
	for _, s := range got.Suites {
		assert.Len(t, s.Cases, s.Tests)
		_, err := time.Parse("2006-01-02T15:04:05", s.Stamp)
		assert.NoError(t, err)
		for _, c := range s.Cases {
			names = append(names, c.Name)
			if c.Failure != nil {
				failures++
			}
			if c.Error != nil {
				errors++
			}
		}
	}
	assert.Equal(t, 24, got.Tests)
	assert.Len(t, names, 24)
	assert.True(t, slices.IsSorted(names))
	assert.Equal(t, 2, got.Failures)
	assert.Equal(t, 1, got.Errors)
	assert.Equal(t, got.Failures, failures)
	assert.Equal(t, got.Errors, errors)
}

func TestCSVOfDevices(t *testing.T) {
	m := MorningOf(21, "q.runbook", "", aNight(24))
	m.Devices[0].Note = "=cmd()"
	var b strings.Builder
	require.NoError(t, m.WriteCSV(&b))
	rows, err := csv.NewReader(strings.NewReader(b.String())).ReadAll()
	require.NoError(t, err)
	assert.Len(t, rows, 25)
	assert.Equal(t, "'=cmd()", rows[1][6], "no spreadsheet takes it for a formula")
}

func BenchmarkMorning5000(b *testing.B) {
	events := aNight(5000)
	for b.Loop() {
		m := MorningOf(21, "q.runbook", "", events)
		MorningDocument(m)
	}
}

// As others render it: every device stands in a cell of its own, code stays code, and no
// sign of Markdown that was in a text becomes one.
func TestTheMarkdownRenders(t *testing.T) {
	m := MorningOf(21, "q.runbook", "", aNight(24))
	m.Devices[4].Note, m.Title = "a|b *bold* <b>x</b>", "Gates | <clocks> *now*"
	m.Todo = append(m.Todo, "a|b *bold* <script>")
	var out bytes.Buffer
	md := goldmark.New(goldmark.WithExtensions(extension.GFM))
	require.NoError(t, md.Convert([]byte(strings.Join(MorningDocument(m).Markdown(), "\n")), &out))
	html := out.String()
	for _, d := range m.Devices {
		assert.Contains(t, html, "<td>"+d.Name+"</td>")
	}
	for _, h := range []string{"Left to do", "What went wrong", "What is different now", "Who decided what", "Timeline", "Every device", "Checksums"} {
		assert.Contains(t, html, "<h2>"+h+"</h2>")
	}
	assert.Contains(t, html, "<h1>Gates | &lt;clocks&gt; *now*</h1>")
	assert.NotContains(t, html, "<script>")
	assert.NotContains(t, html, "<em>")
	assert.NotContains(t, html, "|---")
	assert.Equal(t, strings.Count(html, "<pre><code"), strings.Count(html, "</code></pre>"))
}

// Who must be looked at is counted once, also where what was to be sent to it is known; and
// of a device that was only armed nobody says by how many lines it differs.
func TestWhoMustBeLookedAtIsCountedOnce(t *testing.T) {
	at := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	o := &night.Outline{Title: "Quays", Batches: [][]night.OutlineDevice{{{Name: "a", Steps: []string{"x"}}, {Name: "b", Steps: []string{"x"}}, {Name: "c", Steps: []string{"x"}}}}}
	events := []night.Event{{Kind: night.Planned, Outline: o}, {Kind: night.Began}, {Kind: night.BatchBegan, Batch: 1}}
	add := func(device string, es ...night.Event) {
		for _, e := range es {
			e.Device = device
			events = append(events, e)
		}
	}
	armed := night.Event{Kind: night.Intent, What: night.ToArm, For: 10 * time.Minute}
	sent := night.Event{Kind: night.Intent, What: night.ToSend, Step: 1, Lines: []string{"x"}}
	add("a", night.Event{Kind: night.Moved, State: night.Checking}, armed, sent, night.Event{Kind: night.Moved, State: night.Stranded, OK: true})
	add("b", night.Event{Kind: night.Moved, State: night.Checking}, armed, night.Event{Kind: night.Moved, State: night.Blocked, OK: true})
	add("c", night.Event{Kind: night.Moved, State: night.Checking}, armed, sent, night.Event{Kind: night.Moved, State: night.Changing})
	for i := range events {
		events[i].Seq, events[i].At = int64(i+1), at.Add(time.Duration(i)*time.Second)
	}
	cut := MorningOf(21, "q.runbook", "", events)
	assert.Contains(t, cut.Outcome, "2 devices must be looked at by a person", "a is stranded, c was cut off")
	n := night.Fold(night.Night{}, events...)
	assert.Contains(t, Crashed(&n), ", 1 in change; then: ", "of a it is known how its night ended")

	ended := MorningOf(21, "q.runbook", "", append(events[:len(events)-1:len(events)-1],
		night.Event{Kind: night.Moved, Device: "c", State: night.Kept, OK: true, At: at.Add(time.Minute)}, night.Event{Kind: night.Ended, At: at.Add(time.Minute)}))
	assert.Contains(t, ended.Outcome, "1 device must be looked at by a person")
	assert.Equal(t, []string{NotKnown, "nothing sent", "0 lines"}, []string{ended.Devices[0].DiffersBy(), ended.Devices[1].DiffersBy(), ended.Devices[2].DiffersBy()})
}
