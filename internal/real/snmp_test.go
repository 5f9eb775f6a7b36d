//go:build real

package real

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const agentProfile = `platform: dabchick
title: an SNMP agent
connect: {protocol: snmp, prompt_within: 6s}
snmp:
  version: %s
  name: system.name
  objects:
    system.name: {oid: 1.3.6.1.2.1.1.5.0, type: text}
    system.contact: {oid: 1.3.6.1.2.1.1.4.0, type: text}
    system.location: {oid: 1.3.6.1.2.1.1.6.0, type: text}
    system.uptime: {oid: 1.3.6.1.2.1.1.3.0, type: counter}
    system.about: {oid: 1.3.6.1.2.1.1.1.0, type: text}
    or.what: {oid: 1.3.6.1.2.1.1.9.1.3, type: text, each: true}
  backup: [system.name, system.contact, system.location]
timer: {kind: none}
readers:
  system:
    columns:
      name: {type: text, at: system.name}
      place: {type: text, at: system.location}
      up: {type: number, at: system.uptime}
  modules:
    each: or.what
    columns:
      row: {type: number}
      what: {type: text, at: or.what}
`

const agentBook = `runbook "Who is called at night"
  window    now for 10m
  reserve   2m

scope
  role == "agent"

precheck
  reachable

timer none

step "Contact"
  want
    | system.contact = night@crew.example
    | system.location = Aldersund, quay 3
    | system.name = <<name>>-night
  expect    system.place == "Aldersund, quay 3" within 3s

unattended  take back the device
`

// agents are three agents on loopback; the last one refuses to be written.
func agents(t *testing.T, l *lab, community string) (ports []string) {
	lines := []string{"name,address,port,platform,site,role,login,calls itself"}
	for i := range 3 {
		port := freePort(t)
		conf := fmt.Sprintf("agentaddress udp:127.0.0.1:%s\n", port)
		right := "rw"
		if i == 2 {
			right = "ro"
		}
		conf += right + "community " + community + "\ncreateUser mb-sn SHA-256 \"harbour-lamp-sn\" AES \"slow-turnstile-sn\"\n" + right + "user mb-sn authpriv\n"
		pid := l.path("snmpd." + port + ".pid")
		cmd := exec.Command("snmpd", "-f", "-Lf", l.path("snmpd."+port+".log"), "-C", "-c", l.write("snmpd."+port+".conf", conf), "-p", pid, "--persistentDir="+l.path("snmpd."+port))
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		require.Eventually(t, func() bool { return strings.Contains(l.asks(port, "1.3.6.1.2.1.1.5.0"), "STRING") }, 10*time.Second, 50*time.Millisecond, "no agent on %s", port)
		ports = append(ports, port)
		lines = append(lines, fmt.Sprintf("a%d,127.0.0.1,%s,dabchick,OPS,agent,mb-sn,%s", i+1, port, l.machine()))
	}
	l.fleet(lines...)
	return ports
}

// asks asks an agent with a client that is not ours.
func (l *lab) asks(port, oid string) string {
	return l.quiet("snmpget", "-v3", "-l", "authPriv", "-u", "mb-sn", "-a", "SHA-256", "-A", "harbour-lamp-sn", "-x", "AES", "-X", "slow-turnstile-sn", "127.0.0.1:"+port, oid)
}

// Names, contacts and places are set on agents of others, in one message each; the agent
// that refuses is left as it was, and said to be.
func TestAgents(t *testing.T) {
	for _, version := range []string{"3", "2c"} {
		t.Run("version "+version, func(t *testing.T) {
			l := newLab(t)
			ports := agents(t, l, "harbour-lamp-sn")
			l.write("ws/profiles/dabchick.yaml", fmt.Sprintf(agentProfile, version))
			t.Setenv("METABASIS_MB_SN_PASSWORD", "harbour-lamp-sn")
			t.Setenv("METABASIS_MB_SN_PRIVACY", "slow-turnstile-sn")
			code, out, _ := l.metabasis("", "reach", "--headless")
			assert.Zero(t, code, out)
			assert.Contains(t, out, "3 of 3 devices ready.")
			if version == "2c" {
				assert.Contains(t, out, "clear text")
			}
			code, out, _ = l.metabasis("", "read", "modules", "--csv")
			assert.Zero(t, code, out)
			assert.Contains(t, out, "a1,1,")

			code, out, _ = l.metabasis("", "run", l.write("ws/agents.runbook", agentBook), "--headless")
			assert.NotZero(t, code)
			assert.Contains(t, out, "3 devices: 2 kept, 1 reverted")
			assert.Contains(t, out, "at system.")
			for i, port := range ports {
				now := l.asks(port, "1.3.6.1.2.1.1.4.0") + l.asks(port, "1.3.6.1.2.1.1.6.0") + l.asks(port, "1.3.6.1.2.1.1.5.0")
				if i < 2 {
					assert.Contains(t, now, "night@crew.example")
					assert.Contains(t, now, "Aldersund, quay 3")
					assert.Contains(t, now, fmt.Sprintf("a%d-night", i+1))
				} else {
					assert.NotContains(t, now, "night")
				}
			}
			_, out, _ = l.metabasis("", "run", l.path("ws/agents.runbook"), "--headless")
			assert.Contains(t, out, "it calls itself a1-night, and "+l.machine()+" is meant", "the night gave it that name, and the fleet does not know")
			fleet, err := os.ReadFile(l.path("ws/fleet.csv"))
			require.NoError(t, err)
			for i := range 2 {
				fleet = []byte(strings.Replace(string(fleet), "mb-sn,"+l.machine()+"\n", fmt.Sprintf("mb-sn,a%d-night\n", i+1), 1))
			}
			l.write("ws/fleet.csv", string(fleet))
			code, out, _ = l.metabasis("", "run", l.path("ws/agents.runbook"), "--headless")
			assert.Equal(t, 3, code, "the third refuses its name, as before")
			assert.Contains(t, out, "2 already", "what is as intended is not set again")

			t.Setenv("METABASIS_MB_SN_PASSWORD", "another-lamp")
			code, out, _ = l.metabasis("", "reach", "--headless")
			assert.NotZero(t, code)
			if version == "3" {
				assert.Contains(t, out, "login is denied")
			} else {
				assert.Contains(t, out, "the community is another")
			}
		})
	}
}
