package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/runbook"
)

// toldEarlier says what the scope goes by of what devices told before tonight.
func (m *maker) toldEarlier() (out []string) {
	for _, says := range m.looks.Says() {
		out = append(out, "the scope goes by what devices told earlier: "+says)
	}
	if m.part != nil {
		for _, says := range m.part.Told.Says() {
			out = append(out, "what is chosen for tonight goes by what devices told earlier: "+says)
		}
	}
	return out
}

// warnings are what a person must know before the night begins.
func warnings(p *Plan) []string {
	var out []string
	for _, pc := range p.Prechecks {
		if pc.Off {
			out = append(out, "precheck "+pc.Name+" is switched off"+fromOr(pc))
		}
	}
	for _, l := range p.LeftOut {
		if l.Open {
			out = append(out, fmt.Sprintf("%s is left out, and may have what is to be taken back: %s", l.Device, l.Why))
		}
	}
	out = append(out, p.Collisions...)
	out = append(out, noSuchBatch(p)...)
	out = append(out, empties(p)...)
	out = append(out, deedsToKnow(p)...)
	out = append(out, lookedFrom(p)...)
	out = append(out, strangers(p.Targets())...)
	out = append(out, untold(p)...)
	out = append(out, takesBack(p)...)
	out = append(out, unguarded(p)...)
	out = append(out, unreadSaved(p)...)
	out = append(out, unjudged(p)...)
	if p.Rules.StopAfter == 0 {
		out = append(out, "stop never: however many devices fail, the run goes on to the next")
	}
	var clear []string
	for _, t := range slices.Concat(p.Targets(), p.Others()) {
		if t.ClearText && !slices.Contains(clear, t.Device.Name) {
			clear = append(clear, t.Device.Name)
		}
	}
	if len(clear) > 0 {
		out = append(
			out,
			fmt.Sprintf("clear text: all that is said with %s can be read on the way, the passwords too", strings.Join(clear, ", ")),
		)
	}
	if longer := longerTimers(p); longer != "" {
		out = append(out, longer)
	}
	out = append(out, needsNotSaid(p)...)
	if p.late = p.lastBatchTooLate(); p.late != "" {
		out = append(out, p.late)
	}
	return out
}

// takesBack says of which pairs the work moves more often than the change moves it.
func takesBack(p *Plan) []string {
	var pairs []string
	for _, t := range p.Targets() {
		if t.Second && t.Traits.TakesBack {
			pairs = append(pairs, fmt.Sprintf("%s (%s, %s)", t.Device.Pair, t.Partner, t.Device.Name))
		}
	}
	if len(pairs) == 0 {
		return nil
	}
	return []string{"a member that had the work takes it back by itself once it is there again, so where a change or a timer interrupts it the work moves twice: pair " + some(
		pairs,
	)}
}

// noSuchBatch says where the runbook holds after a batch that there is not.
func noSuchBatch(p *Plan) (out []string) {
	for _, n := range p.Rules.HoldAfter {
		if n >= len(p.Batches) {
			out = append(out, fmt.Sprintf("hold after batch %d: the last batch is %d, so it does not hold there", n, len(p.Batches)))
		}
	}
	return out
}

func fromOr(pc runbook.Precheck) string {
	if pc.From != "" {
		return " by " + pc.From
	}
	return ""
}

// unguarded says which devices are changed without a rollback timer, and what
// that means for them.
func unguarded(p *Plan) (out []string) {
	if p.Timer.None && slices.ContainsFunc(p.Targets(), (*Target).Touches) {
		out = append(out, "timer none: no device takes the change back by itself; a lost device means a visit")
	}
	count, restores := map[string]int{}, map[string]bool{}
	for _, t := range p.Targets() {
		if !p.Guards(t) && t.Touches() {
			count[t.Device.Platform]++
			restores[t.Device.Platform] = t.Traits.Restores
		}
	}
	for _, platform := range slices.Sorted(maps.Keys(count)) {
		if !p.Timer.None {
			out = append(out, fmt.Sprintf("timer none on %s: on %s nothing but we takes the change back; one that is lost in its change stays as it is until somebody is there",
				platform, devices(count[platform])))
		}
		if !restores[platform] {
			out = append(
				out,
				fmt.Sprintf("%s: no backup can be put back on it; only the undo lines lead back, and where they are refused a person must", platform),
			)
		}
	}
	return out
}

