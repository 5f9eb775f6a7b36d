//go:build real

package real

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const wardRules = `flush ruleset
table inet ward {
	chain input {
		type filter hook input priority filter; policy accept;
		tcp dport 22 accept
	}
}
`

const wardAddr = "198.18.7.2"

// ward is a firewall in a network of its own: the profile of docs/shell.md, a real
// shell, real rules.
func ward(t *testing.T, l *lab) {
	doc, err := os.ReadFile("../../docs/shell.md")
	require.NoError(t, err)
	block := regexp.MustCompile("(?s)```yaml-shell\n(.*?)```").FindSubmatch(doc)
	require.NotNil(t, block, "docs/shell.md has its profile")
	l.write("ws/profiles/ward.yaml", string(block[1]))

	gone := func() {
		out, _ := exec.Command("ip", "netns", "pids", "mbward").Output()
		for _, pid := range strings.Fields(string(out)) {
			_ = exec.Command("kill", "-9", pid).Run()
		}
		_ = exec.Command("ip", "netns", "del", "mbward").Run()
		_ = exec.Command("ip", "link", "del", "mbw0").Run()
		_ = exec.Command("userdel", "-f", "mb-ward").Run()
		for _, f := range []string{"/etc/ward", "/run/ward.pid", "/run/ward.due"} {
			_ = os.RemoveAll(f)
		}
	}
	gone()
	t.Cleanup(gone)
	for _, line := range []string{
		"ip netns add mbward", "ip link add mbw0 type veth peer name mbw1", "ip link set mbw1 netns mbward",
		"ip addr add 198.18.7.1/30 dev mbw0", "ip link set mbw0 up",
		"ip -n mbward addr add 198.18.7.2/30 dev mbw1", "ip -n mbward link set mbw1 up", "ip -n mbward link set lo up",
	} {
		w := strings.Fields(line)
		l.run(w[0], w[1:]...)
	}
	require.NoError(t, os.MkdirAll("/etc/ward", 0o755))
	saveWard(t, wardRules)
	l.run("ip", "netns", "exec", "mbward", "nft", "-f", "/etc/ward/saved.nft")

	home := l.path("users/mb-ward")
	require.NoError(t, os.MkdirAll(home, 0o755))
	l.run("useradd", "-o", "-u", "0", "-d", home, "-p", "*", "-s", "/bin/dash", "mb-ward")
	key := l.key("ward", "")
	l.allow(home, key)
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	l.run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", l.path("ward.hostkey"))
	conf := l.write("ward.conf", "Port 22\nListenAddress "+wardAddr+"\nHostKey "+l.path("ward.hostkey")+"\nPidFile none\nAuthorizedKeysFile "+home+"/.ssh/authorized_keys\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nClientAliveInterval 5\n")
	l.server(wardAddr+":22", "ward.log", "ip", "netns", "exec", "mbward", "/usr/sbin/sshd", "-D", "-e", "-f", conf)
	t.Setenv("METABASIS_HOST_KEYS", "remember")
	l.write("ws/metabasis.yaml", "logins:\n  - {platform: ward, login: ward, user: mb-ward, key: "+key+"}\n")
	l.fleet("name,address,platform,site,role,calls itself", "ward,"+wardAddr+",ward,OPS,firewall,"+l.machine())
}

// saveWard writes what the firewall would start with, without an end of its last
// line, as people's files often are.
func saveWard(t *testing.T, rules string) {
	require.NoError(t, os.WriteFile("/etc/ward/saved.nft", []byte(strings.TrimSuffix(rules, "\n")), 0o644))
}

// wardRuns is what really runs.
func (l *lab) wardRuns() string {
	return l.run("ip", "netns", "exec", "mbward", "nft", "list", "ruleset")
}

// wardNight runs a night with one step over the firewall.
func (l *lab) wardNight(step string) (code int, out string) {
	book := l.write("ws/rules.runbook", `runbook "Rules of the ward"
  window    now for 10m
  reserve   1m

scope
  role == "firewall"

precheck
  reachable
  clock     within 30s
  saved

timer       20s

`+step+`
finish
  soak      1s

unattended  take back the device
`)
	code, out, _ = l.metabasis("", "run", book, "--headless")
	return code, out
}

func TestAFirewallWithATimerOfItsOwn(t *testing.T) {
	l := newLab(t)
	ward(t, l)
	code, out, _ := l.metabasis("", "profile", "check", filepath.Join(l.ws, "profiles/ward.yaml"))
	require.Zero(t, code)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "when it fires, the device puts back what is saved")
	code, out, _ = l.metabasis("ward\n", "profile", "try", "--change", filepath.Join(l.ws, "profiles/ward.yaml"), "ward")
	require.Zero(t, code, out)
	assert.Contains(t, out, "● refused in mode ready")

	t.Run("a text is written and loaded, and kept", func(t *testing.T) {
		code, out := l.wardNight(`step "Time"
  already   when config has "udp dport 123 accept"
  send
    | cat > /etc/ward/time.nft \<<'END'
    | table inet ward {
    | 	chain input { udp dport 123 accept; }
    | }
    | END
    | cd /etc/ward
    | nft -f time.nft
  undo
    | cd /etc/ward && rm -f time.nft
`)
		assert.Zero(t, code, out)
		assert.Contains(t, out, "1 kept")
		assert.Contains(t, l.wardRuns(), "udp dport 123 accept")
		saved, err := os.ReadFile("/etc/ward/saved.nft")
		require.NoError(t, err)
		assert.Contains(t, string(saved), "udp dport 123 accept")
	})

	t.Run("a command that fails in silence is taken back", func(t *testing.T) {
		saveWard(t, "flush ruleset\n"+l.wardRuns())
		before := l.wardRuns()
		code, out := l.wardNight(`step "Log"
  send
    | nft add rule inet ward input udp dport 514 accept
    | false
    | nft add rule inet ward input udp dport 515 accept
  undo
    | nft flush chain inet ward input
`)
		assert.NotZero(t, code)
		assert.Contains(t, out, `line 2 of "Log" was refused`)
		assert.Contains(t, out, "status 1")
		assert.Contains(t, out, "1 reverted")
		assert.Equal(t, before, l.wardRuns(), "its undo did not do, and the backup was restored")
	})

	t.Run("a quote that is not closed is called off", func(t *testing.T) {
		before := l.wardRuns()
		_, out := l.wardNight("step \"Log\"\n  send\n    | echo \"not closed\n  undo\n    | true\n")
		assert.Contains(t, out, "something in it is not closed")
		assert.Contains(t, out, "1 reverted")
		assert.Equal(t, before, l.wardRuns())
	})

	t.Run("a rule that locks us out is taken back by the box itself", func(t *testing.T) {
		before := l.wardRuns()
		began := time.Now()
		code, out := l.wardNight(`step "Close"
  send
    | nft insert rule inet ward input tcp dport 22 drop
  undo
    | true
`)
		assert.NotZero(t, code)
		assert.Contains(t, out, "dark")
		assert.Contains(t, out, "1 reverted")
		assert.Contains(t, out, "came back with its saved configuration, equal to the backup")
		assert.Equal(t, before, l.wardRuns())
		assert.Greater(t, time.Since(began), 15*time.Second, "its timer did it")
	})
}
