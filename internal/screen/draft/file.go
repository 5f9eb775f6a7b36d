package draft

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"metabasis/internal/person"
)

// Editor is the person's editor, on its way to take the terminal.
type Editor struct {
	*exec.Cmd
	Name string
}

// EditorOf opens a file at a line in the editor that the environment names. Its own
// environment is given: it must not have our secrets.
func EditorOf(file string, line int, env func(string) string, environ []string) *Editor {
	words := strings.Fields(inEditor(env))
	args := words[1:]
	if slices.Contains(atLine, filepath.Base(words[0])) {
		args = append(args, fmt.Sprintf("+%d", line))
	}
	c := exec.Command(words[0], append(args, file)...)
	c.Env = environ
	return &Editor{c, words[0]}
}

// atLine are the editors that open a file at a line when they are given +N: all that
// POSIX knows of, and those that do as they do.
var atLine = []string{"vi", "vim", "nvim", "ex", "nano", "emacs", "ed", "joe", "mg", "micro", "kak"}

// SetStdin implements [tea.ExecCommand].
func (e *Editor) SetStdin(r io.Reader) { e.Stdin = r }

// SetStdout implements [tea.ExecCommand].
func (e *Editor) SetStdout(w io.Writer) { e.Stdout = w }

// SetStderr implements [tea.ExecCommand].
func (e *Editor) SetStderr(w io.Writer) { e.Stderr = w }

// settled is how long a file must be left alone before it is read: editors write in
// several goes.
const settled = 80 * time.Millisecond

// Watch calls changed whenever a file changes, is written anew in its place, or comes
// back, until ctx ends.
func Watch(ctx context.Context, file string, changed func()) error {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	defer w.Close()
	if err := w.Add(filepath.Dir(file)); err != nil { // the directory: an editor may put another file in its place
		return err
	}
	var due <-chan time.Time
	for {
		select {
		case e, ok := <-w.Events:
			if !ok {
				return errors.New("the watch ended")
			}
			if filepath.Base(e.Name) == filepath.Base(file) && !e.Has(fsnotify.Chmod) || strings.HasSuffix(e.Name, ".txt") ||
				strings.HasSuffix(e.Name, ".csv") {
				due = time.After(settled)
			}
		case err, ok := <-w.Errors:
			if !ok {
				return errors.New("the watch ended")
			}
			return err
		case <-due:
			due = nil
			changed()
		case <-ctx.Done():
			return nil
		}
	}
}

// Pattern is a step to begin with.
type Pattern struct{ Name, Does, Text string }

// Patterns are steps that are often written.
var Patterns = []Pattern{
	{"want", "lines that shall be there", "step \"NAME\"\n  want\n    | log host 198.51.100.14\n"},
	{
		"exactly",
		"a list that shall be exactly so",
		"step \"NAME\"\n  want\n    | log host 198.51.100.14\n    | log host 198.51.100.15\n  no other  \"log host *\"\n",
	},
	{
		"ports",
		"each port that the device shows, where a condition holds",
		"step \"NAME\"\n  for       p in ports where p.label == \"gates\"\n  want\n    | port <<p.port>>\n    |   shut\n",
	},
	{
		"send",
		"lines as they are typed, and those that take them back",
		"step \"NAME\"\n  already   when config has \"log host 198.51.100.14\"\n  send\n    | log host 198.51.100.14\n  undo\n    | drop log host 198.51.100.14\n",
	},
	{"expect", "what must come true, and nothing sent", "step \"NAME\"\n  expect    same(neighbours) within 30s\n"},
}

// Form asks which of them.
func Form() person.Form {
	q := person.Question{Text: "A step to begin with"}
	for _, p := range Patterns {
		q.Choices = append(q.Choices, person.Choice{Word: p.Name, Does: p.Does})
	}
	return person.Form{Title: "Insert a step", Questions: []person.Question{q}}
}

// Put writes a step into a runbook, behind the section in which a line (from 1) stands, and
// returns the line at which it stands then. The file is written as a whole or not at all;
// one that has changed since it was read is left alone.
func Put(file string, after int, step string) (int, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return 0, err
	}
	info, err := os.Stat(file)
	if err != nil {
		return 0, err
	}
	lines := strings.Split(strings.TrimRight(string(data), "\n"), "\n")
	at := behind(lines, after)
	step = numbered(strings.TrimRight(step, "\n"), lines)
	out := slices.Concat(lines[:at], []string{"", step}, lines[at:])
	tmp, err := os.CreateTemp(filepath.Dir(file), ".runbook-*")
	if err != nil {
		return 0, err
	}
	_, err = tmp.WriteString(strings.Join(out, "\n") + "\n")
	err = errors.Join(err, tmp.Chmod(info.Mode().Perm()), tmp.Sync(), tmp.Close())
	if err == nil {
		if now, again := os.ReadFile(file); again != nil || string(now) != string(data) {
			err = fmt.Errorf("%s has changed just now: nothing was inserted", filepath.Base(file))
		}
	}
	if err == nil {
		err = os.Rename(tmp.Name(), file)
	}
	if err != nil {
		return 0, errors.Join(err, os.Remove(tmp.Name()))
	}
	return at + 2, nil
}

// behind is where a step may stand: behind the one in which a line (from 1) stands, else
// behind the last one, else before what ends the runbook.
func behind(lines []string, line int) int {
	begins := func(i int) bool { return lines[i] != "" && !strings.ContainsAny(lines[i][:1], " \t#") }
	end := func(i int) int { // of the section that begins there
		for i++; i < len(lines) && !begins(i); i++ {
		}
		for strings.TrimSpace(lines[i-1]) == "" || strings.HasPrefix(lines[i-1], "#") { // they belong to what comes next
			i--
		}
		return i
	}
	within, last, ends := -1, -1, len(lines)
	for i := range lines {
		if !begins(i) {
			continue
		}
		if i < line {
			within = i
		}
		switch word, _, _ := strings.Cut(lines[i], " "); word {
		case "step":
			last = i
		case "finish", "unattended":
			ends = min(ends, i)
		}
	}
	switch {
	case within >= 0 && strings.HasPrefix(lines[within], "step "):
		return end(within)
	case last >= 0:
		return end(last)
	}
	for ends > 0 && strings.TrimSpace(lines[ends-1]) == "" {
		ends--
	}
	return ends
}

// numbered gives a step a title that no other has yet.
func numbered(step string, lines []string) string {
	for n := 1; ; n++ {
		title := "New step"
		if n > 1 {
			title = fmt.Sprintf("New step %d", n)
		}
		if !slices.ContainsFunc(lines, func(l string) bool { return strings.HasPrefix(l, `step "`+title+`"`) }) {
			return strings.Replace(step, "NAME", title, 1)
		}
	}
}
