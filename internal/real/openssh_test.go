//go:build real

package real

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const head = "name,address,port,platform,login,jump,algorithms,calls itself"

// TestWaysToLogIn logs in to OpenSSH in every way there is.
func TestWaysToLogIn(t *testing.T) {
	l := newLab(t)
	home := l.user("mb-crew", "tide-table-9")
	plain, locked := l.key("plain", ""), l.key("locked", "three-herons")
	for _, name := range []string{"passwords", "keys", "dialogue"} { // three servers of one host
		l.run("sh", "-c", "test -e '"+l.path("hostkey")+"' || ssh-keygen -q -t ed25519 -N '' -f '"+l.path("hostkey")+"'; cp '"+l.path("hostkey")+"' '"+l.path(name+".hostkey")+"'")
	}
	passwords := l.sshd("passwords", []string{"127.0.0.1"}, "PasswordAuthentication yes", "PubkeyAuthentication no")
	keys := l.sshd("keys", []string{"127.0.0.1"}, "PasswordAuthentication no", "PubkeyAuthentication yes")
	dialogue := l.sshd("dialogue", []string{"127.0.0.1"}, "UsePAM yes", "PasswordAuthentication no", "PubkeyAuthentication no", "KbdInteractiveAuthentication yes")
	t.Setenv("METABASIS_HOST_KEYS", "remember")

	reach := func(port string) (int, string) {
		l.fleet(head, "quay,127.0.0.1,"+port+",bird,mb-crew,,,mb-crew")
		code, out, errOut := l.metabasis("", "reach", "--headless")
		return code, out + errOut
	}
	t.Run("password", func(t *testing.T) {
		t.Setenv("METABASIS_MB_CREW_PASSWORD", "tide-table-9")
		code, out := reach(passwords)
		assert.Zero(t, code, out)
	})
	t.Run("wrong password is tried once", func(t *testing.T) {
		t.Setenv("METABASIS_MB_CREW_PASSWORD", "wrong")
		code, out := reach(passwords)
		assert.Equal(t, 2, code)
		assert.Contains(t, out, "login mb-crew is denied")
		assert.Equal(t, 1, strings.Count(l.log("passwords"), "Failed password for mb-crew"))
	})
	t.Run("dialogue", func(t *testing.T) {
		t.Setenv("METABASIS_MB_CREW_PASSWORD", "tide-table-9")
		code, out := reach(dialogue)
		assert.Zero(t, code, out)
		assert.Contains(t, l.log("dialogue"), "Accepted keyboard-interactive")
	})
	t.Run("key", func(t *testing.T) {
		l.allow(home, plain)
		t.Setenv("METABASIS_MB_CREW_KEY", plain)
		code, out := reach(keys)
		assert.Zero(t, code, out)
	})
	t.Run("the SSH configuration alone", func(t *testing.T) {
		l.write("home/.ssh/config", "Host quay\n  User mb-crew\n  Port "+keys+"\n  IdentityFile "+plain+"\n")
		l.fleet("name,address,platform,calls itself", "quay,127.0.0.1,bird,mb-crew")
		code, out, errOut := l.metabasis("", "reach", "--headless")
		assert.Zero(t, code, out+errOut)
		_, out, _ = l.metabasis("", "scope")
		assert.Contains(t, out, "login mb-crew (the SSH configuration)")
		require.NoError(t, os.Remove(l.path("home/.ssh/config")))
	})
	t.Run("encrypted key", func(t *testing.T) {
		l.allow(home, locked)
		l.write("home/.ssh/config", "Host quay\n  IdentityFile "+locked+"\n  IdentitiesOnly yes\n")
		t.Setenv("METABASIS_LOCKED_PASSPHRASE", "three-herons")
		code, out := reach(keys)
		assert.Zero(t, code, out)
		t.Setenv("METABASIS_LOCKED_PASSPHRASE", "two-herons")
		code, out = reach(keys)
		assert.Equal(t, 2, code)
		assert.Contains(t, out, "its passphrase is wrong")
		require.NoError(t, os.Remove(l.path("home/.ssh/config")))
	})
	t.Run("agent", func(t *testing.T) {
		l.allow(home, plain)
		socket := l.path("agent.sock")
		out := l.run("ssh-agent", "-a", socket)
		_, after, _ := strings.Cut(out, "SSH_AGENT_PID=")
		pid, _, _ := strings.Cut(after, ";")
		t.Cleanup(func() { l.run("kill", pid) })
		t.Setenv("SSH_AUTH_SOCK", socket)
		l.run("ssh-add", "-q", plain)
		code, text := reach(keys)
		assert.Zero(t, code, text)
		// One that the SSH configuration names for the host, and none for it.
		t.Setenv("SSH_AUTH_SOCK", "")
		t.Setenv("HARBOUR_AGENT", socket)
		for agent, want := range map[string]int{socket: 0, "$HARBOUR_AGENT": 0, "none": 1} {
			l.write("home/.ssh/config", "Host *\n  IdentityAgent "+agent+"\n")
			code, text := reach(keys)
			assert.Equal(t, want, code, "%s: %s", agent, text)
		}
		require.NoError(t, os.Remove(l.path("home/.ssh/config")))
	})
	t.Run("nothing that it takes", func(t *testing.T) {
		t.Setenv("METABASIS_MB_CREW_PASSWORD", "tide-table-9")
		code, out := reach(keys)
		assert.Equal(t, 2, code)
		assert.Contains(t, out, "login mb-crew has no key or password that it takes")
	})
}

