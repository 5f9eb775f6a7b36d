//go:build real

package real

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/store"
)

const birdConf = `router id 192.0.2.%[1]d;
protocol device { }
# the quays of this router
protocol static quays {
  ipv4;
  route 198.51.100.0/24 blackhole;
  route 203.0.113.0/24 via "lo";
  route 192.0.2.%[1]d/32 via "lo" weight 1 via "lo" weight 2;
}
protocol bgp east {
  local 127.0.0.1 port 1790 as 64496;
  neighbor 127.0.0.2 as 64497;
  password "deep-fathom-%[1]d";
  ipv4 { import none; export none; };
}
`

// routers are four routers behind OpenSSH, each with a daemon of its own.
func routers(t *testing.T, l *lab) (homes []string) {
	var addrs []string
	lines := []string{"name,address,port,platform,site,role,login,calls itself"}
	for i := range 4 {
		addrs = append(addrs, loopback(40+i))
	}
	port := l.sshd("routers", addrs, "PasswordAuthentication yes")
	for i, a := range addrs {
		user := fmt.Sprintf("mb-r%d", i+1)
		home := l.user(user, "harbour-lamp-"+user)
		homes = append(homes, home)
		require.NoError(t, os.WriteFile(filepath.Join(home, "bird.conf"), fmt.Appendf(nil, birdConf, i+1), 0o644))
		cmd := exec.Command("bird", "-f", "-c", "bird.conf", "-s", "bird.ctl", "-P", "bird.pid")
		cmd.Dir = home
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		ctl := filepath.Join(home, "bird.ctl")
		require.Eventually(t, func() bool { _, err := os.Stat(ctl); return err == nil }, 10*time.Second, 20*time.Millisecond)
		l.run("chown", "-R", user, home)
		require.NoError(t, os.Chmod(ctl, 0o666))
		t.Setenv("METABASIS_"+strings.ToUpper(strings.ReplaceAll(user, "-", "_"))+"_PASSWORD", "harbour-lamp-"+user)
		lines = append(lines, fmt.Sprintf("r%d,%s,%s,bird,OPS,router,%s,%s", i+1, a, port, user, user))
	}
	t.Setenv("METABASIS_HOST_KEYS", "remember")
	l.fleet(lines...)
	return homes
}

func TestRouters(t *testing.T) {
	l := newLab(t)
	homes := routers(t, l)
	code, out, _ := l.metabasis("", "reach", "--headless")
	assert.Zero(t, code)
	assert.Contains(t, out, "4 of 4 devices ready.")

	code, out, _ = l.metabasis("", "read", "routes", "--csv")
	assert.Zero(t, code)
	for i := range 4 {
		assert.Contains(t, out, fmt.Sprintf("r%d,198.51.100.0/24,blackhole,quays,true,200,", i+1))
		assert.Contains(t, out, fmt.Sprintf("r%d,203.0.113.0/24,unicast,quays,true,200,lo", i+1))
	}
	code, out, _ = l.metabasis("", "read", "protocols", "--headless")
	assert.Zero(t, code)
	assert.Contains(t, out, "quays    Static  master4  up")
	assert.Contains(t, out, "east")
	for _, table := range []string{"version", "clock", "storage"} {
		code, out, _ = l.metabasis("", "read", table, "--headless")
		assert.Zero(t, code, out)
	}
	code, out, _ = l.metabasis("", "ask", `birdcl ${BIRD_CTL:+-s "$BIRD_CTL"} show route count`)
	assert.Zero(t, code)
	assert.Contains(t, out, "4 devices: r1, r2, r3, r4")
	code, _, errOut := l.metabasis("", "ask", "birdcl down")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "is never sent")

	// Every line of the profile fits, and a trial really takes itself back.
	code, out, _ = l.metabasis("r1\n", "profile", "try", "--change", "../../profiles/bird.yaml", "r1")
	assert.Zero(t, code, out)
	assert.Contains(t, out, `fits "Configuration unconfirmed, undo in `)
	backUp(t, l, homes)
}

// routeNight runs a night that gives the routers one more route, and one more line.
func routeNight(t *testing.T, l *lab, line, expect string) (code int, out string) {
	book := l.write("ws/route.runbook", `runbook "One more route"
  window    now for 10m
  reserve   2m

scope
  role == "router"

batches
  sizes     4

precheck
  reachable
  clock     within 30s
  storage   at least 1 MB
  check     "Static routes are up" where any(protocols, .name == "quays" and .state == "up")

timer       20s

step "A route for the gates"
  on bird
    want
      | protocol static quays
      |   route 192.0.2.128/25 blackhole
  expect    `+expect+` within 4s

step "One more line"
  on bird
    send
      | protocol static quays
      | `+line+`
      | up

unattended  take back the device
`)
	code, out, _ = l.metabasis("", "run", book, "--headless")
	return code, out
}

// A whole file of the workspace, with each router's own values, is put in place.
func TestRoutersGetAWholeFile(t *testing.T) {
	l := newLab(t)
	homes := routers(t, l)
	l.write("ws/bird.conf", `# <<name>>, by the night crew
router id 192.0.2.77;

protocol device { }
protocol static quays {
  ipv4;
  route 192.0.2.128/25 blackhole; # <<name>>
}
`)
	book := l.write("ws/file.runbook", `runbook "A file of its own"
  window    now for 10m
  reserve   2m

scope
  role == "router"

timer       20s

step "The routers' file"
  on bird
    put file "bird.conf"
  expect    any(routes, .prefix == "192.0.2.128/25") and all(protocols, .name != "east") within 5s

unattended  take back everything
`)
	code, out, _ := l.metabasis("", "run", book, "--headless")
	assert.Zero(t, code)
	assert.Contains(t, out, "4 devices: 4 kept")
	for i, home := range homes {
		now, err := os.ReadFile(filepath.Join(home, "bird.conf"))
		require.NoError(t, err)
		assert.Contains(t, string(now), fmt.Sprintf("# r%d, by the night crew\nrouter id 192.0.2.77;\n\nprotocol device", i+1), "as it stands in the workspace")
		assert.Contains(t, l.shows(home, "show", "route"), "192.0.2.128/25")
		assert.NotContains(t, l.shows(home, "show", "protocols"), "east")
	}
	code, out, _ = l.metabasis("", "run", book, "--headless")
	assert.Zero(t, code)
	assert.Contains(t, out, "4 already", "what is in place is not put there again")
}

