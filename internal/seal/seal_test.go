package seal

import (
	"crypto/ed25519"
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/work"
	"metabasis/internal/store"
)

const book = `runbook "Log hosts"
  change    MSF-3001
  window    01:30 for 2h
  reserve   20m

ask
  log_host  address  "Log host"

scope
  role == "quay"

batches
  sizes     1
  stop      never

timer       5m

step "Log host"
  send
    | log host <<log_host>>
  undo
    | drop log host <<log_host>>
`

const csv = "name,address,platform,site,role\na,192.0.2.1,tern,ALD,quay\nb,192.0.2.2,tern,ALD,quay\nc,192.0.2.3,tern,ALD,desk\n"

var (
	traits = map[string]plan.Traits{"tern": {Timer: plan.RestartTimer, Saves: true, TellsSaved: true, Restores: true,
		Tables: map[string]runbook.Table{"clock": {Columns: map[string]runbook.ColumnType{"time": runbook.TimeColumn}}, "storage": {Columns: map[string]runbook.ColumnType{"free": runbook.NumberColumn}}}}}
	profiles = map[string]string{"tern": strings.Repeat("a1", 32)}
	now      = time.Date(2026, 12, 1, 20, 0, 0, 0, time.UTC)
)

func planFor(t *testing.T, text, fleetText, host string) *plan.Plan {
	t.Helper()
	f, err := fleet.Read("fleet.csv", []byte(fleetText), []string{"tern"})
	require.NoError(t, err)
	rb, err := runbook.Parse("x.runbook", []byte(text))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(plan.Schema(traits, f)))
	p, err := plan.Make(rb, f, map[string]string{"log_host": host}, traits, now)
	require.NoError(t, err)
	return p
}

func rehearsal(p *plan.Plan) *store.Rehearsal {
	r := &store.Rehearsal{Ended: now, By: "ada", Runbook: book, Values: p.Values}
	for _, t := range p.Targets() {
		r.Devices = append(r.Devices, work.Rehearsed{Device: t.Device.Name, Fingerprint: strings.Repeat("f0", 32), Differs: []string{"+ log host 192.0.2.40"},
			Steps: []work.RehearsedStep{{Title: "Log host", Send: t.Steps[0].Send, Undo: t.Steps[0].Undo}}})
	}
	return r
}

func sealed(t *testing.T) (*Plan, []byte) {
	t.Helper()
	p := planFor(t, book, csv, "192.0.2.40")
	s, err := Make(p, book, rehearsal(p), profiles, Mark{now, "ada"})
	require.NoError(t, err)
	data, err := s.Bytes()
	require.NoError(t, err)
	return s, data
}

// A seal is the same text whoever reads and writes it; one that was changed is none.
func TestASealIsItsText(t *testing.T) {
	s, data := sealed(t)
	again, err := Read("x.seal", data)
	require.NoError(t, err)
	assert.Equal(t, s, again)
	assert.Len(t, Sum(data), 64)
	for name, text := range map[string]string{
		"changed":   strings.Replace(string(data), `"batch":1`, `"batch": 1`, 1),
		"more":      strings.Replace(string(data), `{"change"`, `{"aside":1,"change"`, 1),
		"cut short": string(data[:len(data)-3]),
		"another":   `{"what":"a list"}`,
		"version":   strings.Replace(string(data), `"version":1`, `"version":7`, 1),
		"empty":     "",
	} {
		_, err := Read("x.seal", []byte(text))
		assert.ErrorContains(t, err, "x.seal: ", name)
	}
	got, ok := s.For("a")
	assert.True(t, ok)
	assert.Equal(t, []string{"log host 192.0.2.40"}, got.Steps[0].Send)
	_, ok = s.For("c")
	assert.False(t, ok)
}

