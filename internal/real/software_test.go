//go:build real

package real

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// box is a Linux box whose software is a directory a version, with a link to the one that it starts with next,
// and which is restarted by a word: its SSH server goes away, and comes back with that version. What it starts
// with for the first time is on trial: a job of its own puts the old one back unless that is kept.
type box struct {
	l              *lab
	home, at, conf string
	breaks         map[string]bool // versions that do not start

	mu  sync.Mutex
	cmd *exec.Cmd
}

// boxProfile is how such a box talks.
const boxProfile = `platform: box
title: a Linux box whose software is a link
connect: {protocol: ssh, port: 22, echo: yes, prompt_within: 10s}
modes:
  shell: {prompt: '^(?P<host>mb-box)\$ $', login: true, quit: exit}
refused: ['^(?:-?\w*sh: )?\d*:?.*: (?:not found|No such file or directory|Permission denied)$', '^cannot: (.*)$']
never: ['\breboot\b']
configuration:
  layout: flat
  running: {in: shell, send: cat conf}
  saved: {in: shell, send: cat conf}
  edit: shell
timer: {kind: none}
files:
  way: sftp
  into: .
  sum: {in: shell, send: sha256sum <<path>>}
  tells: '^([0-9a-f]{64}) '
restart:
  in: shell
  send: touch restart
  up: uptime.up
  usual: 4s
software:
  install: {in: shell, send: 'mkdir -p versions/$(head -1 <<path>>) && cp <<path>> versions/$(head -1 <<path>>)/image && echo done', done: '^done$'}
  takes: 1m
  next: {in: shell, send: '[ -e versions/<<version>>/image ] && ln -sfn versions/<<version>> next && echo done || echo cannot: it is not installed', done: '^done$'}
  keep: {in: shell, send: 'rm -f trial && ln -sfn versions/$(cat runs) next && echo done', done: '^done$'}
  within: 90s
readers:
  uptime:
    momentary: true
    in: shell
    send: echo up $(( $(date +%s) - $(cat began) )) s
    columns: {up: {type: number, match: '^up (\d+) s$'}}
  version:
    in: shell
    send: cat runs
    columns: {version: {type: text, match: '^(\S+)$'}}
  images:
    momentary: true
    in: shell
    send: 'for v in $(ls versions); do echo $v $([ $v = "$(cat runs)" ] && echo runs || echo idle) $([ $v = "$(basename $(readlink next))" ] && echo next || echo later) $([ -e trial ] && echo trial || echo kept); done'
    row: '^(?P<version>\S+) (?P<runs>runs|idle) (?P<next>next|later) (?P<trial>trial|kept)$'
    columns:
      version: {type: text, key: true}
      runs: {type: yes/no, yes: runs}
      next: {type: yes/no, yes: next}
      trial: {type: yes/no, yes: trial}
pace: {connect: 1s, command: 50ms}
`

func (b *box) file(name string) string { return filepath.Join(b.home, name) }

func (b *box) read(name string) string {
	data, _ := os.ReadFile(b.file(name))
	return strings.TrimSpace(string(data))
}

func (b *box) put(name, text string) {
	require.NoError(b.l.t, os.MkdirAll(filepath.Dir(b.file(name)), 0o755))
	require.NoError(b.l.t, os.WriteFile(b.file(name), []byte(text), 0o666))
	_ = os.Chmod(b.file(name), 0o666)
}

// start starts its SSH server with the version that is next.
func (b *box) start() {
	was := b.read("runs")
	to, _ := os.Readlink(b.file("next"))
	now := filepath.Base(to)
	if b.breaks[now] { // it does not start: the old one does
		now = was
		_ = os.Remove(b.file("next"))
		_ = os.Symlink("versions/"+was, b.file("next"))
	}
	_ = os.Remove(b.file("trial"))
	if was != "" && now != was && !strings.Contains(b.read("old"), now) {
		b.put("trial", was)
		_ = os.Remove(b.file("next")) // unless it is kept, it starts with the old one
		_ = os.Symlink("versions/"+was, b.file("next"))
	}
	b.put("old", b.read("old")+" "+was)
	b.put("runs", now+"\n")
	b.put("began", fmt.Sprint(time.Now().Unix()))
	b.l.run("chown", "-R", "-h", "mb-box:", b.home)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.cmd = exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", b.conf)
	b.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(b.l.t, b.cmd.Start())
}

