package carry

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/config"
)

// byWord is a language in which the first word of a line at the top is its key, but for
// logins, of which the second is, too.
func byWord(path []string) string {
	words := strings.Fields(path[len(path)-1])
	n := 1
	if words[0] == "login" || words[0] == "lan" || words[0] == "port" {
		n = min(2, len(words))
	}
	return strings.Join(append(path[:len(path)-1:len(path)-1], strings.Join(words[:n], " ")), " > ")
}

func isOwn(path []string) string {
	switch strings.Fields(path[len(path)-1])[0] {
	case "name":
		return "its own name"
	case "login":
		return "its own login"
	case "manage":
		return "its own way in"
	}
	return ""
}

func isPort(line string) bool { return strings.HasPrefix(line, "port ") }

// What a new device is reached by stays, whatever the old one had; what else it has and will
// not have is told in full.
func TestWhatStaysOnTheNewDevice(t *testing.T) {
	const fresh = "name new\nlogin crew secret y\nlogin maker secret z\nmanage from 192.0.2.1\nlan 10\n  title office\nport 1\n  trunk\nport 5\n  label \"spare\"\n"
	was := config.Parse(old+"manage from any\n", style)
	now := config.Parse(fresh, style)
	for name, c := range map[string]struct {
		rules, text string
		loses       []string
	}{
		"no rule": {"", "name new\nlogin crew secret y\nlogin maker secret z\nmanage from 192.0.2.1\nlan 310\n  title gates\nport 1\n  trunk\nport 5\n  label \"gate\"\n  lan 310\n",
			[]string{"lan 10", "lan 10 > title office", "port 5 > label \"spare\""}},
		"left": {"  - {line: 'login .*', left: made there}\n  - {line: 'lan 10.*', left: of the office}\n",
			"name new\nlogin crew secret y\nlogin maker secret z\nmanage from 192.0.2.1\nlan 10\n  title office\nlan 310\n  title gates\nport 1\n  trunk\nport 5\n  label \"gate\"\n  lan 310\n",
			[]string{"port 5 > label \"spare\""}},
		"a rule says otherwise": {"  - {line: 'name (\\S+)', to: 'name ald-quay-1'}\n  - {line: '(manage .*)', to: '$1'}\n",
			"name ald-quay-1\nlogin crew secret y\nlogin maker secret z\nmanage from any\nlan 310\n  title gates\nport 1\n  trunk\nport 5\n  label \"gate\"\n  lan 310\n",
			[]string{"lan 10", "lan 10 > title office", "manage from 192.0.2.1", "name new", "port 5 > label \"spare\""}},
	} {
		m, err := Read("m.yaml", []byte("from: tern\nto: tern\nports: {port 3: port 5, port 24: ''}\nlines:\n"+c.rules))
		require.NoError(t, err, name)
		got := m.Over(was, style, nil, all, byWord)
		got.Stays(m, now, style, isOwn, byWord, isPort)
		assert.Empty(t, config.Compare(config.Parse(c.text, style), got.Config), name)
		assert.ElementsMatch(t, c.loses, got.Loses, name)
	}
}

// Whatever the rules: what the new device has is kept, or is told as lost.
func TestNothingIsLostUntold(t *testing.T) {
	pool := []string{"name a", "name b", "login crew secret x", "login ada secret y", "manage from any", "lan 10", "lan 20", "port 1", "port 2"}
	rules := []string{"", "  - {line: 'login .*', left: why}\n", "  - {line: 'lan (.*)', to: 'lan $1'}\n", "  - {line: 'name .*', to: 'name c'}\n", "  - {line: 'lan 10', left: why}\n"}
	rapid.Check(t, func(t *rapid.T) {
		text := func(label string) config.Config {
			return config.Parse(strings.Join(rapid.SliceOfDistinct(rapid.SampledFrom(pool), rapid.ID).Draw(t, label), "\n")+"\n", style)
		}
		m, err := Read("m.yaml", []byte("from: tern\nto: tern\nports: {port 2: port 1}\nlines:\n"+strings.Join(rapid.SliceOfDistinct(rapid.SampledFrom(rules), rapid.ID).Draw(t, "rules"), "")))
		require.NoError(t, err)
		was, now := text("old"), text("new")
		c := m.Over(was, style, nil, all, byWord)
		c.Stays(m, now, style, isOwn, byWord, isPort)
		for _, l := range now.Lines {
			here := len(config.Compare(config.Parse(l.Text+"\n", style), c.Config).Removed) == 0
			told := false
			for _, lost := range c.Loses {
				told = told || lost == l.Text
			}
			assert.True(t, here != told || isPort(l.Text), "%q: here %v, told as lost %v", l.Text, here, told)
		}
		for _, o := range c.Own {
			assert.NotContains(t, c.Loses, o.Path)
		}
	})
}

// Mapped ports of another platform are sections of their own; what stands in them needs a
// rule, which may name the port as the old one has it.
func TestMappedPortsOfAnotherPlatform(t *testing.T) {
	m, err := Read("m.yaml", []byte("from: tern\nto: osier\nports: {port 1: port 11, port 3: port 13, port 24: ''}\nlines:\n  - {line: '(port \\d+) > lan (\\d+)', to: '$1 > carries $2'}\n"))
	require.NoError(t, err)
	c := m.Over(config.Parse(old, style), style, nil, all, nil)
	assert.Equal(t, "port 11\nport 13\n  carries 310\n", c.Config.Text(style))
	assert.Contains(t, c.Gaps, Gap{"port 1 > trunk", "no rule carries it over"})
	assert.NotContains(t, c.Gaps, Gap{"port 3", "no rule carries it over"})
	assert.Contains(t, c.Gaps, Gap{"port 24", "its port has none on the new device"})
}