// TestHostKeys meets a device for the first time, and then another in its place.
func TestHostKeys(t *testing.T) {
	l := newLab(t)
	l.user("mb-crew", "tide-table-9")
	t.Setenv("METABASIS_MB_CREW_PASSWORD", "tide-table-9")
	port := l.sshd("device", []string{"127.0.0.1"}, "PasswordAuthentication yes")
	l.fleet(head, "quay,127.0.0.1,"+port+",bird,mb-crew,,,mb-crew")

	code, out, _ := l.metabasis("", "reach", "--headless")
	assert.Equal(t, 2, code, "ask, and nobody is there to be asked")
	assert.Contains(t, out, "host key")
	assert.Contains(t, out, "for the first time (ssh-ed25519 SHA256:")
	code, out, _ = l.metabasis("", "reach", "--headless", "--host-keys", "strict")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "host keys are strict")
	code, _, _ = l.metabasis("", "reach", "--headless", "--host-keys", "remember")
	assert.Zero(t, code)
	code, _, _ = l.metabasis("", "reach", "--headless", "--host-keys", "strict")
	assert.Zero(t, code, "it is remembered now")

	// Another key at the same address stops everything, whatever is said.
	known, err := os.ReadFile(filepath.Join(l.ws, "known_hosts"))
	require.NoError(t, err)
	other := l.sshd("other", []string{"127.0.0.1"}, "PasswordAuthentication yes")
	l.write("ws/known_hosts", strings.ReplaceAll(string(known), ":"+port, ":"+other))
	l.fleet(head, "quay,127.0.0.1,"+other+",bird,mb-crew,,,mb-crew")
	for _, how := range []string{"ask", "strict", "remember"} {
		code, out, _ = l.metabasis("", "reach", "--headless", "--host-keys", how)
		assert.Equal(t, 2, code)
		assert.Contains(t, out, "it shows another host key than before")
		assert.Contains(t, out, "remove line 1 of")
	}
	assert.NotContains(t, l.log("other"), "password", "no password was given away")
}

// TestOldAlgorithms reaches a server that knows only weak ways to exchange keys.
func TestOldAlgorithms(t *testing.T) {
	l := newLab(t)
	l.user("mb-crew", "tide-table-9")
	t.Setenv("METABASIS_MB_CREW_PASSWORD", "tide-table-9")
	t.Setenv("METABASIS_HOST_KEYS", "remember")
	port := l.sshd("old", []string{"127.0.0.1"}, "PasswordAuthentication yes", "KexAlgorithms diffie-hellman-group14-sha1")
	l.fleet(head, "quay,127.0.0.1,"+port+",bird,mb-crew,,,mb-crew")
	code, out, _ := l.metabasis("", "reach", "--headless")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "key exchange: it only offers diffie-hellman-group14-sha1")
	l.fleet(head, "quay,127.0.0.1,"+port+",bird,mb-crew,,old,mb-crew")
	code, out, _ = l.metabasis("", "reach", "--headless")
	assert.Zero(t, code)
	assert.Contains(t, out, "! weak algorithms are allowed for it")
	l.fleet(head, "quay,127.0.0.1,"+port+",bird,mb-crew,,,mb-crew")
	l.write("home/.ssh/config", "Host quay\n  KexAlgorithms +diffie-hellman-group14-sha1\n")
	code, out, _ = l.metabasis("", "reach", "--headless")
	assert.Zero(t, code)
	assert.Contains(t, out, "! weak algorithms are allowed for it: diffie-hellman-group14-sha1")
}

