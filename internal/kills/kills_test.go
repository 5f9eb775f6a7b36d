package kills

import (
	"bufio"
	"bytes"
	"context"
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/sim"
	"metabasis/internal/testenv"
)

var (
	count = flag.Int("kills", 2, "how many places of a night are tried; 0 is all")
	seed  = flag.Int("seed", 1, "which ones")
	demos = flag.Int("demos", 0, "how often the demo's night is killed")
)

// binary is the program.
var binary string

func TestMain(m *testing.M) {
	flag.Parse()
	testenv.Clear()
	dir, err := os.MkdirTemp("", "kills")
	if err == nil {
		binary = filepath.Join(dir, "metabasis")
		var out []byte
		if out, err = exec.Command("go", "build", "-o", binary, "metabasis/cmd/metabasis").CombinedOutput(); err != nil {
			err = fmt.Errorf("%w: %s", err, out)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

const scenario = `station: 203.0.113.5
time_sources: [192.0.2.9, 192.0.2.10, 192.0.2.40]
boot: 1s
settle: 300ms
latency: 8ms
logins: {crew: harbour-lamp}
operator: deep-fathom
privacy: slow-turnstile
config: |
  name {{.Name}}
  time source 192.0.2.9 first
  time source 192.0.2.10 second
  log host 198.51.100.9
  manage from any
  lan 10
    title office
  port 1
    trunk
  port 2
    lan 10
devices:
  - {name: ald-quay-1, address: 192.0.2.11, site: ALD, faults: [{kind: slow, match: '^keep', by: 700ms}]}
  - {name: ald-quay-2, address: 192.0.2.12, site: ALD}
  - {name: ald-dist-1, platform: osier, address: 192.0.2.13, site: ALD}
  - {name: ald-core-1, platform: skerry, address: 192.0.2.14, site: ALD}
  - {name: ald-core-2, platform: skerry, address: 192.0.2.15, site: ALD}
  - {name: ald-sign-1, platform: bittern, address: 192.0.2.16, site: ALD}
`

// overREST is worked by RESTCONF, which has no timer.
const overREST = "ald-core-2"

const book = `runbook "Clocks and logs"
  change    MSF-3300
  window    now for 10m
  reserve   1m

scope
  true

batches
  sizes     8
  together  8
  stop      never
  while held go on

precheck
  reachable

timer       15s
timer       none on bittern, skerry-restconf

step "Time sources"
  on tern
    want
      | time source 192.0.2.40 first
  on osier
    want
      | clock
      |   source 192.0.2.40 rank 1
  on skerry, skerry-restconf
    send
      | set /skerry:core/clock/source[rank='1']/address = 192.0.2.40
    undo
      | set /skerry:core/clock/source[rank='1']/address = 192.0.2.9
  on bittern
    want
      | sign.clock = 192.0.2.40
  expect    clock.source == "192.0.2.40" and clock.settled within 4s

step "Log collector"
  on tern
    want
      | log host 198.51.100.14
  on osier
    want
      | report
      |   to 198.51.100.14
  on skerry, skerry-restconf
    send
      | set /skerry:core/report[.='198.51.100.14']
    undo
      | delete /skerry:core/report[.='198.51.100.14']
  on bittern
    want
      | sign.night = 1
      | sign.brightness = 30

finish
  soak      1s

unattended  take back the device
`

// ground is a workspace over simulated devices whose truth is known.
type ground struct {
	t      *testing.T
	fleet  *sim.Fleet
	ws     string
	claims string
	base   map[string]string // what each device ran before
	night  string            // its runbook
	fails  bool              // some devices do not end as intended
}

func newGround(t *testing.T) *ground {
	s, err := sim.ReadScenario("kills.yaml", []byte(scenario))
	require.NoError(t, err)
	g, addrs := over(t, s)
	csv := "name,address,port,platform,site,login\n"
	for _, d := range g.fleet.Devices() {
		host, port, err := net.SplitHostPort(addrs[d.Name()])
		require.NoError(t, err)
		platform := d.Platform()
		if d.Name() == overREST {
			platform = "skerry-restconf"
		}
		csv += fmt.Sprintf("%s,%s,%s,%s,%s,crew\n", d.Name(), host, port, platform, d.Site())
	}
	g.write("fleet.csv", csv)
	g.write(g.night, book)
	return g
}

// over is a ground with the devices of a scenario, and where each is reached.
func over(t *testing.T, s sim.Scenario) (g *ground, addrs map[string]string) {
	fleet, err := sim.New(s)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(func() { cancel(); fleet.Close() })
	addrs, err = fleet.Listen(ctx, "127.0.0.1", 0)
	require.NoError(t, err)
	g = &ground{t: t, fleet: fleet, ws: t.TempDir(), claims: t.TempDir(), base: map[string]string{}, night: "night.runbook"}
	for _, d := range fleet.Devices() {
		g.base[d.Name()] = d.Running()
	}
	return g, addrs
}

func (g *ground) write(name, text string) {
	require.NoError(g.t, os.WriteFile(filepath.Join(g.ws, name), []byte(text), 0o600))
}

func (g *ground) command(args ...string) *exec.Cmd {
	c := exec.Command(binary, append([]string{"-C", g.ws}, args...)...)
	c.Env = append(os.Environ(), "METABASIS_CREW_PASSWORD=harbour-lamp", "METABASIS_CREW_OPERATOR=deep-fathom", "METABASIS_CREW_PRIVACY=slow-turnstile",
		"METABASIS_HOST_KEYS=remember", "METABASIS_CLAIMS="+g.claims, "XDG_STATE_HOME="+g.claims)
	return c
}

// said runs the program to its end.
func (g *ground) said(args ...string) (string, int) {
	c := g.command(args...)
	out, _ := c.CombinedOutput()
	return string(out), c.ProcessState.ExitCode()
}

// runUntil runs the night and kills it when it has printed so many events. It is false
// where the night came to its end before.
func (g *ground) runUntil(events int) (last string, killed bool, n int) {
	c := g.command("run", "--headless", filepath.Join(g.ws, g.night))
	out, err := c.StdoutPipe()
	require.NoError(g.t, err)
	var told bytes.Buffer
	c.Stderr = &told
	require.NoError(g.t, c.Start())
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if strings.TrimSpace(lines.Text()) == "" {
			break // what follows is the summary
		}
		last = lines.Text()
		if n++; n == events {
			killed = c.Process.Kill() == nil
			break
		}
	}
	for lines.Scan() {
		last += "\n" + lines.Text()
	}
	_ = c.Wait()
	if n == 0 {
		g.t.Fatal(told.String())
	}
	return last, killed, n
}

// truth is what a device is.
type truth struct {
	name             string
	changed, unsaved bool // it runs another configuration than before the night, or than is saved
	pending          bool // something will take it back
}

func (g *ground) truths() (out []truth) {
	for _, d := range g.fleet.Devices() {
		out = append(out, truth{d.Name(), d.Running() != g.base[d.Name()], d.Running() != d.Saved(), !d.Due().IsZero()})
	}
	return out
}

// settled waits until nothing is pending on any device.
func (g *ground) settled() {
	require.Eventually(g.t, func() bool {
		return !slices.ContainsFunc(g.truths(), func(x truth) bool { return x.pending })
	}, time.Minute, 50*time.Millisecond)
}

// section is a part of a report.
func section(doc, title string) string {
	_, rest, _ := strings.Cut(doc, "\n## "+title+"\n")
	part, _, _ := strings.Cut(rest, "\n## ")
	return part
}

// cut kills a night at an event, and holds what is said then against the devices.
func (g *ground) cut(t *testing.T, at int) {
	last, killed, _ := g.runUntil(at)
	if out, _ := g.said("journal", "check"); killed && !strings.Contains(out, "crashed") && strings.Contains(out, "6 devices: ") {
		killed = false // it was over when it was killed
	}
	now := g.truths()
	var told []string
	say := func(what string, args ...string) (string, int) {
		out, code := g.said(args...)
		told = append(told, fmt.Sprintf("--- %s: exit %d\n%s", what, code, out))
		return out, code
	}
	defer func() {
		if t.Failed() {
			t.Logf("killed at event %d (%v): %s\n%+v\n%s", at, killed, last, now, strings.Join(told, "\n"))
		}
	}()
	touched := slices.ContainsFunc(now, func(x truth) bool { return x.changed || x.pending || x.unsaved })

	// the report
	doc, code := say("report", "report", "1")
	if code != 0 {
		assert.Contains(t, doc, "no night was ever run here")
		assert.False(t, touched, "there is no night, and something was done")
	} else {
		left := section(doc, "Left to do")
		if killed {
			assert.NotContains(t, doc, "Nothing is left to do")
			assert.NotContains(t, doc, "All went as intended")
		}
		for _, x := range now {
			if x.unsaved || x.pending || x.changed && !regexp.MustCompile(`(?m)^\| `+x.name+` \|.*\| kept \|`).MatchString(doc) {
				assert.Contains(t, left, x.name, "it is %+v", x)
			}
			if x.changed {
				assert.NotRegexp(t, `(?m)^\| `+x.name+` \|.*\| 0 lines \|`, doc, "it is changed")
			}
		}
	}

	// the comparison
	doc, code = say("compare --night", "compare", "--night", "1")
	if code == 0 {
		for _, x := range now {
			assert.False(t, x.changed, "%s is changed, and nothing is said to be different", x.name)
		}
	}
	for _, x := range now {
		if x.changed {
			assert.Contains(t, doc, x.name, "it is changed")
			assert.NotRegexp(t, x.name+": nothing is different", doc)
		}
	}

	// what would be taken back
	doc, code = say("restore --back --plan", "restore", "--back", "1", "--plan")
	for _, x := range now {
		if x.changed && code == 0 {
			assert.Contains(t, doc, x.name, "it is changed")
		}
	}
	if touched && code != 0 {
		assert.Contains(t, doc, "--before", "it is said what does work")
	}

	// the workspace
	doc, _ = say("journal check", "journal", "check")
	if killed && touched {
		assert.Regexp(t, "cut off|crashed", doc)
	}

	// the next night
	g.settled()
	doc, code = say("run again", "run", "--headless", filepath.Join(g.ws, "night.runbook"))
	for _, d := range g.fleet.Devices() {
		name := d.Name()
		changed, unsaved := d.Running() != g.base[name], d.Running() != d.Saved()
		switch {
		case regexp.MustCompile(name + ` +(kept|already): `).MatchString(doc):
			assert.True(t, changed, "%s is said to be kept", name)
			assert.False(t, unsaved && !regexp.MustCompile(name+` +(kept|already): .*not known to be saved`).MatchString(doc), "%s is said to be kept", name)
		case code == 0:
			assert.Fail(t, "of "+name+" nothing is said, and all is well")
		}
	}
	// What stands in a candidate is nobody's but that of who put it there: a person looks.
	candidate := regexp.MustCompile(`(?m)^\S+ +(\S+) +blocked: changes of crew stand in its candidate and were not applied; night 1, "Clocks and logs" of .* was changing there`).FindStringSubmatch(doc)
	if candidate == nil {
		assert.Equal(t, 0, code, "the next night does what this one left")
	}

	// and back: what that night had a backup of, and of the others it is said why not
	plan, _ := say("restore --before --plan", "restore", "--before", "1", "--plan")
	_, code = say("restore --before", "restore", "--before", "1", "--headless")
	g.settled()
	for _, d := range g.fleet.Devices() {
		name := d.Name()
		if regexp.MustCompile(`night 1 was cut off before it had a backup of it|took no backup of it|no night was ever run`).MatchString(plan) && !regexp.MustCompile(`(?m)^  `+name+` .*; back to `).MatchString(plan) {
			continue
		}
		if candidate != nil {
			if name != candidate[1] {
				assert.Equal(t, g.base[name], d.Running(), name)
			}
			continue
		}
		assert.Equal(t, 0, code, name)
		assert.Equal(t, g.base[name], d.Running(), name)
		assert.Equal(t, d.Running(), d.Saved(), name)
	}
}

func TestAKilledNightIsToldAsItIs(t *testing.T) {
	for name, text := range map[string]string{
		"all at once": book,
		"in batches":  strings.Replace(book, "sizes     8", "sizes     2, 4", 1),
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			whole := newGround(t)
			whole.write("night.runbook", text)
			_, _, n := whole.runUntil(1 << 30)
			require.Greater(t, n, 60)
			at := make([]int, n)
			for i := range at {
				at[i] = i + 1
			}
			if *count > 0 {
				step := max(1, n / *count)
				at = slices.DeleteFunc(at, func(k int) bool { return k%step != *seed%step })
			}
			for _, k := range at {
				t.Run(fmt.Sprint(k), func(t *testing.T) {
					t.Parallel()
					g := newGround(t)
					g.write("night.runbook", text)
					g.cut(t, k)
				})
			}
		})
	}
}

