package work

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/driver"
)

func TestWhatCountsAsLostContact(t *testing.T) {
	for err, lost := range map[error]bool{
		&driver.Refused{Line: "x", Said: "no"}: false, &driver.Unclear{Asked: "x"}: false, errTakeBack: false, errLetGo: false,
		fmt.Errorf("%w: disk full", ErrJournal): false, errNotPending: false, errors.New("the session ended: EOF"): true,
		fmt.Errorf("line 3: %w", &driver.Refused{}): false,
	} {
		assert.Equal(t, lost, (&trouble{err: err}).lost(), err)
	}
}

func TestJoinSome(t *testing.T) {
	lines := []string{"+ a", "- b", "+ c", "+ d", "+ e"}
	for n, want := range []string{"", "+ a", "+ a, - b", "+ a, - b, + c", "+ a, - b, + c, and 1 more", "+ a, - b, + c, and 2 more"} {
		assert.Equal(t, want, joinSome(lines[:n]))
	}
}
