package secrets

import (
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Two who add a secret at once, from what each has opened before, both have it in the end.
func TestTwoAddAtOnce(t *testing.T) {
	for round := range 50 {
		f := newFile(t)
		one, err := Open(f.path, phrase("three grey herons"))
		require.NoError(t, err)
		two, err := Open(f.path, phrase("three grey herons"))
		require.NoError(t, err)
		var both sync.WaitGroup
		for i, f := range []*File{one, two} {
			f.work = 10
			both.Go(func() {
				assert.NoError(t, f.Update(func(now *File) error { return now.Set(ID{"crew", fmt.Sprint("part", i)}, "value") }))
			})
		}
		both.Wait()
		now, err := Open(f.path, phrase("three grey herons"))
		require.NoError(t, err)
		require.Equal(t, []ID{{"crew", "operator"}, {"crew", "part0"}, {"crew", "part1"}, {"crew", "password"}}, now.List(), "round %d", round)
	}
}

// Beside a new passphrase nothing is lost: the secret is in, or it is said that it is not.
func TestAddBesideRekey(t *testing.T) {
	for round := range 50 {
		f := newFile(t)
		one, err := Open(f.path, phrase("three grey herons"))
		require.NoError(t, err)
		two, err := Open(f.path, phrase("three grey herons"))
		require.NoError(t, err)
		one.work, two.work = 10, 10
		var both sync.WaitGroup
		var added, rekeyed error
		both.Go(func() {
			added = one.Update(func(now *File) error { return now.Set(ID{"crew", "extra"}, "value") })
		})
		both.Go(func() { rekeyed = two.Rekey(nil, "four brown gulls") })
		both.Wait()
		require.NoError(t, rekeyed)
		now, err := Open(f.path, phrase("four brown gulls"))
		require.NoError(t, err, "round %d", round)
		_, in := now.Get(ID{"crew", "extra"})
		assert.Equal(t, added == nil, in, "round %d: %v", round, added)
		if added != nil {
			assert.ErrorContains(t, added, "was changed by somebody else meanwhile, and cannot be opened any more: nothing was changed")
		}
		_, in = now.Get(ID{"crew", "password"})
		assert.True(t, in)
	}
}

// What could not be read back is not put in the place of what can.
func TestWhatCannotBeReadBackIsNotWritten(t *testing.T) {
	f := newFile(t)
	before, err := os.ReadFile(f.path)
	require.NoError(t, err)
	set := func(value string) error {
		return f.Update(func(now *File) error { return now.Set(ID{"crew", "extra"}, value) })
	}
	assert.ErrorContains(t, set(strings.Repeat("x", 1400<<10)), "crew extra is larger than 64 KB: nothing was changed")
	assert.ErrorContains(t, set("\xff\xfe"), "a secret is text in UTF-8; nothing was changed")
	err = f.Update(func(now *File) error {
		for i := range 20 {
			if err := now.Set(ID{"crew", fmt.Sprint("part", i)}, strings.Repeat("y", 64<<10)); err != nil {
				return err
			}
		}
		return nil
	})
	assert.ErrorContains(t, err, "the file would be larger than 1 MB, and could not be read any more: nothing was changed")
	after, err := os.ReadFile(f.path)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	require.NoError(t, os.Remove(f.path))
	assert.ErrorContains(t, set("value"), "is gone since it was opened: nothing was changed")
}
