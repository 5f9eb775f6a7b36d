package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shelved puts configurations on a shelf, one an hour from 1 December on.
func shelved(t testing.TB, texts ...string) Backups {
	b := Backups{Dir: filepath.Join(t.TempDir(), "backups"), Origin: "night 7"}
	for i, text := range texts {
		_, err := b.Put("ald-quay-1", text, hour(i))
		require.NoError(t, err)
	}
	return b
}

func hour(i int) time.Time {
	return time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(i) * time.Hour)
}

func TestTheShelf(t *testing.T) {
	b := shelved(t, "one\n", "one\n", "two\n", "one\n")
	shelf, err := b.Shelf("ald-quay-1")
	require.NoError(t, err)
	require.Len(t, shelf, 3)
	assert.Equal(t, "2026-12-01T030000Z.cfg", shelf[0].File, "the newest first")
	assert.Equal(t, hour(0), shelf[2].At())
	assert.Equal(t, hour(1), shelf[2].Last(), "that it was seen again is noted")
	assert.Equal(t, "night 7", shelf[2].Origin())
	text, err := b.Read(shelf[1])
	require.NoError(t, err)
	assert.Equal(t, "two\n", text)

	for at, want := range map[int]string{0: "one\n", 1: "one\n", 2: "two\n", 3: "one\n", 99: "one\n"} {
		s, seen, err := b.AsOf("ald-quay-1", hour(at))
		require.NoError(t, err)
		got, err := b.Read(s)
		require.NoError(t, err)
		assert.Equal(t, want, got, "as of hour %d", at)
		assert.Equal(t, hour(min(at, 3)), seen)
	}
	_, _, err = b.AsOf("ald-quay-1", hour(-1))
	assert.ErrorIs(t, err, ErrNoBackup)
	assert.ErrorContains(t, err, "its oldest is of")
	_, _, err = b.AsOf("brm-quay-1", hour(1))
	assert.ErrorIs(t, err, ErrNoBackup)
}

// What was cut off, emptied, changed or put there by somebody else is never taken for a
// backup of ours.
func TestNothingHalfWrittenIsABackup(t *testing.T) {
	b := shelved(t, "one\n", "two\n")
	dir := filepath.Join(b.Dir, "ald-quay-1")
	for name, text := range map[string]string{"2026-12-01T050000Z-123.partial": "thr", "2026-12-01T060000Z.cfg": "", "notes.cfg": "mine", "x.txt": "x"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	torn, err := os.ReadFile(filepath.Join(dir, notes))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, notes), append(torn, `{"file":"2026-12-01T05`...), 0o600))
	shelf, err := b.Shelf("ald-quay-1")
	require.NoError(t, err)
	assert.Len(t, shelf, 2)

	_, err = b.Put("ald-quay-1", "four\n", hour(4))
	require.NoError(t, err)
	s, _, err := b.AsOf("ald-quay-1", hour(4))
	require.NoError(t, err)
	assert.Equal(t, "night 7", s.Origin(), "a line that was cut off takes no other with it")

	require.NoError(t, os.WriteFile(s.Path, []byte("four!\n"), 0o600))
	_, err = b.Read(s)
	var damaged *DamagedBackup
	assert.ErrorAs(t, err, &damaged)
	require.NoError(t, os.Remove(filepath.Join(dir, "2026-12-01T000000Z.cfg")))
	whole, unnoted, wrong, err := b.Check("ald-quay-1")
	require.NoError(t, err)
	assert.Equal(t, 1, whole)
	assert.Zero(t, unnoted)
	assert.Len(t, wrong, 2, "one is damaged, one is not there")
}

// A backup of before anything was noted is one all the same.
func TestBackupsWithoutNotes(t *testing.T) {
	b := shelved(t, "one\n")
	require.NoError(t, os.Remove(filepath.Join(b.Dir, "ald-quay-1", notes)))
	s, seen, err := b.AsOf("ald-quay-1", hour(5))
	require.NoError(t, err)
	assert.Equal(t, hour(0), seen)
	assert.Empty(t, s.SHA256)
	_, unnoted, wrong, err := b.Check("ald-quay-1")
	require.NoError(t, err)
	assert.Equal(t, 1, unnoted)
	assert.Empty(t, wrong)
}

