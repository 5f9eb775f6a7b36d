package e2e

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fleetSecrets are the secrets of the simulated fleet, by the question that asks
// for them.
var fleetSecrets = map[string]string{
	"password of login crew": "harbour-lamp", "operator of login crew": "deep-fathom",
	"password of login gates": "tide-table", "master of login gates": "slow-turnstile",
	"The ferry's key": "gull-w1ng-77",
}

const oneStep = `runbook "One log host"
  window    now for 10m
  reserve   2m

ask
  key       secret  "The ferry's key"

scope
  name == "ops-desk-1"

timer       60s

step "Log collector"
  already   when config has "log host 198.51.100.14"
  send
    | log host 198.51.100.14
    | login ferry secret k3lp-s3cret-55
    | login pilot secret <<key>>
  undo
    | drop log host 198.51.100.14
    | drop login ferry
    | drop login pilot

unattended  take back the device
`

// TestNoSecretIsWritten is law 12 over the whole program: secrets come from a
// helper, everything that reaches devices is run, and then every byte that was
// written, the process list and the environment of children are searched.
// Backups alone may hold what devices' configurations hold.
func TestNoSecretIsWritten(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ws := filepath.Join(dir, "ws")
	simulate(t, ws, "--faults", "none")
	book := filepath.Join(ws, "one.runbook")
	require.NoError(t, os.WriteFile(book, []byte(oneStep), 0o600))
	// The runbook itself holds a secret of the change; it is not ours to hide.
	seen := filepath.Join(dir, "seen-by-children")
	helper := filepath.Join(dir, "helper")
	script := "#!/bin/sh\n{ env; ps -o args -p $PPID -p $$; cat /proc/$PPID/cmdline; } >>" + seen + "\ncase \"$1\" in\n"
	for question, secret := range fleetSecrets {
		script += fmt.Sprintf("%q*) echo %s ;;\n", question, secret)
	}
	require.NoError(t, os.WriteFile(helper, []byte(script+"esac\n"), 0o700))

	var printed bytes.Buffer
	run := func(want int, args ...string) {
		cmd := exec.Command(binary, append([]string{"-C", ws}, args...)...)
		cmd.Env = append(os.Environ(), "METABASIS_ASKPASS="+helper, "METABASIS_HOST_KEYS=remember", "METABASIS_UNUSED_PASSWORD=never-handed-on-9")
		cmd.Stdout, cmd.Stderr = &printed, &printed
		require.NoError(t, cmd.Start())
		list, err := exec.Command("ps", "-o", "args", "-p", fmt.Sprint(cmd.Process.Pid)).Output()
		require.NoError(t, err)
		printed.Write(list)
		_ = cmd.Wait()
		assert.Equal(t, want, cmd.ProcessState.ExitCode(), "%v: %s", args, printed.String()[max(0, printed.Len()-2000):])
	}
	run(0, "reach", "--headless")
	run(0, "reach", "--json", `site == "ALD"`)
	run(0, "read", "version", "--headless")
	run(0, "ask", "tell running", `platform == "tern"`)
	run(0, "profile", "try", "../../profiles/tern.yaml", "ops-desk-2")
	run(0, "profile", "try", "../../profiles/plover.yaml", "ald-gate-1")
	run(0, "run", book, "--headless", "--json")
	require.NoError(t, os.Remove(book))

	secrets := []string{"never-handed-on-9", "k3lp-s3cret-55"}
	for _, s := range fleetSecrets {
		secrets = append(secrets, s)
	}
	children, err := os.ReadFile(seen)
	require.NoError(t, err)
	assert.Contains(t, string(children), "PATH=", "the helper's environment was seen")
	files := 0
	search := func(where string, data []byte) {
		for _, s := range secrets {
			if bytes.Contains(data, []byte(s)) {
				at := bytes.Index(data, []byte(s))
				assert.Fail(t, "a secret was written", "%s is in %s: …%s…", s, where, data[max(0, at-80):min(len(data), at+60)])
			}
		}
	}
	search("what was printed, and the process list", printed.Bytes())
	search("what children see", bytes.ReplaceAll(children, []byte("METABASIS_ASKPASS"), nil))
	require.NoError(t, filepath.WalkDir(ws, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.Contains(path, "/backups/") {
			return err
		}
		data, err := os.ReadFile(path)
		files++
		search(path, data)
		return err
	}))
	assert.Greater(t, files, 50, "transcripts, evidence, journal")
}
