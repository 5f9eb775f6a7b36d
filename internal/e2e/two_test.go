package e2e

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const tenQuays = `station: 203.0.113.5
time_sources: [192.0.2.9, 192.0.2.40]
boot: 2s
settle: 500ms
latency: 25ms
logins: {crew: harbour-lamp}
operator: deep-fathom
config: |
  name {{.Name}}
  time source 192.0.2.9 first
  port 1
    trunk
devices:
`

const tenBook = `runbook "Ten quays"
  change    MSF-3001
  window    now for 10m
  reserve   1m

scope
  true

batches
  sizes     2, 8
  together  4

precheck
  reachable
  alone

timer       60s

step "Log collector"
  already   when config has "log host 198.51.100.14"
  send
    | log host 198.51.100.14
  undo
    | drop log host 198.51.100.14

step "Time sources"
  already   when config has "time source 192.0.2.40 first"
  send
    | time source 192.0.2.40 first
  undo
    | drop time source 192.0.2.40
  expect    clock.source == "192.0.2.40" and clock.settled within 20s

finish
  soak      2s

unattended  take back the device
`

// tenDevices makes two workspaces over the same ten simulated devices.
func tenDevices(t *testing.T) (one, two string) {
	t.Helper()
	dir := t.TempDir()
	one, two = filepath.Join(dir, "one"), filepath.Join(dir, "two")
	scenario := filepath.Join(dir, "ten.yaml")
	text := tenQuays
	for i := range 10 {
		text += fmt.Sprintf("  - {name: ald-quay-%d, site: ALD}\n", i+1)
	}
	require.NoError(t, os.WriteFile(scenario, []byte(text), 0o600))
	simulate(t, one, "--scenario", scenario)
	require.NoError(t, os.WriteFile(filepath.Join(one, "ten.runbook"), []byte(tenBook), 0o600))
	require.NoError(t, os.MkdirAll(two, 0o700))
	for _, f := range []string{"fleet.csv", "ten.runbook"} {
		b, err := os.ReadFile(filepath.Join(one, f))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(two, f), b, 0o600))
	}
	return one, two
}

// process is the program, running without a screen.
type process struct {
	*exec.Cmd
	out syncBuffer
}

// syncBuffer is a buffer that can be looked into while it is written.
type syncBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *syncBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}
func (s *syncBuffer) String() string { s.mu.Lock(); defer s.mu.Unlock(); return s.b.String() }

func headless(t *testing.T, claims, ws string, args ...string) *process {
	t.Helper()
	p := &process{Cmd: exec.Command(binary, append([]string{"-C", ws}, args...)...)}
	p.Env = append(append(os.Environ(), loginEnv...), "METABASIS_HOST_KEYS=remember", "METABASIS_CLAIMS="+claims)
	p.Stdout, p.Stderr = &p.out, &p.out
	require.NoError(t, p.Start())
	t.Cleanup(func() { _ = p.Process.Kill(); _ = p.Wait() })
	return p
}

// says waits until the process has printed what matches.
func (p *process) says(t *testing.T, pattern string) {
	t.Helper()
	re := regexp.MustCompile(pattern)
	require.Eventually(t, func() bool { return re.MatchString(p.out.String()) }, patience, 20*time.Millisecond, "never printed: %s\n%s", pattern, &p.out)
}

func (s *syncBuffer) Format(f fmt.State, _ rune) { _, _ = io.WriteString(f, s.String()) }

// code waits for the end and returns the exit code.
func (p *process) code() int {
	_ = p.Wait()
	return p.ProcessState.ExitCode()
}

// Two real processes want the same ten devices, from two workspaces and from one: each
// device is changed by one of them, and the other says who has it.
func TestTwoNightsAtOnce(t *testing.T) {
	t.Parallel()
	one, two := tenDevices(t)
	claims := t.TempDir()
	book := func(ws string) string { return filepath.Join(ws, "ten.runbook") }

	first := headless(t, claims, one, "run", "--headless", book(one))
	first.says(t, "changing")
	second := headless(t, claims, two, "run", "--headless", book(two))
	again := headless(t, claims, one, "run", "--headless", book(one))
	waiting := headless(t, claims, two+"-not", "run", "--headless", book(two)) // a workspace that is none
	assert.Equal(t, 1, waiting.code())

	assert.Equal(t, 1, again.code(), &again.out)
	who := fmt.Sprintf(`"Ten quays" in %s, since \w+ \d\d:\d\d:\d\d \(process %d\)`, regexp.QuoteMeta(one), first.Process.Pid)
	assert.Regexp(t, "this workspace is taken by .*"+who+"; wait for its end with --wait", again.out.String())

	assert.Equal(t, 2, second.code(), &second.out)
	assert.Contains(t, second.out.String(), "10 devices: 10 blocked")
	assert.Regexp(t, "ald-quay-7 +blocked: another night has it: .*"+who, second.out.String())

	patient := headless(t, claims, two, "run", "--headless", "--wait", book(two))
	patient.says(t, "another night has it")
	assert.Equal(t, 0, first.code(), &first.out)
	assert.Contains(t, first.out.String(), "10 devices: 10 kept")
	assert.Equal(t, 0, patient.code(), &patient.out)
	assert.Contains(t, patient.out.String(), "10 devices: 10 already", "what it waited for was done meanwhile")
}

