package carry

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/config"
)

var style = config.Style{Layout: "indented"}

func all([]string) string { return "" }

const old = `name ald-quay-1
login crew secret x
lan 310
  title gates
port 1
  trunk
port 3
  label "gate"
  lan 310
port 24
  lan 310
`

func TestOver(t *testing.T) {
	m, err := Read("maps/tern-tern.yaml", []byte("from: tern\nto: tern\nports: {port 3: port 5, port 24: ''}\nlines:\n  - {line: 'login .*', left: made there}\n"))
	require.NoError(t, err)
	c := m.Over(config.Parse(old, style), style, map[string]string{"ald-quay-1": "ald-quay-9"}, func(path []string) string {
		if path[0] == "lan 310" && len(path) > 1 {
			return "not known"
		}
		return ""
	}, nil)
	assert.Equal(t, "name ald-quay-9\nlan 310\nport 1\n  trunk\nport 5\n  label \"gate\"\n  lan 310\n", c.Config.Text(style))
	assert.Equal(t, []Gap{{"lan 310 > title gates", "not known"}, {"port 24", "its port has none on the new device"}, {"port 24 > lan 310", "its section does not carry over"}}, c.Gaps)
	assert.Equal(t, []Gap{{"login crew secret x", "made there"}}, c.Left)
	assert.Equal(t, [][2]string{{"port 3", "port 5"}}, c.Moved)
}

// From one platform to another, only what a rule speaks of is carried over.
func TestOverToAnotherPlatform(t *testing.T) {
	m, err := Read("m.yaml", []byte("from: tern\nto: osier\nlines:\n  - {line: 'name (\\S+)', to: 'name $1'}\n  - {line: 'port (\\d+)', to: 'port $1'}\n  - {line: 'port (\\d+) > lan (\\d+)', to: 'port $1 > carries $2'}\n"))
	require.NoError(t, err)
	c := m.Over(config.Parse(old, style), style, nil, all, nil)
	assert.Equal(t, "name ald-quay-1\nport 1\nport 3\n  carries 310\nport 24\n  carries 310\n", c.Config.Text(style))
	assert.Len(t, c.Gaps, 5)
}

