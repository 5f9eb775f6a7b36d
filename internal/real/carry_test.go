//go:build real

package real

import (
	"crypto/rand"
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
)

// Files are carried to OpenSSH's own sftp-server, four together: one connection is cut off in their midst,
// and is gone on with; every checksum is that which sha256sum tells; a second run carries nothing; and what
// is fetched is what was carried.
func TestFilesAreCarriedToOpenSSH(t *testing.T) {
	l := newLab(t)
	const size = 48 << 20
	image := make([]byte, size)
	_, err := rand.Read(image)
	require.NoError(t, err)
	file := l.path("new.img")
	require.NoError(t, os.WriteFile(file, image, 0o600))
	lines := []string{"name,address,port,platform,site,role,login,calls itself"}
	var homes []string
	for i := range 4 {
		user := fmt.Sprintf("mb-img%d", i+1)
		homes = append(homes, l.user(user, "tide-table-9"))
		a := loopback(61 + i)
		port := l.sshd(user, []string{a}, "PasswordAuthentication yes", "Subsystem sftp /usr/lib/openssh/sftp-server")
		lines = append(lines, fmt.Sprintf("r%d,%s,%s,bird,OPS,router,%s,%s", i+1, a, port, user, user))
		t.Setenv(fmt.Sprintf("METABASIS_MB_IMG%d_PASSWORD", i+1), "tide-table-9")
	}
	l.fleet(lines...)
	l.write("ws/metabasis.yaml", "host_keys: remember\n")

	cut := make(chan struct{})
	var watching sync.WaitGroup
	watching.Go(func() { // the second is cut off once a good part is there
		for {
			select {
			case <-cut:
				return
			case <-time.After(2 * time.Millisecond):
			}
			parts, _ := filepath.Glob(filepath.Join(homes[1], "new.img.part-*"))
			for _, p := range parts {
				if info, err := os.Stat(p); err == nil && info.Size() > size/3 {
					_ = exec.Command("pkill", "-KILL", "-u", "mb-img2", "sftp-server").Run()
					return
				}
			}
		}
	})
	code, out, errOut := l.metabasis("", "carry", file, "to", "--rate-device", "40MB")
	close(cut)
	watching.Wait()
	require.Zero(t, code, out+errOut)
	assert.Contains(t, errOut, "4 devices: 4 carried, 0 had it already, 0 do not have it")
	assert.Regexp(t, `r2 +there as new.img, gone on with from \d+\.\d MB; its checksum is right`, out)
	for i, home := range homes {
		got, err := os.ReadFile(filepath.Join(home, "new.img"))
		require.NoError(t, err)
		assert.Equal(t, len(image), len(got))
		assert.True(t, string(image) == string(got), "r%d has another file", i+1)
		left, _ := filepath.Glob(filepath.Join(home, "*.part-*"))
		assert.Empty(t, left)
	}
	code, out, errOut = l.metabasis("", "carry", file, "to")
	require.Zero(t, code, out+errOut)
	assert.Contains(t, errOut, "0 carried, 4 had it already")
	code, out, errOut = l.metabasis("", "fetch", "new.img", "from", "r3")
	require.Zero(t, code, out+errOut)
	got, err := os.ReadFile(l.path("ws/fetched/r3/new.img"))
	require.NoError(t, err)
	assert.True(t, string(image) == string(got))
	noted, err := os.ReadFile(l.path("ws/carried.jsonl"))
	require.NoError(t, err)
	assert.Equal(t, 4, strings.Count(string(noted), `"proof":"its checksum, as the device tells it"`))
}

