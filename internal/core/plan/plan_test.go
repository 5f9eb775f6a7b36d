package plan

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/runbook"
)

var traits = map[string]Traits{"tern": {TellsName: true, Timer: RestartTimer, Restores: true, Saves: true, TellsSaved: true, Tables: schema.Tables, Boot: 20 * time.Second, Connect: 2 * time.Second, Command: 200 * time.Millisecond,
	Never: []*regexp.Regexp{regexp.MustCompile(`^restart\b`)}}}

const book = `runbook "x"
  window    01:30 for 2h45m
  reserve   20m
ask
  lan       number 2..4000  "LAN" = 310
scope
  role == "quay"
  site != "EYR"
batches
  sizes     1, 2, 50%
timer       10m
step "Lans"
  for       n in 1..3
  send
    | lan <<lan>> on <<n>> of <<name>>
  undo
    | drop lan <<lan>> on <<n>>
  expect    clock.settled within 90s
step "Only ALD"
  when      site == "ALD"
  send
    | hello
  undo
    | drop hello
finish
  soak      3m
`

var schema = runbook.Schema{Platforms: []string{"tern"}, Tables: map[string]runbook.Table{
	"clock": {Columns: map[string]runbook.ColumnType{"settled": runbook.YesNoColumn, "time": runbook.TimeColumn}}}}

func parse(t require.TestingT, text string) *runbook.Runbook {
	rb, err := runbook.Parse("x.runbook", []byte(text))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(schema))
	return rb
}

func read(t require.TestingT, csv string) *fleet.Fleet {
	f, err := fleet.Read("fleet.csv", []byte(csv), []string{"tern"})
	require.NoError(t, err)
	return f
}

var night = time.Date(2026, 12, 2, 1, 0, 0, 0, time.UTC)

const six = `name,address,platform,site,role,pair,via
a,192.0.2.1,tern,ALD,quay,p,
b,192.0.2.2,tern,ALD,quay,p standby,a
c,192.0.2.3,tern,BRM,quay,,
d,192.0.2.4,tern,BRM,quay,,c
e,192.0.2.5,tern,EYR,quay,,
f,192.0.2.6,tern,ALD,desk,,
`

func names(batches [][]*Target) string {
	var parts []string
	for _, b := range batches {
		var n []string
		for _, t := range b {
			n = append(n, t.Device.Name)
		}
		parts = append(parts, strings.Join(n, " "))
	}
	return strings.Join(parts, " | ")
}

func TestScopeBatchesAndLines(t *testing.T) {
	p, err := Make(parse(t, book), read(t, six), map[string]string{"lan": "310"}, traits, night)
	require.NoError(t, err)
	assert.Equal(t, "b | a c | d", names(p.Batches), "standby first, sizes 1, 2, 50 %")
	assert.Equal(t, []LeftOut{{Device: "e", Why: "site is EYR, wanted != EYR", Rule: "site is EYR"}, {Device: "f", Why: "role is desk, wanted quay", Rule: "role is not quay"}}, p.LeftOut)
	b := p.Batches[0][0]
	assert.Equal(t, []string{"lan 310 on 1 of b", "lan 310 on 2 of b", "lan 310 on 3 of b"}, b.Steps[0].Send)
	assert.Equal(t, []string{"drop lan 310 on 3", "drop lan 310 on 2", "drop lan 310 on 1"}, b.Steps[0].Undo, "a loop is undone from its end")
	assert.Len(t, b.Steps, 2)
	assert.Len(t, p.Batches[2][0].Steps, 1, "the second step is for ALD only")
	assert.Equal(t, night.Add(30*time.Minute), p.Window.Open)
}

func TestFarFirst(t *testing.T) {
	p, err := Make(parse(t, strings.Replace(book, "sizes     1, 2, 50%", "sizes     9\n  order     far first", 1)), read(t, six), map[string]string{"lan": "310"}, traits, night)
	require.NoError(t, err)
	assert.Equal(t, "b d a c", names(p.Batches))
}

func TestWhatCannotBePlannedIsAnErrorNow(t *testing.T) {
	for name, c := range map[string]struct{ old, new, answer, want string }{
		"answer":       {"", "", "9999", "lan: 9999 is not from 2 to 4000"},
		"empty scope":  {`role == "quay"`, `role == "boat"`, "310", "the scope selects no device"},
		"never":        {"| hello\n", "| restart\n", "310", `never lets a runbook send "restart"`},
		"empty value":  {"of <<name>>", "of <<pair>>", "310", "value pair is empty"},
		"scope":        {`site != "EYR"`, `int(name) > 3`, "310", `the scope cannot be settled: condition "int(name) > 3"`},
		"when":         {"when      site", "when      int(name) > 3 and site", "310", `step "Only ALD": condition`},
		"no step":      {"step \"Lans\"\n", "step \"Lans\"\n  when      site == \"ALD\"\n", "310", "c is in scope, but no step is for it"},
		"why so empty": {`role == "quay"`, `role == "boat"`, "310", "because role is quay, wanted boat"},
	} {
		_, err := Make(parse(t, strings.Replace(book, c.old, c.new, 1)), read(t, six), map[string]string{"lan": c.answer}, traits, night)
		assert.ErrorContains(t, err, c.want, name)
	}
}