// TestJumpHost reaches ten devices through one jump host, over one connection to
// it, by the fleet file and by the SSH configuration.
func TestJumpHost(t *testing.T) {
	l := newLab(t)
	crewHome := l.user("mb-crew", "tide-table-9")
	// Each address is a device of its own name.
	require.NoError(t, os.WriteFile(filepath.Join(crewHome, ".profile"), []byte("set -- $SSH_CONNECTION\nPS1=\"quay-$((${3##*.} - 20))$ \"\n"), 0o644))
	jumpHome := l.user("mb-jump", "lock-gate-4")
	key := l.key("jump", "")
	l.allow(jumpHome, key)
	t.Setenv("METABASIS_MB_CREW_PASSWORD", "tide-table-9")
	t.Setenv("METABASIS_JUMP_KEY", key)
	t.Setenv("METABASIS_JUMP_USER", "mb-jump")
	t.Setenv("METABASIS_HOST_KEYS", "remember")
	jump := l.sshd("jump", []string{"127.0.0.1"}, "PasswordAuthentication no", "AllowTcpForwarding yes")
	closed := l.sshd("closed", []string{"127.0.0.1"}, "PasswordAuthentication no", "AllowTcpForwarding no")
	var addrs []string
	for i := range 10 {
		addrs = append(addrs, loopback(20+i))
	}
	port := l.sshd("devices", addrs, "PasswordAuthentication yes")
	lines := func(jump string) []string {
		out := []string{head}
		for i, a := range addrs {
			out = append(out, fmt.Sprintf("quay-%d,%s,%s,bird,mb-crew,%s,,", i, a, port, jump))
		}
		return out
	}
	l.fleet(lines("127.0.0.1:" + jump)...)
	code, out, _ := l.metabasis("", "reach", "--headless")
	assert.Zero(t, code, out)
	assert.Equal(t, 1, strings.Count(l.log("jump"), "Accepted publickey for mb-jump"), "one connection for ten devices")

	l.fleet(lines("")...)
	door := l.sshd("door", []string{"127.0.0.3"}, "PasswordAuthentication no", "AllowTcpForwarding yes")
	hop := func(name, host, port string) string {
		return "Host " + name + "\n  HostName " + host + "\n  Port " + port + "\n  User mb-jump\n  IdentityFile " + key + "\n"
	}
	l.write("home/.ssh/config", "Host quay-*\n  ProxyJump bastion\n"+hop("bastion", "127.0.0.1", jump)+"  ProxyJump door\n"+hop("door", "127.0.0.3", door))
	t.Setenv("METABASIS_JUMP_KEY", "")
	t.Setenv("METABASIS_JUMP_USER", "")
	code, out, _ = l.metabasis("", "reach", "--json")
	assert.Zero(t, code, out)
	assert.Contains(t, out, `"through":["door","bastion"]`, "the jump host lies behind one of its own")
	assert.Equal(t, 1, strings.Count(l.log("door"), "Accepted publickey for mb-jump"))
	require.NoError(t, os.Remove(l.path("home/.ssh/config")))
	t.Setenv("METABASIS_JUMP_KEY", key)
	t.Setenv("METABASIS_JUMP_USER", "mb-jump")

	l.fleet(lines("127.0.0.1:" + closed)[:3]...)
	code, out, _ = l.metabasis("", "reach", "--headless")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "its jump host does not pass connections on")

	l.fleet(head, "quay-1,127.0.0.20,"+freePort(t)+",bird,mb-crew,127.0.0.1:"+jump+",,")
	code, out, _ = l.metabasis("", "reach", "--headless")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "answers on the network but refuses port")

	t.Setenv("METABASIS_JUMP_USER", "nobody-there")
	l.fleet(lines("127.0.0.1:" + jump)...)
	code, out, _ = l.metabasis("", "reach", "--headless")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "10 at the route")
	assert.Contains(t, out, "its jump host 127.0.0.1 is not passed: login jump is denied")
}