// Two at exactly the same time, from a cold start: whoever comes first, no device is
// changed by both, and both tell the truth.
func TestTwoNightsFightForTenDevices(t *testing.T) {
	t.Parallel()
	one, two := tenDevices(t)
	claims := t.TempDir()
	a := headless(t, claims, one, "run", "--headless", filepath.Join(one, "ten.runbook"))
	b := headless(t, claims, two, "run", "--headless", filepath.Join(two, "ten.runbook"))
	codes := []int{a.code(), b.code()}
	kept, blocked := 0, 0
	for i := range 10 {
		ends := 0
		for _, p := range []*process{a, b} {
			switch out := p.out.String(); {
			case regexp.MustCompile(fmt.Sprintf(`ald-quay-%d +kept`, i+1)).MatchString(out):
				kept++
				ends++
			case regexp.MustCompile(fmt.Sprintf(`ald-quay-%d +blocked: another night has it`, i+1)).MatchString(out):
				blocked++
			}
		}
		assert.Equal(t, 1, ends, "ald-quay-%d is kept by %d nights", i+1, ends)
	}
	assert.Equal(t, 10, kept, "%s\n%s", &a.out, &b.out)
	assert.Equal(t, 10, blocked)
	assert.NotContains(t, a.out.String()+b.out.String(), "stranded")
	assert.NotContains(t, codes, 4)
}

// A night that is killed holds nothing any more; its timers are recognised as ours
// until they fire, and then the next night does what it left.
func TestAfterAKilledNight(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	claims := t.TempDir()
	book := filepath.Join(one, "ten.runbook")
	text, err := os.ReadFile(book)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(book, bytes.Replace(text, []byte("timer       60s"), []byte("timer       40s"), 1), 0o600))
	first := headless(t, claims, one, "run", "--headless", book)
	first.says(t, `ald-quay-2 +soaking`)
	require.NoError(t, first.Process.Signal(syscall.SIGKILL))
	_ = first.code()

	check := headless(t, claims, one, "journal", "check")
	assert.Equal(t, 0, check.code(), &check.out)
	assert.Regexp(t, `night 1, .*Ten quays: whole, \d+ events; crashed at \d\d:\d\d:\d\d, \d+ in change; then: 10 devices`, check.out.String())

	next := headless(t, claims, one, "run", "--headless", book)
	assert.Equal(t, 2, next.code(), &next.out)
	assert.Regexp(t, `ald-quay-2 +blocked: a restart is pending on it already, due \d\d:\d\d:\d\d, in (\d+m)?\d+s: it is our own, armed by "Ten quays" of .*, which never saw its end`, next.out.String())
	assert.Contains(t, next.out.String(), "8 kept")

	deadline := time.Now().Add(patience)
	kept := 0 // the two that are left, together or one after the other, as their timers fire
	for last := ""; ; {
		again := headless(t, claims, one, "run", "--headless", book)
		code := again.code()
		last = again.out.String()
		if m := regexp.MustCompile(`(?m)^10 devices: .*?(\d+) kept`).FindStringSubmatch(last); m != nil {
			n, err := strconv.Atoi(m[1])
			require.NoError(t, err)
			kept += n
		}
		if code == 0 {
			assert.Equal(t, 2, kept, last)
			break
		}
		require.True(t, time.Now().Before(deadline), last)
		time.Sleep(time.Second)
	}
}

// A full disk in mid-night is called that, nothing new is reached, and the summary is
// printed all the same. The disk is small and real: a file system of its own.
func TestTheDiskIsFull(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	small := filepath.Join(t.TempDir(), "small")
	require.NoError(t, os.MkdirAll(small, 0o700))
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=400k"); err != nil {
		t.Skipf("this needs the right to mount a small disk: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(small, syscall.MNT_DETACH) })
	for _, f := range []string{"fleet.csv", "ten.runbook"} {
		b, err := os.ReadFile(filepath.Join(one, f))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(small, f), b, 0o600))
	}
	p := headless(t, t.TempDir(), small, "run", "--headless", filepath.Join(small, "ten.runbook"))
	p.says(t, "changing")
	fill, err := os.Create(filepath.Join(small, "full"))
	require.NoError(t, err)
	defer fill.Close()
	block := make([]byte, 4096)
	for err == nil {
		_, err = fill.Write(block)
	}
	code := p.code()
	out := p.out.String()
	assert.Contains(t, []int{2, 4}, code, out)
	assert.Regexp(t, `no space left on device|database or disk is full`, out)
	assert.NotContains(t, out, "contact lost")
	assert.Regexp(t, `10 devices: .*skipped`, out)
	assert.Regexp(t, `devices skipped: stopped: .*cannot be written`, out)
	assert.Regexp(t, `devices skipped: .*: ald-quay-\d, ald-quay-\d`, out[strings.LastIndex(out, "10 devices:"):], "those that were skipped are named at the end")
}