func TestMappingsThatAreWrong(t *testing.T) {
	for text, want := range map[string]string{
		"from: tern\nto: tern\nlines:\n  - {line: '('}\n":                          "cannot be read",
		"from: tern\nto: tern\nlines:\n  - {line: 'a', to: b, left: c}\n":          "both or neither",
		"from: tern\nlines: []\n":                                                  "from which platform to which",
		"from: tern\nto: tern\nportz: {}\n":                                        "portz",
		"from: tern\nto: tern\nlines:\n  - {line: 'a'}\n  - {to: 'b', line: ''}\n": "both or neither",
	} {
		_, err := Read("m.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

// No two ports are proposed to become one, those of the same name stay, and what is
// written reads the same again.
func TestProposals(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		names := rapid.SliceOfNDistinct(rapid.StringMatching(`(port|gate|x/)[ ]?[0-9]{1,2}`), 0, 12, rapid.ID[string])
		was, is := names.Draw(t, "was"), names.Draw(t, "is")
		m := Propose(was, is)
		assert.Len(t, m, len(was))
		taken := map[string]bool{}
		for from, to := range m {
			if to == "" {
				continue
			}
			assert.Contains(t, is, to)
			assert.False(t, taken[to], "two become %s", to)
			taken[to] = true
			for _, n := range is {
				if n == from {
					assert.Equal(t, from, to)
				}
			}
		}
		if len(is) >= len(was) {
			assert.NotContains(t, m, "")
			for _, to := range m {
				assert.NotEmpty(t, to, "there are ports enough")
			}
		}
		written := (&Mapping{From: "tern", To: "osier", Ports: m}).Write()
		back, err := Read("m.yaml", written)
		require.NoError(t, err, string(written))
		if len(m) > 0 {
			assert.Equal(t, m, back.Ports)
		}
	})
}

func TestPortsInTheKeysOfData(t *testing.T) {
	m := &Mapping{From: "skerry", To: "skerry", Ports: map[string]string{"port3": "port5", "port5": "port3", "port24": ""}}
	keys := config.Of([][]string{{"/if:interface[name='port3']/enabled = true"}, {"/if:interface[name='port5']"}, {"/if:interface[name='port24']/mtu = 1500"},
		{"/sys:host = port3"}}, style)
	c := m.Over(keys, style, nil, all, nil)
	assert.Equal(t, "/if:interface[name='port5']/enabled = true\n/if:interface[name='port3']\n/sys:host = port3\n", c.Config.Text(style))
	assert.Equal(t, []Gap{{"/if:interface[name='port24']/mtu = 1500", "its port has none on the new device"}}, c.Gaps)
}

// What stands in a section that stays behind, or that the new device cannot have, does not
// wander to the top.
func TestNothingLeavesItsSection(t *testing.T) {
	for name, text := range map[string]string{
		"left":      "from: tern\nto: tern\nlines:\n  - {line: 'port 3', left: rewired}\n",
		"no rule":   "from: tern\nto: osier\nlines:\n  - {line: '(port [^3].*|lan.*)', to: $1}\n  - {line: 'port 3 > (.*)', to: $1}\n",
		"not known": "from: tern\nto: tern\n",
	} {
		m, err := Read("m.yaml", []byte(text))
		require.NoError(t, err)
		c := m.Over(config.Parse(strings.Replace(old, "gate\"\n", "gate\"\n    tone low\n", 1), style), style, nil, func(path []string) string {
			if name == "not known" && path[0] == "port 3" && len(path) == 1 {
				return "no such port"
			}
			return ""
		}, nil)
		assert.NotContains(t, c.Config.Text(style), "gate\"", name)
		assert.Contains(t, c.Gaps, Gap{"port 3 > label \"gate\"", "its section does not carry over"}, name)
		assert.NotContains(t, c.Config.Text(style), "tone low", name)
		assert.Contains(t, c.Gaps, Gap{"port 3 > label \"gate\" > tone low", "its section does not carry over"}, name)
		assert.Contains(t, c.Gaps, Gap{"port 3 > lan 310", "its section does not carry over"}, name)
	}
}

func TestPortsOfOneNumberAreProposed(t *testing.T) {
	assert.Equal(t, map[string]string{"port 2": "port 2", "port 3": "gate 3", "uplink": "gate 1"}, Propose([]string{"port 2", "port 3", "uplink"}, []string{"gate 1", "gate 3", "port 2"}))
	assert.Equal(t, map[string]string{"b": "d", "c": ""}, Propose([]string{"c", "b"}, []string{"d"}))
}

// Whatever a mapping says, each line is carried over, or told as a gap or as left.
func FuzzRead(f *testing.F) {
	f.Add([]byte("from: tern\nto: tern\nports: {port 3: port 5, port 24: ''}\nlines:\n  - {line: 'login .*', left: made there}\n"), old)
	f.Add([]byte("from: tern\nto: osier\nlines:\n  - {line: '(.*)', to: '$1 > $2 > '}\n"), "a\n b\nport 3\n")
	f.Fuzz(func(t *testing.T, mapping []byte, text string) {
		m, err := Read("m.yaml", mapping)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		from := config.Parse(text, style)
		c := m.Over(from, style, map[string]string{"ald-quay-1": "ald-quay-9"}, func(path []string) string {
			if len(path) > 1 && path[len(path)-1] == "shut" {
				return "not known"
			}
			return ""
		}, nil)
		lost := len(walk(from.Lines, nil)) - len(c.Gaps) - len(c.Left)
		require.GreaterOrEqual(t, lost, 0, "a line is told twice")
		if lost == 0 {
			require.Empty(t, c.Config.Lines)
		}
	})
}
