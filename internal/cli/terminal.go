package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"metabasis/internal/person"
)

// terminal is the person at the terminal, asked line by line.
type terminal struct{ a *app }

// person is whoever is at the terminal; nil when nobody is.
func (a *app) person() person.Person {
	if in, ok := a.in.(*os.File); ok && term.IsTerminal(int(in.Fd())) {
		return terminal{a}
	}
	return nil
}

// askedAgain is how often a person may try to answer a question.
const askedAgain = 3

// Ask implements [person.Person].
func (t terminal) Ask(ctx context.Context, f person.Form) (answers []string, err error) {
	for _, l := range f.Lines {
		fmt.Fprintln(t.a.err, l)
	}
	for i := range f.Questions {
		answer, err := t.one(ctx, &f.Questions[i])
		if err != nil {
			return nil, err
		}
		answers = append(answers, answer)
	}
	return answers, nil
}

func (t terminal) one(ctx context.Context, q *person.Question) (string, error) {
	for try := 1; ; try++ {
		answer, err := t.read(ctx, q)
		if err != nil {
			return "", err
		}
		switch err = q.Refuses(answer); {
		case err == nil:
			return answer, nil
		case try == askedAgain:
			return "", err
		}
		fmt.Fprintln(t.a.err, err)
	}
}

// read reads one answer; ctx gives it up.
func (t terminal) read(ctx context.Context, q *person.Question) (string, error) {
	hint := q.Hint
	if len(q.Choices) > 0 {
		hint = q.Words()
	}
	if hint != "" {
		hint = " (" + hint + ")"
	}
	if q.Usual != "" && !q.Secret {
		hint += " [" + q.Usual + "]"
	}
	fmt.Fprintf(t.a.err, "%s%s: ", q.Text, hint)
	fd := -1 // of a terminal
	if in, ok := t.a.in.(*os.File); ok && term.IsTerminal(int(in.Fd())) {
		fd = int(in.Fd())
	}
	type given struct {
		text string
		err  error
	}
	got, from := make(chan given, 1), t.a.in // a reading that is given up must not take what is asked for later
	before, stateErr := term.GetState(fd)
	go func() {
		if q.Secret && fd >= 0 {
			b, err := term.ReadPassword(fd)
			fmt.Fprintln(t.a.err)
			got <- given{string(b), err}
			return
		}
		line, err := readLine(from)
		if q.Secret {
			got <- given{strings.TrimRight(line, "\r"), err}
			return
		}
		got <- given{strings.TrimSpace(line), err}
	}()
	select {
	case g := <-got:
		if g.err != nil {
			return "", person.ErrLeft
		}
		return cmp.Or(g.text, q.Usual), nil
	case <-ctx.Done():
		if stateErr == nil { // what was typed is shown again, whatever happens
			_ = term.Restore(fd, before)
		}
		fmt.Fprintln(t.a.err)
		return "", context.Cause(ctx)
	}
}

// readLine reads a line and not a byte more: what follows is somebody else's.
func readLine(in io.Reader) (string, error) {
	var line []byte
	one := make([]byte, 1)
	for len(line) < 4096 {
		n, err := in.Read(one)
		switch {
		case n == 1 && one[0] == '\n':
			return string(line), nil
		case n == 1:
			line = append(line, one[0])
		case err != nil && len(line) > 0 && errors.Is(err, io.EOF):
			return string(line), nil
		case err != nil:
			return "", err
		}
	}
	return "", errors.New("the line is too long")
}
