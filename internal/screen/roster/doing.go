package roster

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"metabasis/internal/person"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/page"
)

// meaning says which devices are meant: those that are marked, else all.
func (v *View) meaning() string {
	if n := len(v.marked); n > 0 {
		return report.Count(n, "marked device")
	}
	return "all " + report.Count(len(v.src.Devices), "device")
}

// doing does something with the devices that are meant, while the person waits, and shows what
// came of it.
func (v *View) doing(what string, do func(ctx context.Context, names []string) ([]string, error)) {
	var lines []string
	title := what + ": " + v.meaning()
	names := v.markedNames()
	v.host.Work(title, func(ctx context.Context) (err error) {
		lines, err = do(ctx, names)
		return err
	}, func(err error) {
		if err != nil {
			lines = append(lines, strings.Split(err.Error(), "\n")...)
		}
		v.host.Open(page.Lines(title, lines))
	})
}

// ask asks the devices that are meant a command.
func (v *View) ask() {
	v.host.Type(screen.Line{Label: "ask " + v.meaning(), Hint: "a command that changes nothing", Done: func(command string) error {
		if command = strings.TrimSpace(command); command == "" {
			return nil
		}
		v.doing("Asked "+command, func(ctx context.Context, names []string) ([]string, error) {
			return v.src.Does.Ask(ctx, names, command)
		})
		return nil
	}})
}

// record records the devices that are meant.
func (v *View) record() {
	v.host.Type(screen.Line{Label: "record " + v.meaning() + " as", Hint: "a name, such as before-the-move", Done: func(name string) error {
		if name = strings.TrimSpace(name); name == "" {
			return nil
		}
		v.doing("Recorded as "+name, func(ctx context.Context, names []string) ([]string, error) {
			return v.src.Does.Record(ctx, names, name)
		})
		return nil
	}})
}

// runbook opens a runbook for the devices that are marked: one of those whose scope has any of
// them.
func (v *View) runbook() {
	names := v.markedNames()
	var files, wrong []string
	v.host.Work("Looking which runbooks are for "+report.Count(len(names), "marked device"), func(ctx context.Context) error {
		files, wrong = v.src.Does.Runbooks(ctx, names)
		return ctx.Err()
	}, func(err error) {
		if err == nil {
			v.choose(names, files, wrong)
		}
	})
}

// choose opens one of some runbooks for some devices; of several, the person says which.
func (v *View) choose(names, files, wrong []string) {
	mistaken := ""
	if len(wrong) > 0 {
		mistaken = "; mistakes are in " + report.Some(wrong, 4)
	}
	switch len(files) {
	case 0:
		v.host.Say(fmt.Sprintf("no runbook here is for any of the %d marked%s", len(names), mistaken))
		return
	case 1:
		if mistaken == "" {
			v.src.Does.Begin(v.host, files[0], names)
			return
		}
	}
	q := person.Question{Text: fmt.Sprintf("Which runbook, for %s only%s?", report.Count(len(names), "device"), mistaken)}
	for _, f := range files {
		q.Choices = append(q.Choices, person.Choice{Word: filepath.Base(f), Does: f})
	}
	v.host.Ask(person.Form{Title: "A runbook for what is marked", Questions: []person.Question{q}}, func(answers []string) {
		for _, f := range files {
			if len(answers) > 0 && filepath.Base(f) == answers[0] {
				v.src.Does.Begin(v.host, f, names)
				return
			}
		}
	})
}
