package acts

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A device that is in the fleet no more has its backups still: the line that says when one
// was written is no change, since a backup says of what platform it is.
func TestTheShelfOfADeviceThatLeftTheFleet(t *testing.T) {
	d := morningDesk(t, 1, false)
	b := d.Backups("by hand")
	b.Platforms = map[string]string{"gone-1": "tern"}
	at := time.Date(2026, 12, 2, 2, 30, 0, 0, time.UTC)
	for i, text := range []string{
		"# written 2026-12-02 02:30:00 by work\nname gone-1\nlog host 192.0.2.30\n",
		"# written 2026-12-02 03:30:00 by work\nname gone-1\nlog host 192.0.2.31\n",
	} {
		_, err := b.Put("gone-1", text, at.Add(time.Duration(i)*time.Hour))
		require.NoError(t, err)
	}
	rows, err := d.ShelfOf("gone-1", d.PlatformOf(nil, "gone-1"))
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, []int{1, 1}, []int{rows[0].Added, rows[0].Removed})
}
