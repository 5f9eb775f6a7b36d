package plan

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/runbook"
)

var update = flag.Bool("update", false, "write the plans anew")

// harbour has what a plan can meet: sites of different sizes, pairs whole and in part,
// ways through other devices, two kinds of platform, clear text.
const harbour = `name,address,platform,site,role,pair,via,protocol,port_no
ald-1,192.0.2.1,tern,ALD,quay,,,,7
ald-2,192.0.2.2,tern,ALD,quay,ald,ald-1,,7
ald-3,192.0.2.3,tern,ALD,quay,ald standby,ald-1,,8
ald-4,192.0.2.4,tern,ALD,quay,,ald-2,,7
brm-1,192.0.2.5,tern,BRM,quay,brm,,telnet,7
brm-2,192.0.2.6,tern,BRM,quay,brm,brm-1,,9
cld-1,192.0.2.7,rook,CLD,quay,cld,,,7
ops-1,192.0.2.8,tern,OPS,desk,cld,,,7
eyr-1,192.0.2.9,tern,EYR,quay,,,,7
`

var told = map[string]struct {
	edit    func(string) string
	waivers []Waiver
}{
	"as written": {},
	"slow and apart": {edit: strings.NewReplacer("sizes     1, 2, 50%", "sizes     2, 3\n  together  2\n  per site  1\n  pairs     apart, standby first\n  order     far first\n  hold      after batch 1, 2\n  stop      after 4 failures",
		"timer       10m", "timer       30s").Replace},
	"too late": {edit: strings.NewReplacer("window    01:30 for 2h45m\n  reserve   20m", "window    01:30 for 30m\n  reserve   25m", "sizes     1, 2, 50%", "sizes     1\n  stop      never").Replace},
	"waived": {edit: strings.NewReplacer("timer       10m", "precheck\n  clock     within 30s\n  storage   off\n  check     \"Named\" where name != \"\"\ntimer       10m").Replace,
		waivers: []Waiver{{Check: "clock", Device: "ald-2", Reason: "its battery is dead", By: "ada"}, {Check: "Named", Device: "ald-1", Reason: "a drill", By: "ada"}}},
	"no timer": {edit: strings.NewReplacer("timer       10m\ntimer       none on rook", "timer       none", "soak      3m", "soak      10s").Replace},
	"now":      {edit: strings.NewReplacer("01:30 for", "now for").Replace},
}

// TestPlansToldInFull holds every figure and every word of some plans. They stand in
// testdata, to be read; whoever writes them anew answers for each line that changes.
func TestPlansToldInFull(t *testing.T) {
	terms := map[string]Traits{"tern": withRook["tern"], "rook": withRook["rook"]}
	tern, rook := terms["tern"], terms["rook"]
	rook.Tables = map[string]runbook.Table{"clock": {Columns: map[string]runbook.ColumnType{"time": runbook.TimeColumn}}}
	terms["rook"] = rook
	tern.ClearText = false
	terms["tern"] = tern
	for name, c := range told {
		t.Run(name, func(t *testing.T) {
			text := strings.NewReplacer("timer       10m", "timer       10m\ntimer       none on rook",
				"  expect    clock.settled within 90s\n", "  on tern\n    send\n      | lan <<lan>> on <<n>> of <<name>>\n    undo\n      | drop lan <<lan>> on <<n>>\n    expect    clock.settled within 90s\n  on rook\n    send\n      | rook <<n>>\n    undo\n      | unrook\n",
				"  send\n    | lan <<lan>> on <<n>> of <<name>>\n  undo\n    | drop lan <<lan>> on <<n>>\n", "").Replace(book)
			text = strings.Replace(text, "finish\n", "step \"Ports\"\n  needs     \"Lans\"\n  already   when config has \"port <<port_no>> > lan <<lan>>\"\n  send\n    | port <<port_no>>\n    | lan <<lan>>\n  undo\n    | port <<port_no>>\n    | drop lan\nfinish\n", 1)
			if c.edit != nil {
				text = c.edit(text)
			}
			rb, err := runbook.Parse("x.runbook", []byte(text))
			require.NoError(t, err, text)
			require.NoError(t, rb.Compile(Schema(terms, &fleet.Fleet{Columns: []string{"port_no"}})))
			f, err := fleet.Read("fleet.csv", []byte(harbour), []string{"tern", "rook"})
			require.NoError(t, err)
			p, err := Make(rb, f, map[string]string{"lan": "310"}, terms, night)
			require.NoError(t, err)
			require.NoError(t, p.Waive(c.waivers))
			got := tellPlan(p)
			path := filepath.Join("testdata", "plan-"+strings.ReplaceAll(name, " ", "-")+".txt")
			if *update {
				require.NoError(t, os.MkdirAll("testdata", 0o755))
				require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
				return
			}
			want, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.Equal(t, string(want), got)
		})
	}
}

