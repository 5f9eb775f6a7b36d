package acts

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/textfile"
	"metabasis/internal/report"
	"metabasis/internal/workspace"
)

// Restoring says what is to be put back, and on which devices. It becomes a runbook: a
// restore is a night like any other.
type Restoring struct {
	At     time.Time // what they had then; zero where a night is named
	Night  int64     // or what they had before that night
	Back   bool      // of that night only what it did is taken back
	Words  []string  // the devices: names, a condition, saved selections; none are all
	Fleet  string    // a fleet file in place of the workspace's; "" is that one
	Window string    // such as "01:30 for 2h45m"; "" is none
	Change string    // the number of the change; "" is none
	Soak   time.Duration
	// Like is a runbook whose head the restore takes: its window, batches, prechecks,
	// timer and end. "" takes what is usual.
	Like string
	// Called is the title, where it is not said by what is put back.
	Called string
}

// Title says what is put back.
func (r Restoring) Title() string {
	switch {
	case r.Called != "":
		return r.Called
	case r.Back:
		return fmt.Sprintf("Take back night %d", r.Night)
	case r.Night > 0:
		return fmt.Sprintf("Restore what was before night %d", r.Night)
	}
	layout := runbook.RestoreTime
	if r.At.Add(1).Truncate(time.Minute).Equal(r.At.Add(1)) { // a minute was named, which means its end
		layout = "2006-01-02 15:04"
	}
	return "Restore what was at " + r.At.Local().Format(layout)
}

// spec is the restore as a runbook says it.
func (r Restoring) spec() runbook.Restore {
	return runbook.Restore{At: r.At, Night: r.Night, Without: r.Back}
}

// RestoreText writes the runbook of a restore.
func (d *Desk) RestoreText(r Restoring) (string, error) {
	e, err := d.Select(r.Fleet, r.Words)
	if err != nil {
		return "", err
	}
	step := fmt.Sprintf("step %s\n  restore   %s\n", strconv.Quote(r.Title()), r.spec())
	head := d.usualHead(r, e)
	if r.Like != "" {
		if head, err = likeHead(r); err != nil {
			return "", err
		}
	}
	text := head[0] + "\n\n" + scopeOf(e) + "\n\n" + head[1] + "\n\n" + step + "\n" + head[2]
	tidy, err := runbook.Format(restoreName, []byte(text))
	return string(tidy), err
}

// scopeOf writes the devices of an evening as a scope.
func scopeOf(e *Evening) string {
	var names []string
	for _, d := range e.Scope.Devices {
		names = append(names, d.Name)
	}
	switch {
	case len(names) == len(e.Fleet.Devices):
		return "scope\n  true"
	case e.Scope.Condition:
		return "scope\n  " + e.Scope.Source
	}
	return "scope\n  " + namesIn(names)
}

// namesIn is the condition that holds for devices of these names.
func namesIn(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = strconv.Quote(n)
	}
	return "name in [" + strings.Join(quoted, ", ") + "]"
}

// usualHead is what stands before the scope, behind it, and at the end, where no runbook
// gives it.
func (d *Desk) usualHead(r Restoring, e *Evening) [3]string {
	top := "runbook " + strconv.Quote(r.Title())
	if r.Change != "" {
		top += "\n  change    " + r.Change
	}
	if window := r.Window; window != "" {
		top += "\n  window    " + window
	} else {
		top += "\n  window    none"
	}
	traits, unguarded := d.Profiles.Traits(), []string{}
	for _, dev := range e.Scope.Devices {
		if p := dev.Platform; !traits[p].Timer.Guards() && !slices.Contains(unguarded, p) {
			unguarded = append(unguarded, p)
		}
	}
	timer := "timer       10m"
	if len(unguarded) > 0 {
		timer += "\ntimer       none on " + strings.Join(unguarded, ", ")
	}
	if !slices.ContainsFunc(e.Scope.Devices, func(dev fleet.Device) bool { return traits[dev.Platform].Timer.Guards() }) {
		timer = "timer       none"
	}
	end := "unattended  take back the device\n"
	if r.Soak > 0 {
		end = "finish\n  soak      " + runbook.FormatDuration(r.Soak) + "\n\n" + end
	}
	return [3]string{top, "batches\n  sizes     1, 4, 25%\n  together  8\n  pairs     apart, standby first\n  stop      after 2 failures\n\n" + timer, end}
}

// likeHead takes the sections of a runbook that say how a night goes.
func likeHead(r Restoring) (head [3]string, err error) {
	data, err := textfile.Read(r.Like, textfile.Small)
	if err != nil {
		return head, err
	}
	sections, err := runbook.Sections(r.Like, data)
	if err != nil {
		return head, err
	}
	top := "runbook " + strconv.Quote(r.Title())
	for _, s := range sections {
		switch s.Name {
		case "runbook":
			for _, line := range s.Lines[1:] {
				word, _, _ := strings.Cut(strings.TrimSpace(line), " ")
				if word == "change" && r.Change != "" || word == "window" && r.Window != "" {
					continue
				}
				top += "\n" + line
			}
			if r.Change != "" {
				top += "\n  change    " + r.Change
			}
			if r.Window != "" {
				top += "\n  window    " + r.Window
			}
			head[0] = top
		case "ask", "scope", "step":
		case "finish", "unattended":
			head[2] += strings.Join(s.Lines, "\n") + "\n\n"
		default:
			head[1] += strings.Join(s.Lines, "\n") + "\n\n"
		}
	}
	return head, nil
}

