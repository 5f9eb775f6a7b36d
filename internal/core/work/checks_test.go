package work

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/runbook"
)

// Each precheck that a runbook may ask for is looked at: by its name, or in a place of its own.
func TestEachPrecheckIsLookedAt(t *testing.T) {
	elsewhere := []string{"reachable", "identity", "saved", "check"}
	for _, name := range runbook.PrecheckNames() {
		look := (&worker{}).lookFor(runbook.Precheck{Name: name})
		assert.Equal(t, slices.Contains(elsewhere, name), look == nil, name)
	}
	assert.NotNil(t, (&worker{}).lookFor(runbook.Precheck{Name: "Two uplinks", Where: &runbook.Cond{}}))
}
