//go:build real

package real

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A profile of a server that has ietf-system alone: it keeps what runs as it is, and does
// not tell how long a commit is still to be confirmed. A candidate that is validated on its
// own is not committed by it afterwards, although it says so; where the profile does not
// say that, the night finds out.
const netconfProfile = `platform: gannet
title: a server that has ietf-system
connect: {protocol: netconf, prompt_within: 10s}
models:
  modules:
    ietf-system: urn:ietf:params:xml:ns:yang:ietf-system
    ietf-netconf-acm: urn:ietf:params:xml:ns:yang:ietf-netconf-acm
    ietf-netconf-monitoring: urn:ietf:params:xml:ns:yang:ietf-netconf-monitoring
  lists:
    /ietf-system:system/ntp/server: [name]
    /ietf-system:system/dns-resolver/search: ['.']
netconf: {edit: candidate, saved: running, validate: false}
timer: {kind: trial}
readers:
  system:
    get: /ietf-system:system
    columns:
      contact: {type: text, optional: true}
      place: {type: text, at: location, optional: true}
  clock:
    get: /ietf-system:system-state/clock
    columns:
      time: {type: time, at: current-datetime}
`

const netconfBook = `runbook "Who is called at night"
  window    now for 10m
  reserve   2m

scope
  role == "server"

precheck
  reachable

timer       20s

step "Contact"
  send
    | set /ietf-system:system/contact = night@crew.example
    | set /ietf-system:system/location = Aldersund, quay 3
    LINE
  undo
    | delete /ietf-system:system
  expect    system.place == "PLACE" within 3s

finish
  soak      2s

unattended  take back the device
`

// netconfServer starts a server with its own SSH in front of it.
func netconfServer(t *testing.T, l *lab) (port, key string) {
	home := l.user("mb-nc", "harbour-lamp-nc")
	sock := l.path("nc.sock")
	out, err := os.Create(l.path("netconfd.out"))
	require.NoError(t, err)
	port = freePort(t)
	cmd := exec.Command("netconfd", "--no-startup", "--superuser=mb-nc", "--target=candidate", "--module=ietf-system",
		"--log="+l.path("netconfd.log"), "--ncxserver-sockname="+sock, "--port="+port)
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait(); out.Close() })
	require.Eventually(t, func() bool { return os.Chmod(sock, 0o777) == nil }, 10*time.Second, 20*time.Millisecond)
	key = l.key("nc", "")
	l.allow(home, key)
	conf := "Port " + port + "\nListenAddress 127.0.0.1\nHostKey " + l.path("nc.hostkey") + "\nPidFile none\nUsePAM no\nStrictModes no\nAuthorizedKeysFile .ssh/authorized_keys\n" +
		"Subsystem netconf \"/usr/sbin/netconf-subsystem --ncxserver-sockname=" + port + "@" + sock + "\"\n"
	l.run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", l.path("nc.hostkey"))
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	l.server("127.0.0.1:"+port, "nc.sshd", "/usr/sbin/sshd", "-D", "-e", "-f", l.write("nc.conf", conf))
	t.Setenv("METABASIS_MB_NC_PASSWORD", "harbour-lamp-nc")
	t.Setenv("METABASIS_HOST_KEYS", "remember")
	l.write("ws/profiles/gannet.yaml", netconfProfile)
	l.fleet("name,address,port,platform,site,role,login", "g1,127.0.0.1,"+port+",gannet,OPS,server,mb-nc")
	return port, key
}

// peer is a client that is not ours: OpenSSH with words written by hand.
type peer struct {
	in  io.WriteCloser
	out io.Reader
	t   *testing.T
}

