//go:build real

package real

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// shellProfile works a plain shell over Telnet, as inetutils' server gives it.
const shellProfile = `platform: shell
connect:
  protocol: telnet
  prompt_within: 15s
  login:
    - {question: 'login: $', send: <<user>>}
    - {question: '^Password: $', secret: password}
  denied: ['^Login incorrect$']
modes:
  shell: {prompt: '^(?P<host>[\w-]+)\$ $', login: true, quit: exit}
refused: ['not found$']
configuration: {layout: flat, edit: shell, running: {in: shell, send: cat /etc/hostname}}
timer: {kind: none}
readers:
  size:
    in: shell
    send: stty size
    columns:
      rows: {type: number, match: '^(\d+) \d+$'}
      columns: {type: number, match: '^\d+ (\d+)$'}
  terminal:
    in: shell
    send: echo "term=$TERM"
    columns:
      name: {type: text, match: '^term=(\S+)$'}
ask: {in: shell, safe: ['^(uptime|id -un)$']}
`

// TestTelnetServer goes through the login dialogue of the inetutils server.
func TestTelnetServer(t *testing.T) {
	l := newLab(t)
	l.user("mb-gate", "slow-turnstile-2")
	port := freePort(t)
	l.server("127.0.0.1:"+port, "telnetd.log", "socat", "TCP-LISTEN:"+port+",bind=127.0.0.1,fork,reuseaddr", "EXEC:/usr/sbin/telnetd -h")
	l.write("ws/profiles/shell.yaml", shellProfile)
	l.fleet("name,address,port,platform,login,calls itself", "gate,127.0.0.1,"+port+",shell,mb-gate,mb-gate")
	t.Setenv("METABASIS_MB_GATE_PASSWORD", "slow-turnstile-2")
	code, out, _ := l.metabasis("", "reach", "--headless")
	assert.Zero(t, code)
	assert.Contains(t, out, "! clear text")
	code, out, _ = l.metabasis("", "read", "size", "--headless")
	assert.Zero(t, code)
	assert.Contains(t, out, "60    250", "the server was told the window's size (RFC 1073)")
	_, out, _ = l.metabasis("", "read", "terminal", "--headless")
	assert.Contains(t, out, "dumb", "and the terminal's type (RFC 1091)")
	_, out, _ = l.metabasis("", "ask", "id -un")
	assert.Contains(t, out, "mb-gate")
	code, out, _ = l.metabasis("", "profile", "try", l.path("ws/profiles/shell.yaml"), "gate")
	assert.Zero(t, code, out)

	t.Setenv("METABASIS_MB_GATE_PASSWORD", "wrong")
	code, out, _ = l.metabasis("", "reach", "--headless")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "login is denied")
}