// Whatever differs from what was sealed is said: what, what it was and what it is.
func TestWhatDiffersFromASeal(t *testing.T) {
	s, _ := sealed(t)
	assert.Empty(t, s.Differs(planFor(t, book, csv, "192.0.2.40"), book, profiles))
	assert.Empty(t, s.Differs(planFor(t, book, csv, "192.0.2.40"), book+"\n", profiles), "an empty line at the end is nothing")
	for name, c := range map[string]struct{ book, csv, host, sum, want string }{
		"a line":      {strings.Replace(book, "| log host", "| report host", 1), csv, "192.0.2.40", "", `the runbook: line 20: sealed "| log host <<log_host>>", now "| report host <<log_host>>"`},
		"more":        {book + "# more\n", csv, "192.0.2.40", "", "the runbook: line 23 was not sealed: # more"},
		"a rule":      {strings.Replace(book, "sizes     1", "sizes     2", 1), csv, "192.0.2.40", "", "rules of the batches: sealed sizes 1; stop never, now sizes 2; stop never"},
		"a batch":     {strings.Replace(book, "sizes     1", "sizes     2", 1), csv, "192.0.2.40", "", "b: sealed in batch 2, now in batch 1"},
		"the timer":   {strings.Replace(book, "5m", "6m", 1), csv, "192.0.2.40", "", "timer: sealed 5m, now 6m"},
		"the window":  {strings.Replace(book, "for 2h", "for 3h", 1), csv, "192.0.2.40", "", "window closes: sealed 2026-12-02T03:30:00Z, now 2026-12-02T04:30:00Z"},
		"a value":     {book, csv, "192.0.2.41", "", "value log_host: sealed 192.0.2.40, now 192.0.2.41"},
		"a profile":   {book, csv, "192.0.2.40", strings.Repeat("b2", 32), "profile of tern: sealed a1a1a1a1a1a1, now b2b2b2b2b2b2"},
		"an address":  {book, strings.Replace(csv, "192.0.2.1,", "192.0.2.9,", 1), "192.0.2.40", "", "a: sealed at 192.0.2.1, now at 192.0.2.9"},
		"one less":    {book, strings.Replace(csv, "b,192.0.2.2,tern,ALD,quay", "b,192.0.2.2,tern,ALD,desk", 1), "192.0.2.40", "", "b: sealed, and not in scope now"},
		"one more":    {book, strings.Replace(csv, "ALD,desk", "ALD,quay", 1), "192.0.2.40", "", "c: in scope now, and not sealed"},
		"not left":    {book, strings.Replace(csv, "ALD,desk", "ALD,quay", 1), "192.0.2.40", "", "left out c: sealed role is desk, wanted quay, now there is none"},
		"a precheck":  {strings.Replace(book, "timer ", "precheck\n  clock     within 30s\n\ntimer ", 1), csv, "192.0.2.40", "", "prechecks: sealed identity, now identity; clock within 30s"},
		"the reserve": {strings.Replace(book, "20m", "10m", 1), csv, "192.0.2.40", "", "reserve: sealed 20m, now 10m"},
	} {
		sums := profiles
		if c.sum != "" {
			sums = map[string]string{"tern": c.sum}
		}
		assert.Contains(t, s.Differs(planFor(t, c.book, c.csv, c.host), c.book, sums), c.want, name)
	}
}

// Only what was rehearsed is sealed, as it was rehearsed.
func TestOnlyWhatWasRehearsedIsSealed(t *testing.T) {
	p := planFor(t, book, csv, "192.0.2.40")
	for name, c := range map[string]struct {
		spoil func(r *store.Rehearsal)
		want  string
	}{
		"another text":   {func(r *store.Rehearsal) { r.Runbook += "# x" }, "the runbook is not the one that was rehearsed"},
		"another value":  {func(r *store.Rehearsal) { r.Values = []plan.Value{{Name: "log_host", Value: "192.0.2.7"}} }, `log_host was "192.0.2.7" when it was rehearsed`},
		"not rehearsed":  {func(r *store.Rehearsal) { r.Devices = r.Devices[:1] }, "b was not rehearsed"},
		"nothing of one": {func(r *store.Rehearsal) { r.Devices[1] = work.Rehearsed{Device: "b", Blocked: "not reachable"} }, ""},
	} {
		r := rehearsal(p)
		c.spoil(r)
		s, err := Make(p, book, r, profiles, Mark{now, "ada"})
		if c.want != "" {
			assert.ErrorContains(t, err, c.want, name)
			continue
		}
		require.NoError(t, err, name)
		got, ok := s.For("b")
		assert.True(t, ok)
		assert.Empty(t, got.Configuration, "nothing was approved for it")
	}
}

// What we sign is checked by ssh-keygen, and what was changed is not passed.
func TestSignaturesAreThoseOfSSHKeygen(t *testing.T) {
	_, data := sealed(t)
	dir := t.TempDir()
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	key := pem.EncodeToMemory(block)
	signer, err := ssh.ParsePrivateKey(key)
	require.NoError(t, err)
	sig, err := Sign(data, key, nil)
	require.NoError(t, err)
	finger, err := Verify(data, sig)
	require.NoError(t, err)
	assert.Equal(t, ssh.FingerprintSHA256(signer.PublicKey()), ssh.FingerprintSHA256(finger))
	_, err = Verify(append([]byte(" "), data...), sig)
	assert.ErrorContains(t, err, "the signature is not of this plan")
	_, err = Verify(data, []byte("none"))
	assert.ErrorContains(t, err, "cannot be read")

	write := func(name string, data []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, data, 0o600))
		return path
	}
	allowed := write("allowed", append([]byte("ada "), ssh.MarshalAuthorizedKey(signer.PublicKey())...))
	check := func(data []byte) (string, error) {
		c := exec.Command("ssh-keygen", "-Y", "verify", "-f", allowed, "-I", "ada", "-n", Namespace, "-s", write("x.sig", sig))
		c.Stdin = strings.NewReader(string(data))
		out, err := c.CombinedOutput()
		return string(out), err
	}
	out, err := check(data)
	require.NoError(t, err, out)
	assert.Contains(t, out, "Good")
	out, err = check(append(data, 'x'))
	assert.Error(t, err, out)

	locked, err := ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte("gull"))
	require.NoError(t, err)
	_, err = Sign(data, pem.EncodeToMemory(locked), nil)
	assert.ErrorIs(t, err, ErrPassphrase)
	_, err = Sign(data, pem.EncodeToMemory(locked), []byte("tern"))
	assert.ErrorContains(t, err, "the key cannot be read")
	again, err := Sign(data, pem.EncodeToMemory(locked), []byte("gull"))
	require.NoError(t, err)
	_, err = Verify(data, again)
	assert.NoError(t, err)
	_, err = Sign(data, []byte("no key"), nil)
	assert.ErrorContains(t, err, "the key cannot be read")
}