// shows asks a daemon itself.
func (l *lab) shows(home string, command ...string) string {
	return l.run("birdcl", append([]string{"-s", filepath.Join(home, "bird.ctl")}, command...)...)
}

// backUp runs a night over the routers on the daemons' own trial: they are backed up, the
// file is edited, checked by the daemon, applied for a time, proven and confirmed.
func backUp(t *testing.T, l *lab, homes []string) {
	code, out := routeNight(t, l, "route 192.0.2.64/26 blackhole", `any(routes, .prefix == "192.0.2.128/25")`)
	assert.Zero(t, code)
	assert.Contains(t, out, "4 devices: 4 kept")
	assert.Contains(t, out, "on trial for")
	for i, home := range homes {
		assert.Equal(t, fmt.Sprintf(birdConf, i+1), l.oldestBackup(fmt.Sprintf("r%d", i+1)), "the backup is the file as it was")
		now, err := os.ReadFile(filepath.Join(home, "bird.conf"))
		require.NoError(t, err)
		assert.Contains(t, string(now), "  route 192.0.2.128/25 blackhole;\n  route 192.0.2.64/26 blackhole;\n}\n")
		assert.Contains(t, string(now), "# the quays of this router", "what was not changed stays as it was written")
		assert.NotContains(t, out, fmt.Sprintf("deep-fathom-%d", i+1), "secrets of the configuration are masked")
		assert.Contains(t, l.shows(home, "show", "route"), "192.0.2.128/25")
		assert.NotContains(t, l.shows(home, "configure", "status"), "unconfirmed")
	}
}

// oldestBackup is the text of a device's first backup. A night that is over in a second
// leaves several of that second, and the names alone, sorted as text, do not order them.
func (l *lab) oldestBackup(device string) string {
	backups := store.Backups{Dir: filepath.Join(l.ws, "backups")}
	shelf, err := backups.Shelf(device)
	require.NoError(l.t, err)
	require.NotEmpty(l.t, shelf)
	text, err := backups.Read(shelf[len(shelf)-1])
	require.NoError(l.t, err)
	return text
}

// A file that the daemon's own checker refuses is never applied, and a router that loses
// its SSH server in mid-trial takes the change back by itself.
func TestRoutersThatTakeItBack(t *testing.T) {
	l := newLab(t)
	homes := routers(t, l)

	// The second line is one that no daemon takes.
	code, out := routeNight(t, l, "route to nowhere in particular", `any(routes, .prefix == "192.0.2.128/25")`)
	assert.NotZero(t, code)
	assert.Contains(t, out, "its own check")
	assert.Contains(t, out, "syntax error")
	assert.Contains(t, out, "4 devices: 4 reverted")
	for i, home := range homes {
		now, err := os.ReadFile(filepath.Join(home, "bird.conf"))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf(birdConf, i+1), string(now))
		assert.NotContains(t, l.shows(home, "show", "route"), "192.0.2.128/25", "it was never applied")
		assert.NoFileExists(t, filepath.Join(home, "bird.conf.staged"), "what was staged is dropped")
	}

	// What is expected does not come, and meanwhile the way to one router is lost.
	lost := l.path("lost")
	go func() {
		for range 400 {
			time.Sleep(50 * time.Millisecond)
			if strings.Contains(l.quiet("birdcl", "-s", filepath.Join(homes[0], "bird.ctl"), "configure", "status"), "unconfirmed") {
				_ = os.WriteFile(lost, nil, 0o600)
				l.cut("mb-r1")
				return
			}
		}
	}()
	code, out = routeNight(t, l, "route 192.0.2.64/26 blackhole", `any(routes, .prefix == "192.0.2.1/32" and .how == "blackhole")`)
	assert.NotZero(t, code)
	assert.FileExists(t, lost, "the way was really lost")
	assert.Contains(t, out, "contact lost")
	assert.Contains(t, out, "nothing is on trial any more, and it is equal to the backup")
	assert.Contains(t, out, "4 devices: 4 reverted")
	for i, home := range homes {
		assert.NotContains(t, l.shows(home, "show", "route"), "192.0.2.128/25", "the daemon itself runs what ran before")
		now, err := os.ReadFile(filepath.Join(home, "bird.conf"))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf(birdConf, i+1), string(now))
	}
}

// quiet is what a program prints, whatever becomes of it.
func (l *lab) quiet(name string, args ...string) string {
	out, _ := exec.Command(name, args...).CombinedOutput()
	return string(out)
}

// cut ends the sessions of a user and keeps new ones out for longer than a trial lasts.
func (l *lab) cut(user string) { l.cutFor(user, 80*time.Second) }

func (l *lab) cutFor(user string, d time.Duration) {
	_ = exec.Command("usermod", "-s", "/usr/sbin/nologin", user).Run()
	_ = exec.Command("pkill", "-KILL", "-u", user, "sshd").Run()
	_ = exec.Command("pkill", "-HUP", "-u", user).Run()
	time.AfterFunc(d, func() { _ = exec.Command("usermod", "-s", "/bin/dash", user).Run() })
}