func (l *lab) peer(port, key string) *peer {
	cmd := exec.Command("ssh", "-i", key, "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-p", port, "-s", "mb-nc@127.0.0.1", "netconf")
	in, err := cmd.StdinPipe()
	require.NoError(l.t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(l.t, err)
	require.NoError(l.t, cmd.Start())
	l.t.Cleanup(func() { in.Close(); _ = cmd.Process.Kill(); _ = cmd.Wait() })
	p := &peer{in, out, l.t}
	p.says(`<hello xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><capabilities><capability>urn:ietf:params:netconf:base:1.0</capability></capabilities></hello>`)
	return p
}

// says sends a message and returns the next one.
func (p *peer) says(msg string) string {
	_, err := io.WriteString(p.in, msg+"]]>]]>")
	require.NoError(p.t, err)
	var b strings.Builder
	c := make([]byte, 1)
	for !strings.HasSuffix(b.String(), "]]>]]>") {
		_, err := p.out.Read(c)
		require.NoError(p.t, err, b.String())
		b.Write(c)
	}
	return b.String()
}

func (p *peer) asks(operation string) string {
	return p.says(`<rpc message-id="1" xmlns="urn:ietf:params:xml:ns:netconf:base:1.0">` + operation + `</rpc>`)
}

const readRunning = "<get-config><source><running/></source></get-config>"

// contactNight runs a night with one more line, expecting a place.
func contactNight(l *lab, line, place string) (code int, out string) {
	book := l.write("ws/contact.runbook", strings.NewReplacer("LINE", line, "PLACE", place).Replace(netconfBook))
	code, out, _ = l.metabasis("", "run", book, "--headless")
	return code, out
}

// A server of others keeps a confirmed commit that is confirmed, takes one back whose time
// is up, refuses what is not valid and what another session has locked.
func TestNetconfServer(t *testing.T) {
	l := newLab(t)
	port, key := netconfServer(t, l)
	code, out, _ := l.metabasis("", "profile", "try", filepath.Join(l.ws, "profiles/gannet.yaml"), "g1")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "nothing is on trial")

	// What is not valid.
	code, out = contactNight(l, "| set /ietf-system:system/ntp/server[name='a']/prefer = true", "Aldersund, quay 3")
	assert.NotZero(t, code)
	assert.Contains(t, out, "missing mandatory choice (data-missing) at /sys:system/sys:ntp/sys:server[sys:name='a']")
	assert.Contains(t, out, "1 reverted")
	other := l.peer(port, key)
	assert.NotContains(t, other.asks(readRunning), "night@crew")

	// What another session has locked.
	require.Contains(t, other.asks("<lock><target><candidate/></target></lock>"), "ok", "nothing of ours is left in the candidate")
	code, out = contactNight(l, "", "Aldersund, quay 3")
	assert.NotZero(t, code)
	assert.Contains(t, out, "lock-denied")
	assert.NotContains(t, other.asks(readRunning), "night@crew")
	other.asks("<close-session/>")

	// What is not as expected is taken back at once; what nobody can reach, by its time.
	// The watcher is let in before the night begins, and goes when the night is over: one that
	// stayed would cut the way of the next.
	lost := l.path("lost")
	watch := l.peer(port, key)
	over, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		for {
			select {
			case <-over:
				return
			case <-time.After(50 * time.Millisecond):
			}
			if strings.Contains(watch.asks(readRunning), "night@crew") {
				_ = os.WriteFile(lost, nil, 0o600)
				l.cutFor("mb-nc", 40*time.Second)
				return
			}
		}
	}()
	code, out = contactNight(l, "", "nowhere")
	close(over)
	<-gone
	assert.NotZero(t, code)
	assert.FileExists(t, lost, "the way was really lost")
	assert.Contains(t, out, "contact lost")
	assert.Contains(t, out, "nothing is on trial any more, and it is equal to the backup")
	assert.NotContains(t, l.peer(port, key).asks(readRunning), "night@crew")

	// A commit that says ok and does nothing is found out.
	l.write("ws/profiles/gannet.yaml", strings.Replace(netconfProfile, ", validate: false", "", 1))
	code, out = contactNight(l, "", "Aldersund, quay 3")
	assert.NotZero(t, code)
	assert.Contains(t, out, "it says ok, and what stood in the candidate does not run")
	l.write("ws/profiles/gannet.yaml", netconfProfile)

	// What is as expected is kept.
	code, out = contactNight(l, "", "Aldersund, quay 3")
	assert.Zero(t, code)
	assert.Contains(t, out, "1 kept")
	last := l.peer(port, key)
	assert.Contains(t, last.asks(readRunning), "night@crew.example")
	assert.Contains(t, last.asks("<lock><target><running/></target></lock>"), "ok", "nothing is to be confirmed")
}
