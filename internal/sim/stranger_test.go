package sim

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

const strangerConfig = "name {{.Name}}\ntime source 192.0.2.9 first\nmanage from any\nlogin crew secret lamp\nport 1\n  trunk\n"

// TestStranger is a person with the ordinary OpenSSH client: it logs in, changes
// a line, arms the timer, and is dropped when it fires.
func TestStranger(t *testing.T) {
	client, err := exec.LookPath("ssh")
	require.NoError(t, err, "the OpenSSH client is needed: make deps installs it")
	pub, key := keyPair(t)
	f, err := New(Scenario{Boot: 100 * time.Millisecond, TimeSources: []string{"192.0.2.9"}, Logins: map[string]string{"crew": "lamp"},
		Operator: "deep", Config: strangerConfig, Devices: []Spec{{Name: "ald-quay-1", Address: "192.0.2.11", Ports: 24}}}, pub)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	addrs, err := f.Listen(ctx, "127.0.0.1", 0)
	require.NoError(t, err)
	t.Cleanup(func() { cancel(); f.Close() })
	_, port, _ := net.SplitHostPort(addrs["ald-quay-1"])

	limit, stop := context.WithTimeout(ctx, 30*time.Second)
	defer stop()
	cmd := exec.CommandContext(limit, client, "-tt", "-F", "/dev/null", "-i", key, "-p", port, "-o", "StrictHostKeyChecking=no",
		"-o", "UserKnownHostsFile=/dev/null", "-o", "BatchMode=yes", "-o", "IdentitiesOnly=yes", "crew@127.0.0.1")
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	see := watcher(t, out)
	say := func(line string) { _, err := io.WriteString(in, line+"\r"); require.NoError(t, err) }

	see("[ald-quay-1 look] ")
	say("tell running")
	see("time source 192.0.2.9 first")
	see("space goes on, q stops --") // the pager is on for people
	_, err = io.WriteString(in, " ")
	require.NoError(t, err)
	see("[ald-quay-1 look] ")
	say("work")
	see("Operator password: ")
	say("deep")
	see("[ald-quay-1 work] ")
	say("edit")
	see("[ald-quay-1 edit] ")
	say("log hst 198.51.100.14")
	see(`Refused: unknown line "log hst 198.51.100.14"`)
	say("log host 198.51.100.14")
	see("[ald-quay-1 edit] ")
	say("done")
	see("[ald-quay-1 work] ")
	assert.Contains(t, f.Device("ald-quay-1").Running(), "log host 198.51.100.14")
	say("restart in 1 s")
	see("Restart due at ")
	require.Error(t, cmd.Wait(), "the client must be dropped")
	require.NoError(t, limit.Err(), "the client was dropped by the device, not by us")

	require.Eventually(t, func() bool {
		tr := f.Device("ald-quay-1").Truth()
		return tr[len(tr)-1].What == Up
	}, 10*time.Second, 10*time.Millisecond)
	assert.NotContains(t, f.Device("ald-quay-1").Running(), "log host", "it is back with what was saved")
}

// keyPair makes a key for the client and returns its public half and its file.
func keyPair(t *testing.T) (ssh.PublicKey, string) {
	pub, priv, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(priv, "")
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(block), 0o600))
	k, err := ssh.NewPublicKey(pub)
	require.NoError(t, err)
	return k, file
}

// watcher reads what the client shows; it returns a function that waits until
// some text has come.
func watcher(t *testing.T, r io.Reader) func(string) {
	b := bufio.NewReader(r)
	var seen strings.Builder
	return func(want string) {
		t.Helper()
		for !strings.Contains(seen.String(), want) {
			c, err := b.ReadByte()
			require.NoError(t, err, "waiting for %q, seen %q", want, seen.String())
			seen.WriteByte(c)
		}
		rest := seen.String()[strings.Index(seen.String(), want)+len(want):]
		seen.Reset()
		seen.WriteString(rest)
	}
}