// unreadSaved says on which platforms it is never known whether a change is saved.
func unreadSaved(p *Plan) (out []string) {
	count, saves := map[string]int{}, map[string]bool{}
	for _, t := range p.Targets() {
		if !t.Traits.TellsSaved {
			count[t.Device.Platform]++
			saves[t.Device.Platform] = t.Traits.Saves
		}
	}
	for _, platform := range slices.Sorted(maps.Keys(count)) {
		text := fmt.Sprintf(
			"%s: what is saved cannot be read on %s; whether a change there outlives a restart is not known",
			platform,
			devices(count[platform]),
		)
		if !saves[platform] {
			text = fmt.Sprintf(
				"%s: nothing is saved on %s, and what is saved cannot be read; whether a change there outlives a restart is not known",
				platform,
				devices(count[platform]),
			)
		}
		if p.Asks("saved") {
			text += fmt.Sprintf("; the precheck saved blocks them unless it is waived: --waive \"saved on %s: REASON\"", platform)
		}
		out = append(out, text)
	}
	return out
}

func devices(n int) string {
	if n == 1 {
		return "1 device"
	}
	return fmt.Sprintf("%d devices", n)
}

// longerTimers says where the timer is armed for longer than the runbook says.
func longerTimers(p *Plan) string {
	longer, worst := 0, time.Duration(0)
	for _, t := range p.Targets() {
		if need := t.TimerFor(p); p.Guards(t) && need > p.Timer.Long(t.Device.Platform) {
			longer++
			worst = max(worst, need)
		}
	}
	if longer == 0 {
		return ""
	}
	what := "the timer of " + runbook.FormatDuration(p.Timer.For)
	if len(p.Timer.Of) > 0 {
		what = "the timer"
	}
	return fmt.Sprintf(
		"%s is shorter than the work it guards; it is armed for up to %s on %s",
		what,
		runbook.FormatDuration(worst),
		devices(longer),
	)
}

// lookedAt is how many devices of a platform are searched for steps that need
// each other: their lines differ in values, not in what mentions what.
const lookedAt = 3

// needsNotSaid finds steps whose lines or conditions mention what an earlier step
// makes, without saying that they need it. What a step makes are the lines that
// its undo takes away again.
func needsNotSaid(p *Plan) (out []string) {
	seen := map[[2]int]bool{}
	looked := map[string]int{}
	for _, t := range p.Targets() {
		if looked[t.Device.Platform]++; looked[t.Device.Platform] > lookedAt {
			continue
		}
		for i, a := range t.Steps {
			made := makes(a)
			for _, b := range t.Steps[i+1:] {
				if seen[[2]int{a.Number, b.Number}] || slices.Contains(b.Needs, a.Number) {
					continue
				}
				if line := mentions(b, made); line != "" {
					seen[[2]int{a.Number, b.Number}] = true
					out = append(
						out,
						fmt.Sprintf("step %q mentions %q, which step %q makes: if it is of no use without, write into it: needs %q", b.Title, line, a.Title, a.Title),
					)
				}
			}
		}
	}
	return p.maskedEach(out)
}

// makes lists the lines of a step that its undo takes away: those that stand
// within a longer undo line. A single word says too little to be found again.
func makes(s Step) (out []string) {
	for _, l := range s.Send {
		l = strings.Join(strings.Fields(l), " ")
		if !strings.Contains(l, " ") {
			continue
		}
		if slices.ContainsFunc(s.Undo, func(u string) bool { u = strings.Join(strings.Fields(u), " "); return u != l && phrase(u, l) }) {
			out = append(out, l)
		}
	}
	return out
}

// mentions finds the first of some lines that a step's lines or conditions
// mention.
func mentions(s Step, made []string) string {
	if len(made) == 0 {
		return ""
	}
	texts := slices.Clone(s.Send)
	for _, c := range s.Already {
		texts = append(texts, c.Cond.Asks(c.Env)...)
	}
	for _, e := range s.Expect {
		texts = append(texts, e.Cond.Asks(e.Env)...)
	}
	for _, m := range made {
		for _, text := range texts {
			if phrase(strings.Join(strings.Fields(text), " "), m) {
				return m
			}
		}
	}
	return ""
}

// phrase tells whether words stand together in a text.
func phrase(text, words string) bool { return strings.Contains(" "+text+" ", " "+words+" ") }
