package open

import (
	"context"
	"fmt"
	"strings"

	"metabasis/internal/acts"
	"metabasis/internal/person"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/page"
	"metabasis/internal/store"
)

// OfferCutOff asks first, where nights were cut off and nobody has seen to them, whether the newest is
// looked at.
func OfferCutOff(h *screen.Host, d *acts.Desk) {
	h.Go(func(ctx context.Context) {
		all, err := d.CutOff(ctx)
		h.Then(func() {
			if err != nil {
				h.Say(err.Error())
			}
			if len(all) > 0 {
				offerCutOff(h, d, all)
			}
		})
	})
}

func offerCutOff(h *screen.Host, d *acts.Desk, all []store.Listed) {
	l := all[0]
	began := l.Began.Local().Format("Mon 2 Jan 15:04")
	lines := []string{fmt.Sprintf("%s, of %s, has no end: its process was killed, or crashed.", l.Title, began),
		"Devices may have part of the change, and their timers may run."}
	if more := len(all) - 1; more > 0 {
		lines = append(lines, fmt.Sprintf("There are %d more of them among the nights.", more))
	}
	look := person.Question{Text: "Look at its devices now?", Choices: []person.Choice{
		{Word: "look", Does: "read what each has, and say what can be done; nothing is done to them"},
		{Word: "later", Does: "leave it; it is offered again at the next start"},
	}}
	h.Ask(person.Form{Title: cutOffTitle(l.ID), Lines: lines, Questions: []person.Question{look}}, func(answers []string) {
		if answers[0] == "look" {
			CutOff(h, d, l.ID, func(err error) { h.Say(err.Error()) })
		}
	})
}

// CutOff asks what is to become of a night that was cut off, once its devices were looked at; 0 is
// the newest.
func CutOff(h *screen.Host, d *acts.Desk, id int64, wrong func(error)) {
	var l *acts.CutOffLook
	h.Work("Looking at the devices of the night that was cut off", func(ctx context.Context) (err error) {
		l, err = d.LookAtCutOff(ctx, acts.Resuming{Night: id}, acts.Request{})
		return err
	}, func(err error) {
		if err != nil {
			wrong(err)
			return
		}
		lines := report.CutOff(&l.Past.Night, l.Devices)
		var at *screen.Host
		decide := func() {
			at.Ask(resumeForm(l), func(answers []string) {
				switch answers[0] {
				case "go on":
					resume(at, d, acts.Resuming{Night: l.Past.ID}, wrong)
				case "back":
					resume(at, d, acts.Resuming{Night: l.Past.ID, Back: true}, wrong)
				}
			})
		}
		draw := func(f screen.Frame) []ink.Row { return cutOffRows(lines, f.Cells) }
		at = h.Open(page.Of(cutOffTitle(l.Past.ID), draw, screen.On(keys.Decide, "go on or take back …", decide)))
	})
}

// cutOffRows draws what is told of a night that was cut off.
func cutOffRows(lines []string, cells int) (rows []ink.Row) {
	for _, l := range lines {
		text := strings.TrimLeft(l, " ")
		indent := len(l) - len(text)
		label := ""
		if indent == 2 {
			label = l[:min(12, len(l))]
			text, indent = strings.TrimLeft(l[min(12, len(l)):], " "), 12
		}
		in := ink.Foam
		if label == "  then      " || indent == 12 && label == "" {
			in = ink.Dim
		}
		for i, part := range ink.Wrap(text, cells-indent-2, 5) {
			lead := strings.Repeat(" ", indent)
			if i == 0 && label != "" {
				lead = label
			}
			r := ink.T(ink.Dim, lead)
			switch {
			case label == "  proposed  ":
				r = r.Strong(ink.Lamp, part)
			case strings.HasPrefix(l, report.CutOffMark):
				r = r.Strong(ink.Foam, part)
			default:
				r = r.Add(in, part)
			}
			rows = append(rows, r)
		}
		if text == "" {
			rows = append(rows, ink.Row{})
		}
	}
	return rows
}

// resumeForm asks what is to become of a night that was cut off.
func resumeForm(l *acts.CutOffLook) person.Form {
	later := person.Choice{Word: "later", Does: "leave it as it is for now; nothing was done"}
	q := person.Question{Text: "What is to become of it?", Choices: []person.Choice{later}}
	if l.GoesOn {
		q.Choices = append(q.Choices, person.Choice{Word: "go on", Does: "plan the rest of it, in what is left of its window; nothing is sent yet"})
	}
	if l.GoesBack {
		q.Choices = append(q.Choices, person.Choice{Word: "back", Does: "plan taking back what it left; nothing is sent yet"})
	}
	return person.Form{Title: cutOffTitle(l.Past.ID), Questions: []person.Question{q}}
}

// resume plans going on with a night that was cut off, or taking back what it left.
func resume(h *screen.Host, d *acts.Desk, r acts.Resuming, wrong func(error)) {
	Night(h, fmt.Sprintf("night %d, which was cut off", r.Night), func(ctx context.Context) (*acts.Tonight, error) {
		c, answers, err := d.Resume(ctx, r)
		if err != nil {
			return nil, err
		}
		return c.Plan(ctx, acts.Request{Answers: answers})
	}, false, wrong)
}

func cutOffTitle(id int64) string { return fmt.Sprintf("Night %d was cut off", id) }
