package settings

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
)

func write(t *testing.T, text string) string {
	path := filepath.Join(t.TempDir(), "metabasis.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func load(t *testing.T, flags map[string]string, env, workspace, user string) (*Settings, error) {
	return Load(Source{Flags: flags, Workspace: write(t, workspace), User: write(t, user), Env: func(name string) string {
		if name == "METABASIS_HOST_KEYS" {
			return env
		}
		return ""
	}})
}

func TestPrecedence(t *testing.T) {
	for want, c := range map[string]struct {
		flag, env, workspace, user string
		from                       string
	}{
		"strict":   {"strict", "remember", "host_keys: ask\n", "host_keys: remember\n", "flag --host-keys"},
		"remember": {"", "remember", "host_keys: strict\n", "host_keys: ask\n", "environment METABASIS_HOST_KEYS"},
		"ask":      {"", "", "", "", "default"},
	} {
		s, err := load(t, map[string]string{HostKeys: c.flag}, c.env, c.workspace, c.user)
		require.NoError(t, err)
		assert.Equal(t, want, s.Get(HostKeys))
		assert.Equal(t, c.from, s.values[HostKeys].From)
	}
	s, err := load(t, nil, "", "together: 20\n", "together: 30\nalive: 1m\n")
	require.NoError(t, err)
	assert.Equal(t, 20, s.Int(Together), "the workspace's file comes before the person's own")
	assert.Equal(t, "1m0s", s.Duration(Alive).String())
}

func TestWrongSettings(t *testing.T) {
	for text, want := range map[string]string{
		"# all\nhost_keys: maybe\n":                      `metabasis.yaml:2:1: setting host_keys is "maybe"`,
		"# host_key is none\n\nhost_key: strict\n":       "metabasis.yaml:3:1: there is no setting",
		"host_key: strict\n":                             "write: host_keys",
		"together: many\n":                               "number from 1 to 1000",
		"alive: soon\n":                                  "a time such as 15s",
		"logins:\n  - {site: A}\n":                       "names no login",
		"logins:\n  - {login: a}\n":                      "says nothing of the devices",
		"logins:\n  - {site: A, login: a, asks: true}\n": "asks is for jump hosts only",
		"logins: [\n":                                    "metabasis.yaml:",
		"a: &a 1\nb: *a\n":                               "anchors and aliases are not taken",
	} {
		_, err := load(t, nil, "", text, "")
		assert.ErrorContains(t, err, want, text)
	}
}

func TestLoginRules(t *testing.T) {
	s, err := load(t, nil, "", `login: crew
logins:
  - {platform: plover, login: gates, user: gatekeeper}
  - {site: ALD, role: quay, login: ald-crew, key: /k}
  - {jump: bastion.example, login: harbour, asks: true}
`, "")
	require.NoError(t, err)
	for want, d := range map[string]fleet.Device{
		"gates":    {Platform: "plover", Site: "ALD", Role: "quay"},
		"ald-crew": {Platform: "tern", Site: "ALD", Role: "quay"},
		"crew":     {Platform: "tern", Site: "BRM"},
		"own":      {Platform: "plover", Login: "own"},
	} {
		got, _ := s.LoginOf(d)
		assert.Equal(t, want, got)
	}
	assert.Equal(t, "harbour", s.JumpLogin("bastion.example"))
	assert.Equal(t, "jump", s.JumpLogin("other"))
	assert.True(t, s.JumpAsks("bastion.example"))
	assert.False(t, s.JumpAsks("other"))
	user, _ := s.Of("gates")
	assert.Equal(t, "gatekeeper", user)
	_, key := s.Of("ald-crew")
	assert.Equal(t, "/k", key)
}
