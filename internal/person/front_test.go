package person

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What was asked of somebody who went away is asked of whoever has come, and of nobody where nobody
// has; who gives no answer and stays is not asked again.
func TestWhoHasComeIsAsked(t *testing.T) {
	f := NewFront(nil)
	_, err := f.Ask(t.Context(), Form{})
	require.ErrorIs(t, err, ErrNobody)
	asked := 0
	f.Sit(Func(func(context.Context, Form) ([]string, error) { asked++; return nil, ErrLeft }))
	_, err = f.Ask(t.Context(), Form{})
	require.ErrorIs(t, err, ErrLeft)
	assert.Equal(t, 1, asked)
	other := Func(func(context.Context, Form) ([]string, error) { return []string{"yes"}, nil })
	f.Sit(Func(func(context.Context, Form) ([]string, error) { f.Sit(other); return nil, ErrLeft }))
	answers, err := f.Ask(t.Context(), Form{})
	require.NoError(t, err)
	assert.Equal(t, []string{"yes"}, answers)
	f.Sit(Func(func(context.Context, Form) ([]string, error) { f.Sit(nil); return nil, ErrLeft }))
	_, err = f.Ask(t.Context(), Form{})
	require.ErrorIs(t, err, ErrNobody)
	wrong := errors.New("the terminal is gone")
	f.Sit(Func(func(context.Context, Form) ([]string, error) { f.Sit(other); return nil, wrong }))
	_, err = f.Ask(t.Context(), Form{})
	require.ErrorIs(t, err, wrong, "that says nothing of whoever has come")
}