func tellPlan(p *Plan) string {
	var b strings.Builder
	at := func(t time.Time) string { return t.Format("02 15:04:05") }
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	say("%s, %s: window %s to %s, reserve %s, now %v; soak %s", p.Title, p.Change, at(p.Window.Open), at(p.Window.Close), p.Window.Reserve, p.Window.Now, p.Soak)
	say("rules %+v", p.Rules)
	say("values %+v, steps %q", p.Values, p.StepTitles)
	for _, l := range p.LeftOut {
		say("left out: %s: %s (%s)", l.Device, l.Why, l.Rule)
	}
	for _, w := range p.Warnings {
		say("warning: %s", w)
	}
	for _, pc := range p.Prechecks {
		waived := slices.ContainsFunc(p.Targets(), func(t *Target) bool {
			_, ok := p.Waived(pc.Name, t)
			return ok && t.Device.Name == "ald-2"
		})
		say("precheck %s: asked %v, off %v, waived on ald-2 %v", pc, p.Asks(pc.Name), p.Off(pc.Name), waived)
	}
	slow := Pace{}
	for range 3 {
		slow.Add(150*time.Second, 100*time.Second)
	}
	o := p.Forecast(Progress{Now: p.Window.Open, Pace: slow})
	slots := o.Slots
	say("half as slow again: pace %.2f, likely %s, late %s, stays %.2f", slow.Usual(), at(o.Likely), at(o.Late), o.Stays)
	for i, batch := range p.Batches {
		say("batch %d: %s to %s, turn back %s, at the usual pace %s, taking back %s", i+1, at(slots[i].Start), at(slots[i].End), at(slots[i].TurnBack), at(p.TurnBack(i, p.Window.Open, Pace{})), p.BackTime(batch))
		for _, t := range batch {
			usual, worst := t.Work(p.Soak)
			nightUsual, nightWorst := t.Night(p)
			mate := ""
			if t.Mate != nil {
				mate = t.Mate.Name
			}
			say("  %s: batch %d, partner %q, second %v, mate %q, clear text %v, distance %d, guarded %v, why %q; work %s to %s, night %s to %s, back %s, timer %s", t.Device.Name, t.Batch, t.Partner, t.Second, mate, t.ClearText,
				len(t.Above), p.Guards(t), t.Why, usual, worst, nightUsual, nightWorst, t.Back(), t.TimerFor(p))
			for i, s := range t.Steps {
				say("    %d %s needs %v: left %s, slow %s", s.Number, s.Title, s.Needs, t.Left(i, p.Soak), t.At(5*time.Second).Left(i, p.Soak))
				say("      send %q undo %q already %d expect %d", s.Send, s.Undo, len(s.Already), len(s.Expect))
			}
			say("    closing: left %s, slow back %s", t.Left(len(t.Steps), p.Soak), t.At(5*time.Second).Back())
		}
	}
	over := map[string]bool{}
	for _, t := range p.Batches[1][1:] {
		over[t.Device.Name] = true
	}
	o = p.Forecast(Progress{Now: p.Window.Open, Batch: 1, Over: over})
	say("from batch 2, one left: %d slots, likely %s, late %s", len(o.Slots), at(o.Likely), at(o.Late))
	return b.String()
}

// Waivers that mean nothing are refused, with what could be meant.
func TestWrongWaivers(t *testing.T) {
	for text, want := range map[string]string{
		"clock ald-quay-1":        "write CHECK on DEVICE: REASON",
		"clock on b: x":           "its reason says nothing",
		"clock on b: a drill":     "",
		"clock on zz: a drill":    `"zz" is not in scope`,
		"clocks on b: a drill":    `there is no precheck "clocks" here; write: clock`,
		"storage on b: a drill":   `there is no precheck "storage" here`,
		"reachable on b: drill":   "reachable cannot be waived on b",
		"saved on b: a drill":     "unsaved changes cannot be waived",
		" My check on b: a drill": "",
	} {
		p, err := Make(parse(t, strings.Replace(book, "timer       10m", "precheck\n  clock     within 30s\n  storage   off\n  saved\n  check     \"My check\" where name != \"\"\ntimer       10m", 1)),
			read(t, six), map[string]string{"lan": "310"}, traits, night)
		require.NoError(t, err)
		w, err := ParseWaiver(text, "ada")
		if err == nil {
			err = p.Waive([]Waiver{w})
		}
		if want != "" {
			assert.ErrorContains(t, err, want, text)
			continue
		}
		require.NoError(t, err, text)
		targets := map[string]*Target{}
		for _, t := range p.Targets() {
			targets[t.Device.Name] = t
		}
		got, ok := p.Waived(strings.TrimSpace(strings.Split(text, " on ")[0]), targets["b"])
		assert.True(t, ok)
		assert.Equal(t, "ada", got.By)
		_, other := p.Waived("clock", targets["a"])
		assert.False(t, other)
		assert.Contains(t, strings.Join(p.Warnings, "\n"), "is waived on b: a drill")
	}
}
