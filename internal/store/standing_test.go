package store

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
)

// How a night stands is read by how it stood and by what came then, and is what all of it comes to;
// where how it stood cannot be read, all of it is.
func TestHowANightStands(t *testing.T) {
	file := filepath.Join(t.TempDir(), "j.db")
	id, n := aLongNight(t, file, 300)
	j, err := OpenJournal(file)
	require.NoError(t, err)
	defer j.Close()
	events, err := j.Events(t.Context(), id)
	require.NoError(t, err)
	require.Len(t, events, n)
	written := func(told night.Night) string {
		data, err := night.Standing(&told)
		require.NoError(t, err)
		return string(data)
	}
	whole := written(night.Fold(night.Night{}, events...))
	var stands int
	require.NoError(t, j.db.QueryRow(`SELECT json_extract(body, '$.seq') FROM standings`).Scan(&stands))
	require.Greater(t, stands, n/2, "it was written down on the way")
	told, err := j.Standing(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, whole, written(told))

	_, err = j.db.Exec(`UPDATE events SET body = '[nonsense' WHERE seq > 64 AND seq < 1000`)
	require.NoError(t, err)
	told, err = j.Standing(t.Context(), id)
	require.NoError(t, err, "what is of before is not read")
	assert.Equal(t, whole, written(told))
	_, err = j.Events(t.Context(), id)
	require.Error(t, err)

	var body string
	require.NoError(t, j.db.QueryRow(`SELECT json_set(body, '$.body.Version', 99) FROM standings`).Scan(&body))
	for _, body := range []string{body, "", "nonsense", `{"seq": 10, "body": {"Devices": []}}`, `{"seq": 99999999, "body": {}}`} {
		_, err = j.db.Exec(`UPDATE standings SET body = ?`, body)
		require.NoError(t, err)
		_, err = j.Standing(t.Context(), id)
		var damaged *Damaged
		require.ErrorAs(t, err, &damaged, "all of it is read, and it is damaged: %q", body)
	}
}