// A Linux box fetches a file from us by curl, whole and by ranges of its own, and by Debian's tftp client, with
// the options that it asks for; each has an address of its own, which holds no more afterwards.
func TestFilesAreFetchedByRealClients(t *testing.T) {
	l := newLab(t)
	image := make([]byte, 3<<20)
	_, err := rand.Read(image)
	require.NoError(t, err)
	file := l.path("new.img")
	require.NoError(t, os.WriteFile(file, image, 0o600))
	home := l.user("mb-pull", "tide-table-9")
	a := loopback(71)
	port := l.sshd("mb-pull", []string{a}, "PasswordAuthentication yes")
	t.Setenv("METABASIS_MB_PULL_PASSWORD", "tide-table-9")
	l.fleet("name,address,port,platform,site,role,login,calls itself", fmt.Sprintf("p1,%s,%s,pullbox,OPS,router,mb-pull,mb-pull", a, port))
	l.write("ws/metabasis.yaml", "host_keys: remember\n")
	for way, fetch := range map[string]string{
		"http":  "curl -sSf -o <<path>> <<url>>",
		"https": "curl -ksSf -r 0-99999 -o <<path>> <<url>> && curl -ksSf -C - -o <<path>> <<url>>",
		"tftp":  "tftp -m binary <<host>> <<port>> -c get <<file>> <<path>>",
	} {
		l.write("ws/profiles/pullbox.yaml", "platform: pullbox\ntitle: a Linux box that fetches\nlike: bird\nfiles:\n  way: "+way+"\n  into: ''\n"+
			"  fetch: {in: shell, send: '"+fetch+"'}\n  rename: {in: shell, send: 'mv -n <<path>> <<to>>'}\n  remove: {in: shell, send: 'rm -f <<path>>'}\n"+
			"  sum: {in: shell, send: sha256sum <<path>>}\n  tells: '^([0-9a-f]{64}) '\n")
		code, out, errOut := l.metabasis("", "carry", file, "to", "--as", way+".img", "--serve", "127.0.0.1:0")
		require.Zero(t, code, way+": "+out+errOut)
		assert.Contains(t, out, "p1  there as "+way+".img", way)
		assert.Contains(t, out, "its checksum is right", way)
		got, err := os.ReadFile(filepath.Join(home, way+".img"))
		require.NoError(t, err)
		assert.True(t, string(image) == string(got), way)
		code, out, errOut = l.metabasis("", "carry", file, "to", "--as", way+".img", "--serve", "127.0.0.1:0")
		require.Zero(t, code, out+errOut)
		assert.Contains(t, out, "there already", way)
	}
}

// Files are carried to OpenSSH's scp and fetched from it, whole and proven, with what it says of a path that is
// not there.
func TestFilesAreCarriedByTheOldProtocol(t *testing.T) {
	l := newLab(t)
	image := make([]byte, 5<<20)
	_, err := rand.Read(image)
	require.NoError(t, err)
	file := l.path("new.img")
	require.NoError(t, os.WriteFile(file, image, 0o600))
	home := l.user("mb-scp", "tide-table-9")
	a := loopback(72)
	port := l.sshd("mb-scp", []string{a}, "PasswordAuthentication yes")
	t.Setenv("METABASIS_MB_SCP_PASSWORD", "tide-table-9")
	l.fleet("name,address,port,platform,site,role,login,calls itself", fmt.Sprintf("s1,%s,%s,scpbox,OPS,router,mb-scp,mb-scp", a, port))
	l.write("ws/metabasis.yaml", "host_keys: remember\n")
	l.write("ws/profiles/scpbox.yaml", "platform: scpbox\ntitle: a box that speaks the old protocol\nlike: bird\nfiles:\n  way: scp\n"+
		"  sum: {in: shell, send: sha256sum <<path>>}\n  tells: '^([0-9a-f]{64}) '\n")
	code, out, errOut := l.metabasis("", "carry", file, "to")
	require.Zero(t, code, out+errOut)
	assert.Contains(t, out, "there as new.img")
	assert.Contains(t, out, "its checksum is right")
	got, err := os.ReadFile(filepath.Join(home, "new.img"))
	require.NoError(t, err)
	assert.True(t, string(image) == string(got))
	code, out, errOut = l.metabasis("", "carry", file, "to")
	require.Zero(t, code, out+errOut)
	assert.Contains(t, out, "there already")
	code, out, errOut = l.metabasis("", "carry", file, "to", "--as", "nowhere/new.img")
	assert.Equal(t, 2, code, out+errOut)
	assert.Contains(t, out, "NOT there")
	code, out, errOut = l.metabasis("", "fetch", "new.img", "from")
	require.Zero(t, code, out+errOut)
	fetched, err := os.ReadFile(l.path("ws/fetched/s1/new.img"))
	require.NoError(t, err)
	assert.True(t, string(image) == string(fetched))
}
