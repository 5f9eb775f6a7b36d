package kills

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// onDisk puts the workspace on a disk of its own, of so many bytes. Where that may not be mounted, the
// test is passed over.
func (g *ground) onDisk(t *testing.T, size string) (disk string) {
	t.Helper()
	disk = t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size="+size, "tmpfs", disk).CombinedOutput(); err != nil {
		t.Skipf("no disk of its own can be mounted here: %v: %s", err, out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", disk).Run() })
	ws := filepath.Join(disk, "ws")
	require.NoError(t, os.CopyFS(ws, os.DirFS(g.ws)))
	g.ws = ws
	return disk
}

// runTo runs the night to its end, and does something when it has printed so many events.
func (g *ground) runTo(t *testing.T, events int, do func()) (said string, code int) {
	t.Helper()
	c := g.command("run", "--headless", filepath.Join(g.ws, "night.runbook"))
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	var told bytes.Buffer
	c.Stderr = &told
	require.NoError(t, c.Start())
	n := 0
	for lines := bufio.NewScanner(out); lines.Scan(); {
		said += lines.Text() + "\n"
		if n++; n == events {
			do()
		}
	}
	_ = c.Wait()
	return said + told.String(), c.ProcessState.ExitCode()
}

// fill fills a disk to its last byte.
func fill(t *testing.T, disk string) (filler string) {
	t.Helper()
	filler = filepath.Join(disk, "filler")
	f, err := os.Create(filler)
	require.NoError(t, err)
	defer f.Close()
	for block := make([]byte, 1<<16); len(block) > 0; {
		if _, err := f.Write(block); err != nil {
			block = block[:len(block)/2]
		}
	}
	return filler
}

// A disk that fills up in the midst of a night stops it: nothing more is done that cannot be written
// down, and what is in change comes back by its timer. It is said why; with room again, the night is
// gone on with.
func TestTheDiskGivesOut(t *testing.T) {
	places := []int{12, 75}
	if *count > 2 || *count == 0 {
		places = []int{5, 12, 25, 40, 60, 75, 90, 110, 140}
	}
	for _, at := range places {
		t.Run(fmt.Sprint(at), func(t *testing.T) {
			t.Parallel()
			g := newGround(t)
			g.write("night.runbook", strings.Replace(book, "sizes     8", "sizes     2, 4", 1))
			disk, filler := g.onDisk(t, "24m"), ""
			said, code := g.runTo(t, at, func() { filler = fill(t, disk) })
			for _, x := range g.truths() {
				assert.False(t, x.changed && x.unsaved && !x.pending && !strings.Contains(said, x.name), "%+v, and nothing is said of it", x)
			}
			if code != 0 { // else it was over by then
				assert.Equal(t, 4, code, said)
				assert.Regexp(t, "cannot be written|no space|disk", said)
			}
			if filler != "" {
				require.NoError(t, os.Remove(filler))
			}
			g.settled()
			g.goneOn(t, said, false)
		})
	}
}