// opens is when the window opens that a runbook has.
func opens(t *testing.T, window string, now time.Time) (Window, []string) {
	t.Helper()
	w, notes, err := newWindow(parse(t, strings.Replace(book, "01:30 for 2h45m", window, 1)), now)
	require.NoError(t, err, window)
	return w, notes
}

func TestWindowIsTheOneThatIsOpenOrTheNext(t *testing.T) {
	for _, c := range []struct{ window, now, open string }{
		{"01:30 for 2h45m", "2026-12-02T01:00:00Z", "2026-12-02T01:30:00Z"},
		{"01:30 for 2h45m", "2026-12-02T01:30:00Z", "2026-12-02T01:30:00Z"},
		{"01:30 for 2h45m", "2026-12-02T04:14:59Z", "2026-12-02T01:30:00Z"},
		{"01:30 for 2h45m", "2026-12-02T04:15:00Z", "2026-12-03T01:30:00Z"},
		{"23:00 for 3h", "2026-12-02T01:00:00Z", "2026-12-01T23:00:00Z"}, // over midnight
		{"Thu 01:30 for 2h", "2026-12-02T01:00:00Z", "2026-12-03T01:30:00Z"},
		{"wednesday 01:30 for 2h", "2026-12-02T01:00:00Z", "2026-12-02T01:30:00Z"},
		{"Wed 01:30 for 2h", "2026-12-02T03:30:00Z", "2026-12-09T01:30:00Z"},
		{"Tue 23:00 for 3h", "2026-12-02T01:00:00Z", "2026-12-01T23:00:00Z"},
		{"2026-12-24 01:30 for 2h", "2026-12-02T01:00:00Z", "2026-12-24T01:30:00Z"},
		{"01:30 for 2h in Europe/Berlin", "2026-12-02T01:00:00Z", "2026-12-02T01:30:00+01:00"},
		{"2026-12-24 01:30 for 2h in America/New_York", "2026-12-02T01:00:00Z", "2026-12-24T01:30:00-05:00"},
	} {
		at, err := time.Parse(time.RFC3339, c.now)
		require.NoError(t, err)
		w, notes := opens(t, c.window, at)
		assert.Equal(t, c.open, w.Open.Format(time.RFC3339), c.window)
		assert.Empty(t, notes)
	}
	_, _, err := newWindow(parse(t, strings.Replace(book, "01:30 for 2h45m", "2026-12-01 01:30 for 2h", 1)), night)
	assert.ErrorContains(t, err, "the window of 2026-12-01 closed at 03:30 UTC: give it another day")
	_, err = Make(parse(t, strings.Replace(book, "01:30 for 2h45m", "2026-12-01 01:30 for 2h", 1)), read(t, six), map[string]string{"lan": "310"}, traits, night)
	assert.ErrorContains(t, err, "x.runbook:2: the window of 2026-12-01 closed")
}

// On the nights the clocks change, a window is where its clock says, as long as it says;
// a time that is not there, or there twice, is told.
func TestWindowsOnTheNightsTheClocksChange(t *testing.T) {
	spring, autumn := time.Date(2026, 3, 28, 20, 0, 0, 0, time.UTC), time.Date(2026, 10, 24, 20, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		window    string
		now       time.Time
		open, end string // in UTC
		note      string
	}{
		{"01:30 for 2h45m in Europe/Berlin", spring, "00:30", "03:15", ""},
		{"23:30 for 2h45m in Europe/Berlin", spring, "22:30", "01:15", ""},
		{"02:30 for 1h in Europe/Berlin", spring, "01:30", "02:30", "02:30 is not there: the window opens at 03:30 CEST"},
		{"01:30 for 2h45m in Europe/Berlin", autumn, "23:30", "02:15", ""},
		{"02:30 for 1h in Europe/Berlin", autumn, "00:30", "01:30", "02:30 is there twice: the window opens the first time, at 02:30 CEST"},
		{"03:30 for 1h in Europe/Berlin", autumn, "02:30", "03:30", ""},
	} {
		w, notes := opens(t, c.window, c.now)
		assert.Equal(t, c.open+" "+c.end, w.Open.UTC().Format("15:04")+" "+w.Close.UTC().Format("15:04"), "%s %s", c.window, c.now)
		if c.note == "" {
			assert.Empty(t, notes, c.window)
		} else {
			require.Len(t, notes, 1, c.window)
			assert.Contains(t, notes[0], c.note)
		}
	}
}

