package locks

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var ada = Holder{Who: "ada", What: "Quays", Workspace: "/net/quays", PID: 4711, Since: time.Date(2026, 12, 2, 1, 30, 0, 0, time.Local)}

// TestMain lets a test run this program as another process that holds things.
func TestMain(m *testing.M) {
	if dir := os.Getenv("LOCKS_TEST_HOLDS"); dir != "" {
		c, err := OpenClaims(dir, ada)
		if err == nil {
			err = c.Take("192.0.2.12:22")
		}
		if err == nil {
			_, err = File(filepath.Join(dir, "ws.lock"), "the workspace", ada)
		}
		fmt.Println("ready", err)
		select {}
	}
	os.Exit(m.Run())
}

func TestClaimsBetweenProcesses(t *testing.T) {
	dir := t.TempDir()
	other := exec.Command(os.Args[0])
	other.Env = append(os.Environ(), "LOCKS_TEST_HOLDS="+dir)
	out, err := other.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, other.Start())
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "ready <nil>\n", line)

	c, err := OpenClaims(dir, Holder{Who: "ben", PID: 1})
	require.NoError(t, err)
	defer c.Close()
	var held *Held
	require.ErrorAs(t, c.Take("192.0.2.12:22"), &held)
	assert.Equal(t, "192.0.2.12:22 is taken by ada, \"Quays\" in /net/quays, since Wed 01:30:00 (process 4711)", held.Error())
	assert.NoError(t, c.Take("192.0.2.13:22"), "another device is free")
	_, err = File(filepath.Join(dir, "ws.lock"), "the workspace", ada)
	require.ErrorAs(t, err, &held)
	assert.Equal(t, "ada", held.By.Who)

	require.NoError(t, other.Process.Kill())
	_ = other.Wait()
	assert.NoError(t, c.Take("192.0.2.12:22"), "a killed night holds nothing")
	l, err := File(filepath.Join(dir, "ws.lock"), "the workspace", ada)
	require.NoError(t, err)
	require.NoError(t, l.Close())
}

func TestClaimsInOneProcess(t *testing.T) {
	dir := t.TempDir()
	a, err := OpenClaims(dir, ada)
	require.NoError(t, err)
	b, err := OpenClaims(dir, Holder{Who: "ben", PID: 2})
	require.NoError(t, err)
	defer b.Close()
	for i := range 2000 {
		require.NoError(t, a.Take(fmt.Sprintf("192.0.2.%d:%d", i%250, i)))
	}
	require.NoError(t, a.Take("192.0.2.7:7"), "ours stays ours")
	err = b.Take("192.0.2.7:7")
	assert.ErrorContains(t, err, "taken by ada")
	a.Release("192.0.2.7:7")
	assert.NoError(t, b.Take("192.0.2.7:7"))
	assert.ErrorContains(t, a.Take("192.0.2.7:7"), "taken by ben")
	require.NoError(t, a.Close())
	assert.NoError(t, b.Take("192.0.2.8:8"))
	left, err := filepath.Glob(filepath.Join(dir, "night-*.json"))
	require.NoError(t, err)
	assert.Len(t, left, 1, "who has gone is not written down any more")
}

func TestALockFileThatCannotBeMade(t *testing.T) {
	_, err := File(filepath.Join(t.TempDir(), "none", "x"), "x", ada)
	var held *Held
	require.Error(t, err)
	assert.False(t, errors.As(err, &held))
	_, err = OpenClaims("/dev/null/x", ada)
	assert.ErrorContains(t, err, "claims")
}
