//go:build real

package real

import (
	"bufio"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// killed has the nights killed: they take as long as their trials and timers last, some eight minutes.
var killed = flag.Bool("killed", false, "kill nights in mid-trial as well, which takes minutes")

func onlyWhenAsked(t *testing.T) {
	if !*killed {
		t.Skip("go test -tags real ./internal/real -run Killed -args -killed")
	}
}

// program builds the program, for what must be killed.
func (l *lab) program() string {
	binary := l.path("metabasis")
	l.run("go", "build", "-o", binary, "metabasis/cmd/metabasis")
	return binary
}

// killedWhen runs a night in a process of its own and kills it once something is so.
func (l *lab) killedWhen(binary, book string, so func() bool) (said string) {
	l.t.Helper()
	cmd := exec.Command(binary, "-C", l.ws, "run", book, "--headless")
	out, err := cmd.StdoutPipe()
	require.NoError(l.t, err)
	cmd.Stderr = cmd.Stdout
	require.NoError(l.t, cmd.Start())
	done := make(chan string)
	go func() {
		all := ""
		for lines := bufio.NewScanner(out); lines.Scan(); {
			all += lines.Text() + "\n"
		}
		done <- all
	}()
	was := false
	for range 600 {
		if was = so(); was {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	require.NoError(l.t, cmd.Process.Kill())
	said = <-done
	_ = cmd.Wait()
	require.True(l.t, was, "it never was so: %s", said)
	return said
}

// The process is killed while four routers have a change on trial: each takes it back by itself, as
// nobody else can confirm it; the night is gone on with from there, or taken back.
func TestRoutersOfANightThatWasKilled(t *testing.T) {
	onlyWhenAsked(t)
	l := newLab(t)
	homes := routers(t, l)
	binary := l.program()
	book := l.write("ws/route.runbook", `runbook "One more route"
  window    now for 10m
  reserve   2m

scope
  role == "router"

batches
  sizes     4

precheck
  reachable

timer       20s

step "A route for the gates"
  on bird
    want
      | protocol static quays
      |   route 192.0.2.128/25 blackhole
  expect    any(routes, .prefix == "192.0.2.128/25") within 2s

finish
  soak      3s

unattended  take back the device
`)
	onTrial := func() bool {
		for _, home := range homes {
			if !strings.Contains(l.quiet("birdcl", "-s", filepath.Join(home, "bird.ctl"), "configure", "status"), "unconfirmed") {
				return false
			}
		}
		return true
	}
	has := func(home string) bool { return strings.Contains(l.shows(home, "show", "route"), "192.0.2.128/25") }
	for _, how := range []string{"--go-on", "--back"} {
		l.killedWhen(binary, book, onTrial)
		out, err := exec.Command(binary, "-C", l.ws, "resume", "--look").CombinedOutput()
		t.Logf("%s\n%v", out, err)
		for i := range homes {
			assert.Contains(t, string(out), fmt.Sprintf("r%d", i+1))
		}
		assert.Contains(t, string(out), "trial until")
		out, err = exec.Command(binary, "-C", l.ws, "resume", how, "--headless").CombinedOutput()
		t.Logf("%s\n%v", out, err)
		want := "4 devices: 4 reverted"
		if how == "--go-on" {
			want = "4 devices: 4 kept"
			assert.NoError(t, err)
		}
		assert.Contains(t, string(out), want)
		for i, home := range homes {
			assert.Equal(t, how == "--go-on", has(home), "the daemon itself")
			assert.NotContains(t, l.shows(home, "configure", "status"), "unconfirmed")
			if how == "--back" {
				now, err := os.ReadFile(filepath.Join(home, "bird.conf"))
				require.NoError(t, err)
				assert.Equal(t, fmt.Sprintf(birdConf, i+1), string(now))
			}
		}
	}
}

// The process is killed while the firewall has a line and its own timer runs. What the line does nobody
// can compute: its timer is waited for, and that it has what it had is read.
func TestAFirewallOfANightThatWasKilled(t *testing.T) {
	onlyWhenAsked(t)
	l := newLab(t)
	ward(t, l)
	binary := l.program()
	rule := func(port int) string {
		return l.write(fmt.Sprintf("ws/%d.runbook", port), fmt.Sprintf(`runbook "Rules of the ward"
  window    now for 10m
  reserve   1m

scope
  role == "firewall"

precheck
  saved

timer       30s

step "Time"
  already   when config has "udp dport %[1]d accept"
  send
    | cat > /etc/ward/time.nft \<<'END'
    | table inet ward {
    | 	chain input { udp dport %[1]d accept; }
    | }
    | END
    | nft -f /etc/ward/time.nft
  undo
    | rm -f /etc/ward/time.nft

finish
  soak      5s

unattended  take back the device
`, port))
	}
	for i, how := range []string{"--back", "--go-on"} {
		port := 514 + i
		saveWard(t, "flush ruleset\n"+l.wardRuns())
		before := l.wardRuns()
		l.killedWhen(binary, rule(port), func() bool { return l.wardRuns() != before })
		out, err := exec.Command(binary, "-C", l.ws, "resume", "--look").CombinedOutput()
		t.Logf("%s\n%v", out, err)
		assert.Contains(t, string(out), "by the timer of this night")
		assert.Contains(t, string(out), "wait until its own way back takes the change back")
		out, err = exec.Command(binary, "-C", l.ws, "resume", how, "--headless").CombinedOutput()
		t.Logf("%s\n%v", out, err)
		assert.Contains(t, string(out), "1 reverted", "its profile has no language, so its own timer proves it")
		assert.Equal(t, before, l.wardRuns())
	}
}
