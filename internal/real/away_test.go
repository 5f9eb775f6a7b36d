//go:build real

package real

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/store"
)

// Backups go to a real server over SFTP and into a repository of the real git: each is
// pushed once and proven; the server is cut off in the midst, and nothing half-written is
// there under the name of a backup; the next time the rest comes along.
func TestBackupsOffTheMachine(t *testing.T) {
	l := newLab(t)
	home := l.user("mb-vault", "tide-table-9")
	require.NoError(t, os.MkdirAll(filepath.Join(home, "quays"), 0o700))
	l.run("chown", "-R", "mb-vault:", home)
	port := l.sshd("vault", []string{"127.0.0.1"}, "PasswordAuthentication yes", "Subsystem sftp internal-sftp")
	bare := l.path("quays.git")
	l.run("git", "init", "--quiet", "--bare", bare)
	l.fleet("name,address,platform", "r1,127.0.0.1,bird", "r2,127.0.0.1,bird")
	l.write("ws/metabasis.yaml", fmt.Sprintf("host_keys: remember\nbackups:\n  - {sftp: 'mb-vault@127.0.0.1:%s/~/quays'}\n  - {git: %s, masked: true}\n", port, bare))
	shelf := store.Backups{Dir: l.path("ws/backups"), Origin: "night 21"}
	at := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	secret := "  password \"deep-fathom-55\";\n"
	const many = 20
	for i := range many {
		for _, device := range []string{"r1", "r2"} {
			shelf.Origin = fmt.Sprintf("night %d", 20+i)
			_, err := shelf.Put(device, fmt.Sprintf("# %d\n", i)+secret+strings.Repeat("route 192.0.2.0/24 blackhole;\n", 20_000), at.Add(time.Duration(i)*time.Hour))
			require.NoError(t, err)
		}
	}
	there := func() (whole int) {
		for _, device := range []string{"r1", "r2"} {
			files, _ := filepath.Glob(filepath.Join(home, "quays", device, "*.cfg"))
			for _, f := range files {
				data, err := os.ReadFile(f)
				require.NoError(t, err)
				ours, err := os.ReadFile(l.path("ws/backups/" + device + "/" + filepath.Base(f)))
				require.NoError(t, err)
				if assert.Equal(t, len(ours), len(data), "%s is there, and not whole", f) {
					whole++
				}
			}
		}
		return whole
	}
	t.Setenv("METABASIS_MB_VAULT_PASSWORD", "tide-table-9")

	// The server is cut off once the third has begun to arrive.
	cut, stop := make(chan struct{}), make(chan struct{})
	var watching sync.WaitGroup
	watching.Go(func() {
		defer close(cut)
		for {
			files, _ := filepath.Glob(filepath.Join(home, "quays", "*", "*.partial"))
			done, _ := filepath.Glob(filepath.Join(home, "quays", "*", "*.cfg"))
			if len(done) > 2 && len(files) > 0 {
				_ = exec.Command("pkill", "-KILL", "-u", "mb-vault").Run()
				return
			}
			select {
			case <-stop:
				return
			case <-time.After(time.Millisecond):
			}
		}
	})
	code, out, _ := l.metabasis("", "backups", "push")
	close(stop)
	watching.Wait()
	assert.Equal(t, 2, code, "not all of it could be pushed")
	assert.Contains(t, out, "NOT all")
	assert.Contains(t, out, fmt.Sprintf("git %s: %d pushed", bare, 2*many), "the one place keeps no other from its own")
	before := there()
	assert.Positive(t, before)
	assert.Less(t, before, 2*many)

	code, out, errOut := l.metabasis("", "backups", "push")
	assert.Zero(t, code, out+errOut)
	assert.Equal(t, 2*many, there())
	code, out, _ = l.metabasis("", "backups", "push")
	assert.Zero(t, code)
	assert.Contains(t, out, fmt.Sprintf("0 pushed, %d there already", 2*many), "each is pushed once")

	// A commit a night, a file a device, secrets masked.
	assert.Equal(t, fmt.Sprint(many), strings.TrimSpace(l.run("git", "-C", bare, "rev-list", "--count", "backups")))
	assert.Equal(t, "night 39: 2 devices", strings.TrimSpace(l.run("git", "-C", bare, "log", "-1", "--format=%s", "backups")))
	shown := l.run("git", "-C", bare, "show", "backups:r1.cfg")
	assert.NotContains(t, shown, "deep-fathom-55")
	assert.Contains(t, shown, fmt.Sprintf("# %d\n", many-1))
	assert.Equal(t, "r1.cfg\nr2.cfg", strings.TrimSpace(l.run("git", "-C", bare, "ls-tree", "--name-only", "backups")))

	// A wrong password is told, and tried once.
	_, err := shelf.Put("r1", "another\n", at.Add(1000*time.Hour))
	require.NoError(t, err)
	t.Setenv("METABASIS_MB_VAULT_PASSWORD", "wrong")
	code, out, _ = l.metabasis("", "backups", "push")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "login mb-vault is denied")
	assert.Equal(t, 1, strings.Count(l.log("vault"), "Failed password for mb-vault"))
}