// What a night needs on disk is removed in its midst: nothing more is begun, it is said, and
// the exit code is not that of a night in which all went well.
func TestWhatANightNeedsIsRemoved(t *testing.T) {
	for _, what := range []string{"metabasis.db", "backups", "transcripts"} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			g := newGround(t)
			g.write("night.runbook", strings.Replace(book, "sizes     8", "sizes     2, 4", 1))
			c := g.command("run", "--headless", filepath.Join(g.ws, "night.runbook"))
			out, err := c.StdoutPipe()
			require.NoError(t, err)
			var told, wrong bytes.Buffer
			c.Stderr = &wrong
			require.NoError(t, c.Start())
			lines := bufio.NewScanner(out)
			removed := false
			for lines.Scan() {
				told.WriteString(lines.Text() + "\n")
				if !removed && strings.Contains(lines.Text(), "changing: ") {
					require.NoError(t, os.RemoveAll(filepath.Join(g.ws, what)))
					removed = true
				}
			}
			err = c.Wait()
			all := told.String() + wrong.String()
			assert.Error(t, err, all)
			assert.Regexp(t, what+`\S* was removed while the night ran`, all)
			assert.Regexp(t, `4 devices skipped: .*removed|4 skipped`, all)
			g.settled()
			for _, x := range g.truths() {
				assert.True(t, !x.changed || x.name == "ald-quay-1" || x.name == "ald-quay-2", "%s was begun", x.name)
			}
			if t.Failed() {
				t.Log(all)
			}
		})
	}
}
