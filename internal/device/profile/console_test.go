package profile_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/profiles"
)

// At a console, what is never sent wants a reason; what goes between modes, or puts a draft on trial,
// does not.
func TestWhatWantsAReasonAtAConsole(t *testing.T) {
	set, err := profiles.Shipped()
	require.NoError(t, err)
	for line, want := range map[string]bool{
		"restart": true, "apply draft": true, "keep trial": true, "load draft": true, "apply draft for 60 s": false, "apply  draft for 60 s": false,
		"end trial": false, "drop draft": false, "close": false, "bye": false, "sight clock": false, "lan 310": false,
		"apply draft for 60 s; keep trial": true,
	} {
		assert.Equal(t, want, set["osier"].WantsReason(line), line)
	}
	assert.True(t, set["tern"].WantsReason("restart now"))
	assert.False(t, set["tern"].WantsReason("tell clock"))
}
