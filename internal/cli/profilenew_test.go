package cli

import (
	"bytes"
	"context"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/person"
)

// A question that nobody answers is given up with what it was asked for.
func TestAQuestionIsGivenUp(t *testing.T) {
	in, w := io.Pipe()
	defer w.Close()
	ctx, cancel := context.WithCancelCause(context.Background())
	a := &app{in: in, err: &bytes.Buffer{}}
	which, word := person.Question{Text: "Which?", Hint: "it is needed"}, person.Question{Text: "Word: ", Secret: true}
	ask := func(q person.Question) (string, error) { return person.AskOne(ctx, askedHere{terminal{a}}, "", q) }
	cancel(errInterrupted)
	_, err := ask(which)
	assert.ErrorIs(t, err, errInterrupted)
	_, err = ask(word)
	assert.ErrorIs(t, err, errInterrupted)

	ctx = context.Background()
	a.in = bytes.NewBufferString("one\ntwo \n")
	got, err := ask(which)
	assert.NoError(t, err)
	assert.Equal(t, "one", got)
	got, err = ask(word)
	assert.NoError(t, err)
	assert.Equal(t, "two ", got)
	_, err = ask(which)
	assert.Error(t, err)
	assert.False(t, errors.Is(err, errInterrupted))
}
