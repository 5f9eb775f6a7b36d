//go:build real

package real

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"metabasis/internal/cli"
)

// lab is a workspace beside real servers, all in a directory of its own.
type lab struct {
	t   *testing.T
	dir string // readable by the users we make
	ws  string
}

func newLab(t *testing.T) *lab {
	require.Zero(t, os.Getuid(), "these tests make users to log in as, and so need root")
	dir, err := os.MkdirTemp("/var/tmp", "metabasis-real-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	l := &lab{t: t, dir: dir, ws: filepath.Join(dir, "ws")}
	require.NoError(t, os.Mkdir(l.ws, 0o700))
	t.Cleanup(func() { os.RemoveAll(dir) })
	t.Setenv("HOME", l.path("home"))
	t.Setenv("XDG_STATE_HOME", l.path("home/state"))
	t.Setenv("XDG_CONFIG_HOME", l.path("home/config"))
	require.NoError(t, os.MkdirAll(l.path("home/.ssh"), 0o700))
	for _, v := range []string{"SSH_AUTH_SOCK", "METABASIS_HOST_KEYS"} {
		t.Setenv(v, "")
	}
	return l
}

func (l *lab) path(name string) string { return filepath.Join(l.dir, name) }

func (l *lab) write(name, text string) string {
	path := l.path(name)
	require.NoError(l.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(l.t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func (l *lab) run(name string, args ...string) string {
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(l.t, err, "%s %v: %s", name, args, out)
	return string(out)
}

// user makes a user with a password and a plain shell whose prompt is known.
func (l *lab) user(name, password string) (home string) {
	_ = exec.Command("userdel", "-r", "-f", name).Run()
	home = l.path("users/" + name)
	require.NoError(l.t, os.MkdirAll(filepath.Dir(home), 0o755))
	l.run("useradd", "-m", "-d", home, "-s", "/bin/dash", name)
	l.t.Cleanup(func() { _ = exec.Command("userdel", "-r", "-f", name).Run() })
	cmd := exec.Command("chpasswd")
	cmd.Stdin = strings.NewReader(name + ":" + password + "\n")
	out, err := cmd.CombinedOutput()
	require.NoError(l.t, err, string(out))
	require.NoError(l.t, os.WriteFile(filepath.Join(home, ".profile"), []byte("PS1='"+name+"$ '\nexport BIRD_CTL=$HOME/bird.ctl BIRD_CONF=$HOME/bird.conf PATH=$PATH:/usr/sbin\n"), 0o644))
	return home
}

// key makes a key pair and returns the private key's file.
func (l *lab) key(name, passphrase string) string {
	file := l.path("home/.ssh/" + name)
	l.run("ssh-keygen", "-q", "-t", "ed25519", "-N", passphrase, "-f", file)
	return file
}

// allow lets the holder of a key log in as a user.
func (l *lab) allow(home, key string) {
	pub, err := os.ReadFile(key + ".pub")
	require.NoError(l.t, err)
	require.NoError(l.t, os.MkdirAll(filepath.Join(home, ".ssh"), 0o755))
	require.NoError(l.t, os.WriteFile(filepath.Join(home, ".ssh/authorized_keys"), pub, 0o644))
}

// freePort finds a port that nobody listens on.
func freePort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}

// server starts a program and ends it with the test. It waits until the port
// answers.
func (l *lab) server(addr, log, name string, args ...string) {
	out, err := os.OpenFile(l.path(log), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(l.t, err)
	cmd := exec.Command(name, args...)
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(l.t, cmd.Start())
	l.t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		_ = cmd.Wait()
		out.Close()
	})
	require.Eventually(l.t, func() bool {
		c, err := net.DialTimeout("tcp", addr, time.Second)
		if err != nil {
			return false
		}
		c.Close()
		return true
	}, 10*time.Second, 20*time.Millisecond, "%s never listened on %s", name, addr)
}

// sshd starts an OpenSSH server on addresses of loopback and returns its port.
// Its log is name.log.
func (l *lab) sshd(name string, addrs []string, options ...string) (port string) {
	port = freePort(l.t)
	require.NoError(l.t, os.MkdirAll("/run/sshd", 0o755))
	hostKey := l.path(name + ".hostkey")
	if _, err := os.Stat(hostKey); err != nil {
		l.run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", hostKey)
	}
	conf := "Port " + port + "\nHostKey " + hostKey + "\nPidFile none\nAuthorizedKeysFile .ssh/authorized_keys\nStrictModes no\nLogLevel VERBOSE\nMaxStartups 100\n"
	for _, a := range addrs {
		conf += "ListenAddress " + a + "\n"
	}
	if !strings.Contains(strings.Join(options, "\n"), "UsePAM") {
		conf += "UsePAM no\n"
	}
	conf += strings.Join(options, "\n") + "\n"
	l.server(net.JoinHostPort(addrs[0], port), name+".log", "/usr/sbin/sshd", "-D", "-e", "-f", l.write(name+".conf", conf))
	return port
}

func (l *lab) log(name string) string {
	b, err := os.ReadFile(l.path(name + ".log"))
	require.NoError(l.t, err)
	return string(b)
}

// metabasis runs a command in the workspace and returns what it printed.
func (l *lab) metabasis(in string, args ...string) (code int, out, errOut string) {
	var o, e bytes.Buffer
	code = cli.Main(append([]string{"-C", l.ws}, args...), strings.NewReader(in), &o, &e)
	l.t.Logf("metabasis %s: %d\n%s%s", strings.Join(args, " "), code, o.String(), e.String())
	return code, o.String(), e.String()
}

// fleet writes the workspace's fleet.
func (l *lab) fleet(lines ...string) {
	l.write("ws/fleet.csv", strings.Join(lines, "\n")+"\n")
}

// machine is what this machine calls itself, as the devices on it do.
func (l *lab) machine() string {
	name, err := os.Hostname()
	require.NoError(l.t, err)
	return name
}

func loopback(n int) string { return fmt.Sprintf("127.0.0.%d", n) }