// What a device had is never guessed from something older than what it had.
func TestWhatWasClearedIsNotGuessed(t *testing.T) {
	b := shelved(t, "one\n", "two\n", "three\n")
	shelf, err := b.Shelf("ald-quay-1")
	require.NoError(t, err)
	require.NoError(t, b.Remove(shelf[1], "cleared by ada", hour(9)))
	_, _, err = b.AsOf("ald-quay-1", hour(1))
	assert.ErrorIs(t, err, ErrNoBackup)
	assert.ErrorContains(t, err, "cleared by ada")
	_, _, err = b.AsOf("ald-quay-1", hour(0))
	assert.NoError(t, err)
	_, _, wrong, err := b.Check("ald-quay-1")
	require.NoError(t, err)
	assert.Empty(t, wrong, "one that was cleared is not missing")
}

func TestTwoOfOneSecondStandInOrder(t *testing.T) {
	b := Backups{Dir: t.TempDir(), Opens: twice{opens: true}}
	for i := range 12 {
		b.Seal = nil
		if i%3 == 2 {
			b.Seal = twice{} // encrypted or not
		}
		_, err := b.Put("ald-quay-1", fmt.Sprint(i), hour(0))
		require.NoError(t, err)
	}
	shelf, err := b.Shelf("ald-quay-1")
	require.NoError(t, err)
	require.Len(t, shelf, 12)
	text, err := b.Read(shelf[0])
	require.NoError(t, err)
	assert.Equal(t, "11", text, "the newest is the last")
	s, _, err := b.AsOf("ald-quay-1", hour(0))
	require.NoError(t, err)
	assert.Equal(t, shelf[0].File, s.File)
}

// twice stands for encryption: what it makes is never the same twice, and who has no key
// cannot open it.
type twice struct{ opens bool }

func (twice) Shut(text []byte) ([]byte, error) {
	return []byte("sealed " + strconv.Itoa(int(time.Now().UnixNano())) + "\n" + string(text)), nil
}

func (s twice) Open(data []byte) ([]byte, error) {
	if !s.opens {
		return nil, errors.New("it is encrypted: name your key")
	}
	_, text, _ := strings.Cut(string(data), "\n")
	return []byte(text), nil
}

// What is encrypted is known again without being opened, is held against its checksum, and
// is read by whoever has a key; what was there in the clear stays readable.
func TestBackupsThatAreEncrypted(t *testing.T) {
	b := shelved(t, "one\n")
	b.Seal, b.Opens = twice{}, twice{}
	first, err := b.Put("ald-quay-1", "one\n", hour(1))
	require.NoError(t, err)
	assert.False(t, first.Same, "from now on it is encrypted")
	assert.Equal(t, "2026-12-01T010000Z.cfg.age", filepath.Base(first.Path))
	again, err := b.Put("ald-quay-1", "one\n", hour(2))
	require.NoError(t, err)
	assert.True(t, again.Same, "without a key")
	other, err := b.Put("ald-quay-1", "two\n", hour(3))
	require.NoError(t, err)
	assert.False(t, other.Same)
	assert.NotEqual(t, first.SHA256, other.SHA256)

	s, _, err := b.AsOf("ald-quay-1", hour(2))
	require.NoError(t, err)
	_, err = b.Read(s)
	assert.ErrorContains(t, err, "name your key")
	b.Opens = twice{opens: true}
	text, err := b.Read(s)
	require.NoError(t, err)
	assert.Equal(t, "one\n", text)
	s, _, err = b.AsOf("ald-quay-1", hour(0))
	require.NoError(t, err)
	text, err = b.Read(s)
	require.NoError(t, err)
	assert.Equal(t, "one\n", text)

	b.Opens = nil
	whole, _, wrong, err := b.Check("ald-quay-1")
	require.NoError(t, err)
	assert.Equal(t, 3, whole, "checksums hold without a key")
	assert.Empty(t, wrong)
	require.NoError(t, os.WriteFile(other.Path, []byte("sealed 1\ntwo!\n"), 0o600))
	_, _, wrong, err = b.Check("ald-quay-1")
	require.NoError(t, err)
	assert.Len(t, wrong, 1)
	b.Opens = twice{opens: true}
	s, _, err = b.AsOf("ald-quay-1", hour(3))
	require.NoError(t, err)
	_, err = b.Read(s)
	var damaged *DamagedBackup
	assert.ErrorAs(t, err, &damaged)
	changed, err := b.Put("ald-quay-1", "two\n", hour(4))
	require.NoError(t, err)
	assert.False(t, changed.Same, "one that is damaged is not taken for a backup of the same")
}