// ChangeOf reads the text of a runbook, and the fleet it is for, as [Desk.Change] does a
// file.
func (d *Desk) ChangeOf(name, text, fleetFile string) (*Change, error) {
	fl, err := d.Workspace.Fleet(fleetFile)
	if err != nil {
		return nil, err
	}
	rb, full, err := d.RunbookOf(name, []byte(text), fl)
	if err != nil {
		return nil, err
	}
	return &Change{Desk: d, File: name, Runbook: rb, Fleet: fl, text: full}, nil
}

// Restore makes the change that puts the past back.
func (d *Desk) Restore(r Restoring) (*Change, error) {
	text, err := d.RestoreText(r)
	if err != nil {
		return nil, err
	}
	c, err := d.ChangeOf(restoreName, text, r.Fleet)
	if err == nil {
		c.notes = append(c.notes, d.softwareStays(r)...)
	}
	return c, err
}

// softwareStays says of the night that is gone back behind which other software it has left on devices: what is
// put back is their configuration alone.
func (d *Desk) softwareStays(r Restoring) (out []string) {
	id := r.Night
	if id == 0 {
		return nil
	}
	p, err := d.Stands(context.Background(), id)
	if err != nil || p == nil {
		return []string{fmt.Sprintf("whether night %d gave devices other software cannot be read; what is put back is their configuration alone", id)}
	}
	by := map[[2]string]int{}
	for _, dev := range p.Night.Devices {
		if dev.Runs != dev.Ran {
			by[[2]string{dev.Runs, dev.Ran}]++
		}
	}
	for _, k := range slices.SortedFunc(maps.Keys(by), func(a, b [2]string) int { return slices.Compare(a[:], b[:]) }) {
		out = append(out, fmt.Sprintf("%s of night %d ran %s then, and %s after it: what is put back is the configuration alone; a runbook with software %q gives them the old",
			report.Count(by[k], "device"), id, k[1], cmp.Or(k[0], "nothing that is installed"), k[1]))
	}
	return out
}

// restoreName is what a restore is called where a runbook has the name of its file.
const restoreName = "restore.runbook"

// Again is a past night for those devices that it did not keep: its runbook as it stands in
// its file now, with the values that were given then. Where the runbook is another now, the
// plan warns of it.
func (d *Desk) Again(ctx context.Context, id int64, fleetFile string) (c *Change, answers []string, err error) {
	p, err := d.Open(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	if p.Elsewhere != "" {
		return nil, nil, fmt.Errorf("night %d runs now: %s", id, p.Elsewhere)
	}
	left := notKept(&p.Night)
	if len(left) == 0 {
		return nil, nil, fmt.Errorf("night %d left nothing to be done: every device of it is kept, or was as intended already", id)
	}
	return d.once(p, left, fleetFile, false)
}

// once is a past night once more, for some of its devices. AsRan is by the runbook as that night ran
// it, where its file has another text by now, or is gone.
func (d *Desk) once(p *Past, left []string, fleetFile string, asRan bool) (c *Change, answers []string, err error) {
	id, ran := p.ID, ranOnce(p.Runbook)
	if slices.Contains([]string{restoreName, saveName, handName}, p.File) { // which are no files: they stand in the journal
		c, err = d.ChangeOf(p.File, ran, fleetFile)
	} else {
		c, err = d.Change(p.File, fleetFile)
	}
	if asRan && (err != nil || ran != d.maskedText(c)) && !strings.Contains(ran, plan.Hidden) { // what is masked is not known
		if then, wrong := d.ChangeOf(p.File, ran, fleetFile); wrong == nil {
			c, err = then, nil
			c.notes = append(c.notes, fmt.Sprintf("%s has another text by now, or is gone: what night %d ran is gone on with, as the journal has it", p.File, id))
		}
	}
	if err != nil {
		return nil, nil, fmt.Errorf("the runbook of night %d, %s: %w", id, p.File, err)
	}
	for _, v := range p.Night.Outline.Values {
		if v.Value != plan.Hidden && !v.Usual {
			answers = append(answers, v.Name+"="+v.Value)
		}
	}
	only := namesIn(left)
	cond, err := runbook.ParseScope("night", only, d.Profiles.Schema(c.Fleet))
	if err != nil {
		return nil, nil, err
	}
	c.Runbook.Scope = append(c.Runbook.Scope, cond)
	for _, name := range left {
		if _, in := c.Fleet.Get(name); !in {
			c.notes = append(c.notes, name+" is not in the fleet any more, under that name: nothing is done to it")
		}
	}
	if now := d.maskedText(c); ran != now {
		c.notes = append(c.notes, fmt.Sprintf("%s is not the runbook that night %d ran; what is planned is what it says now", p.File, id))
	}
	c.text += fmt.Sprintf(onceMore+" night %d did not keep\n#   %s\n", id, only)
	return c, answers, nil
}

// ranOnce is the text of a runbook without what stands behind it where it was run once more.
func ranOnce(text string) string {
	text, _, _ = strings.Cut(text, onceMore)
	text, _, _ = strings.Cut(text, workspace.OwnFiles)
	return text
}

// onceMore begins what stands behind the text of a runbook that is run once more.
const onceMore = "\n# once more, for what"

// maskedText is the text of a change as the journal has texts.
func (d *Desk) maskedText(c *Change) string {
	return d.Masked(&plan.Plan{}, c.text)
}

// LeftToDo tells whether a night left devices that [Desk.Again] is for.
func LeftToDo(n *night.Night) bool { return len(notKept(n)) > 0 }

// notKept are the devices of a night that are not as it meant them to be.
func notKept(n *night.Night) (out []string) {
	for _, dev := range n.Devices {
		if !dev.State.Good() || dev.LeftSteps() > 0 {
			out = append(out, dev.Name)
		}
	}
	return out
}