// Without a window nothing has to be over by any time, and that is said.
func TestNoWindow(t *testing.T) {
	p, err := Make(parse(t, strings.NewReplacer("01:30 for 2h45m", "none", "  reserve   20m\n", "").Replace(book)), read(t, six), map[string]string{"lan": "310"}, traits, night)
	require.NoError(t, err)
	assert.True(t, p.Window.None)
	assert.Equal(t, "no window: nothing must be over by any time, and there is no turn-back time", p.Warnings[0])
	o := p.Begun(night.Add(time.Hour)).Forecast(Progress{Now: night.Add(time.Hour)})
	assert.Equal(t, 1.0, o.Stays)
	for i, s := range o.Slots {
		assert.True(t, s.TurnBack.IsZero())
		assert.True(t, p.TurnBack(i, night, Pace{}).IsZero())
		assert.True(t, p.LastStart(p.Batches[i][0], i, Pace{}).IsZero())
	}
}

func TestTimerOutlastsTheWork(t *testing.T) {
	p, err := Make(parse(t, strings.Replace(book, "timer       10m", "timer       1m", 1)), read(t, six), map[string]string{"lan": "310"}, traits, night)
	require.NoError(t, err)
	for _, target := range p.Targets() {
		_, worst := target.Work(p.Soak)
		assert.GreaterOrEqual(t, target.TimerFor(p), worst+Margin-time.Second)
	}
	assert.Contains(t, strings.Join(p.Warnings, "\n"), "the timer of 1m is shorter than the work it guards")
}

// drawPlan plans a random fleet under random rules.
func drawPlan(t *rapid.T) *Plan {
	var csv strings.Builder
	csv.WriteString("name,address,platform,site,role,pair,via\n")
	n := rapid.IntRange(1, 30).Draw(t, "devices")
	for i := range n {
		pair := ""
		if rapid.IntRange(0, 3).Draw(t, "pair") == 0 && i%2 == 1 {
			pair = fmt.Sprintf("p%d", i)
		}
		fmt.Fprintf(&csv, "d%d,192.0.2.%d,tern,%s,quay,%s,\n", i, i+1, rapid.SampledFrom([]string{"ALD", "BRM", "CLD"}).Draw(t, "site"), pair)
		if pair != "" {
			fmt.Fprintf(&csv, "e%d,198.51.100.%d,tern,ALD,quay,%s standby,\n", i, i+1, pair)
		}
	}
	rules := "sizes     " + strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"1", "3", "25%", "100%"}), 1, 3).Draw(t, "sizes"), ", ")
	for _, extra := range []string{"\n  pairs     apart", "\n  together  4", "\n  per site  2", "\n  order     far first"} {
		if rapid.Bool().Draw(t, extra) {
			rules += extra
		}
	}
	p, err := Make(parse(t, strings.Replace(book, "sizes     1, 2, 50%", rules, 1)), read(t, csv.String()), map[string]string{"lan": "310"}, traits, night)
	require.NoError(t, err)
	return p
}

// The arithmetic of the window: batches follow each other without gaps, a
// slower pace never ends earlier, the nine-in-ten end is not before the likely
// one, and a batch that starts by its turn-back time can be taken back, with all
// before it, before the window closes, without touching the reserve to work in.
func TestWindowProperties(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := drawPlan(t)
		start := p.Window.Open.Add(time.Duration(rapid.IntRange(0, 7200).Draw(t, "start")) * time.Second)
		var pace, slower Pace
		usual, share := 100*time.Second, rapid.Float64Range(0.2, 5).Draw(t, "pace")
		for range rapid.IntRange(0, 5).Draw(t, "seen") {
			pace.Add(toDuration(usual.Seconds()*share), usual)
			slower.Add(toDuration(usual.Seconds()*share*1.5), usual)
		}
		o := p.Forecast(Progress{Now: start, Pace: pace})
		require.Len(t, o.Slots, len(p.Batches))
		at := start
		for i, s := range o.Slots {
			require.Equal(t, at, s.Start)
			require.True(t, s.End.After(s.Start))
			require.False(t, s.Late.Before(s.End))
			at = s.End
			back := p.BackTime(p.Targets()[:countTo(p, i)])
			require.False(t, s.TurnBack.Add(back).After(p.Window.Close))
			require.True(t, s.TurnBack.Before(p.Window.Close.Add(-p.Window.Reserve)))
			require.WithinDuration(t, s.TurnBack, p.TurnBack(i, start, pace), 2*time.Minute)
		}
		require.Equal(t, at, o.Likely)
		require.False(t, o.Late.Before(o.Likely))
		require.False(t, p.Forecast(Progress{Now: start, Pace: slower}).Likely.Before(o.Likely))
		require.Equal(t, o, p.Forecast(Progress{Now: start, Pace: pace}), "the same question, the same answer")
	})
}

func countTo(p *Plan, batch int) int {
	n := 0
	for _, b := range p.Batches[:batch+1] {
		n += len(b)
	}
	return n
}
