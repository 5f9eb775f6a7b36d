package acts

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/record"
	"metabasis/internal/core/scope"
)

// Two who change the same file of a workspace at once, each from a process of their own, both
// have what they changed in the end: nothing is lost, and nobody is told that it is there
// when it is not.
func TestTwoChangeOneFileAtOnce(t *testing.T) {
	for round := range 50 {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "fleet.csv"), []byte("name,address,platform,site\nold-1,192.0.2.1,tern,ALD\n"), 0o600))
		var desks [2]*Desk
		for i := range desks {
			var err error
			desks[i], err = Open(dir, nil, nil)
			require.NoError(t, err)
		}
		both := func(do func(i int, d *Desk) error) (wrong [2]error) {
			var all sync.WaitGroup
			for i, d := range desks {
				all.Go(func() { wrong[i] = do(i, d) })
			}
			all.Wait()
			return wrong
		}
		for i, err := range both(func(i int, d *Desk) error {
			return d.AddDevice("old-1", fmt.Sprintf("new-%d", i), fmt.Sprintf("192.0.2.%d", 10+i), "")
		}) {
			require.NoError(t, err, "round %d, %d", round, i)
		}
		f, err := desks[0].Fleet("")
		require.NoError(t, err)
		require.Len(t, f.Devices, 3, "round %d", round)
		kept, err := filepath.Glob(filepath.Join(dir, "fleet.csv.*"))
		require.NoError(t, err)
		assert.Len(t, kept, 2, "each file of before is kept")

		for _, err := range both(func(i int, d *Desk) error {
			_, err := d.SaveSelection(fmt.Sprintf("mine-%d", i), scope.Selection{Devices: []string{"old-1"}})
			return err
		}) {
			require.NoError(t, err)
		}
		all, err := desks[0].Selections()
		require.NoError(t, err)
		assert.Len(t, all, 2, "round %d", round)

		// Of two records of one name, one is there, and the other is told so.
		wrong := both(func(i int, d *Desk) error {
			return d.KeepRecord(&record.Record{Name: "week", At: time.Now(), By: fmt.Sprint(i)})
		})
		assert.True(t, (wrong[0] == nil) != (wrong[1] == nil), "round %d: %v", round, wrong)
		assert.True(t, errors.Is(errors.Join(wrong[:]...), fs.ErrExist) || strings.Contains(errors.Join(wrong[:]...).Error(), "already"), "%v", wrong)

		// Of two backups in one second, both are there.
		for _, err := range both(func(i int, d *Desk) error {
			_, err := d.Backups("by hand").Put("old-1", fmt.Sprintf("name old-1\nlog host 192.0.2.%d\n", i), time.Now())
			return err
		}) {
			require.NoError(t, err)
		}
		shelf, err := desks[0].Backups("").Shelf("old-1")
		require.NoError(t, err)
		assert.Len(t, shelf, 2, "round %d", round)
		for _, s := range shelf {
			_, err := desks[0].Backups("").Read(s)
			assert.NoError(t, err)
		}
		if t.Failed() {
			return
		}
	}
}