func (b *box) stop() {
	b.mu.Lock()
	defer b.mu.Unlock()
	_ = syscall.Kill(-b.cmd.Process.Pid, syscall.SIGKILL)
	_ = b.cmd.Wait()
	_ = exec.Command("pkill", "-KILL", "-u", "mb-box").Run()
}

// watch is the box itself: it restarts when it is told to, and when a trial is over.
func (b *box) watch(over <-chan struct{}) {
	for {
		select {
		case <-over:
			return
		case <-time.After(50 * time.Millisecond):
		}
		_, err := os.Stat(b.file("restart"))
		began := time.Unix(0, 0)
		if info, err := os.Stat(b.file("trial")); err == nil {
			began = info.ModTime()
		}
		if err != nil && (began.Unix() == 0 || time.Since(began) < 90*time.Second) {
			continue
		}
		_ = os.Remove(b.file("restart"))
		b.stop()
		time.Sleep(2 * time.Second)
		b.start()
	}
}

// A real Linux box is given other software over OpenSSH: it goes away and comes back with it, and what is kept
// stays; a version that does not start is held, and the box is left with what it ran.
func TestALinuxBoxIsGivenOtherSoftware(t *testing.T) {
	l := newLab(t)
	b := &box{l: l, home: l.user("mb-box", "tide-table-9"), breaks: map[string]bool{"3.0": true}}
	a, port := loopback(81), freePort(t)
	b.at = net.JoinHostPort(a, port)
	hostKey := l.path("box.hostkey")
	l.run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", hostKey)
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	b.conf = l.write("box.conf", "Port "+port+"\nListenAddress "+a+"\nHostKey "+hostKey+"\nPidFile none\nUsePAM no\nPasswordAuthentication yes\nStrictModes no\nSubsystem sftp internal-sftp\n")
	b.put("conf", "name mb-box\n")
	b.put("versions/1.0/image", "1.0\n")
	require.NoError(t, os.Symlink("versions/1.0", b.file("next")))
	b.start()
	over := make(chan struct{})
	var watching sync.WaitGroup
	watching.Go(func() { b.watch(over) })
	defer func() {
		close(over)
		watching.Wait()
		b.stop()
	}()
	l.write("ws/profiles/box.yaml", boxProfile)
	l.write("ws/metabasis.yaml", "host_keys: remember\n")
	t.Setenv("METABASIS_MB_BOX_PASSWORD", "tide-table-9")
	l.fleet("name,address,port,platform,site,role,login,calls itself", fmt.Sprintf("b1,%s,%s,box,OPS,box,mb-box,mb-box", a, port))
	images := "box:\n"
	for _, v := range []string{"2.0", "3.0"} {
		text := v + "\n" + strings.Repeat("software\n", 1000)
		sum := sha256.Sum256([]byte(text))
		l.write("ws/box-"+v+".img", text)
		images += fmt.Sprintf("  - version: %q\n    file: box-%s.img\n    sha256: %s\n", v, v, hex.EncodeToString(sum[:]))
	}
	l.write("ws/images.yaml", images)
	book := func(version string) string {
		return l.write("ws/"+version+".runbook", "runbook \"New software\"\n  window    now for 1h\n\nscope\n  true\n\ntimer       none\n\nstep \"New software\"\n  software  \""+
			version+"\"\n  back      within 1m\n\nunattended  take back the device\n")
	}

	code, out, errOut := l.metabasis("", "ready", book("2.0"))
	assert.Equal(t, 2, code, out+errOut)
	assert.Contains(t, out, "box-2.0.img, 1 device: metabasis carry box-2.0.img to b1")
	for _, v := range []string{"2.0", "3.0"} {
		code, out, errOut = l.metabasis("", "carry", l.path("ws/box-"+v+".img"), "to")
		require.Zero(t, code, out+errOut)
		assert.Contains(t, out, "its checksum is right")
	}
	code, out, errOut = l.metabasis("", "run", "--headless", book("2.0"))
	require.Zero(t, code, out+errOut)
	assert.Contains(t, out, "runs 2.0, before 1.0")
	assert.Equal(t, "2.0", b.read("runs"))
	_, err := os.Stat(b.file("trial"))
	assert.True(t, os.IsNotExist(err), "it was kept")

	code, out, errOut = l.metabasis("", "run", "--headless", book("3.0"))
	assert.NotZero(t, code, out+errOut)
	assert.Contains(t, out, "it was to start with 3.0, and runs 2.0")
	assert.Regexp(t, `b1 +reverted: `, out)
	assert.Equal(t, "2.0", b.read("runs"))
}
