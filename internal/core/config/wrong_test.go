package config

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Several reasons are one line, however many there are, and each can still be asked for.
func TestReasonsAreOneLine(t *testing.T) {
	assert.NoError(t, because(nil))
	last := errors.New("the last")
	var all []error
	for n := range 30 {
		all = append(all, fmt.Errorf("line %d cannot go", n))
	}
	err := because(append(all, last))
	assert.NotContains(t, err.Error(), "\n")
	assert.Equal(t, wrongTold, strings.Count(err.Error(), "; "))
	assert.ErrorContains(t, err, "and 23 more such lines")
	assert.ErrorIs(t, err, last)
	assert.EqualError(t, because(all[:2]), "line 0 cannot go; line 1 cannot go")
}
