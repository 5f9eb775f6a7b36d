package cli

import (
	"bytes"
	"context"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A question that nobody answers is given up with what it was asked for.
func TestAQuestionIsGivenUp(t *testing.T) {
	in, w := io.Pipe()
	defer w.Close()
	ctx, cancel := context.WithCancelCause(context.Background())
	p := &personHere{a: &app{in: in, err: &bytes.Buffer{}}, ctx: ctx}
	cancel(errInterrupted)
	_, err := p.Ask("Which?", "it is needed")
	assert.ErrorIs(t, err, errInterrupted)
	_, err = p.Hidden("Word: ")
	assert.ErrorIs(t, err, errInterrupted)

	p.ctx = context.Background()
	p.a.in = bytes.NewBufferString("one\ntwo \n")
	got, err := p.Ask("Which?", "it is needed")
	assert.NoError(t, err)
	assert.Equal(t, "one", got)
	got, err = p.Hidden("Word: ")
	assert.NoError(t, err)
	assert.Equal(t, "two ", got)
	_, err = p.Ask("Which?", "it is needed")
	assert.Error(t, err)
	assert.False(t, errors.Is(err, errInterrupted))
}
