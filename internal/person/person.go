// Package person is how anything asks whoever is there: for a password, a value of
// a runbook, a word on host keys, a reason. The terminal, the screen and tests each
// are a [Person]; what asks knows none of them.
package person

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Person answers questions. It is safe to ask from several goroutines; one form is
// answered at a time.
type Person interface {
	// Ask puts a form and returns an answer to each of its questions, each of which
	// has passed its Check. The error is [ErrNobody] when nobody is there, [ErrLeft]
	// when the person will not answer, or that of ctx when it ends before.
	Ask(ctx context.Context, f Form) ([]string, error)
}

// ErrNobody says that nobody is there to answer.
var ErrNobody = errors.New("nobody is there to answer")

// ErrLeft says that the person was asked, and gave no answer.
var ErrLeft = errors.New("no answer was given")

// Form is one or more questions that are asked together.
type Form struct {
	Title string `json:"title,omitempty"`
	// Lines are what must be seen before it is answered, such as fingerprints.
	Lines     []string   `json:"lines,omitempty"`
	Questions []Question `json:"questions"`
}

// Question is one thing to be answered.
type Question struct {
	Text string `json:"text"`           // what is asked, such as "password of login crew"
	Hint string `json:"hint,omitempty"` // what an answer looks like
	// Usual is the answer that is there already, to be changed.
	Usual string `json:"usual,omitempty"`
	// Secret answers are not shown.
	Secret bool `json:"secret,omitempty"`
	// Choices, if there are any, are the only answers.
	Choices []Choice `json:"choices,omitempty"`
	// Check refuses an answer; nil takes any.
	Check func(string) error `json:"-"`
}

// Choice is an answer that can be chosen.
type Choice struct {
	Word string `json:"word"`           // the answer
	Does string `json:"does,omitempty"` // what comes of it
}

// Refuses says what is wrong with an answer, nil when nothing is.
func (q *Question) Refuses(answer string) error {
	if len(q.Choices) > 0 && !slices.ContainsFunc(q.Choices, func(c Choice) bool { return c.Word == answer }) {
		return fmt.Errorf("write %s", q.Words())
	}
	if q.Check == nil {
		return nil
	}
	return q.Check(answer)
}

// Words are the answers that can be chosen.
func (q *Question) Words() string {
	var out []string
	for _, c := range q.Choices {
		out = append(out, c.Word)
	}
	return strings.Join(out, "/")
}

// AskOne asks one question.
func AskOne(ctx context.Context, p Person, title string, q Question) (string, error) {
	answers, err := p.Ask(ctx, Form{Title: title, Questions: []Question{q}})
	if err != nil {
		return "", err
	}
	return answers[0], nil
}

// Func makes a function a [Person].
type Func func(ctx context.Context, f Form) ([]string, error)

// Ask implements [Person].
func (f Func) Ask(ctx context.Context, form Form) ([]string, error) { return f(ctx, form) }
