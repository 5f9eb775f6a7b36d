package profile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// withReader is a small profile with one reader.
func withReader(reader string) (*Profile, error) {
	return Load("x.yaml", []byte(`platform: x
connect: {protocol: ssh}
modes: {m: {prompt: '^(?P<host>\S+)> $', login: true}}
refused: ['^No$']
configuration: {layout: flat, edit: m, running: {in: m, send: list}}
timer: {kind: none}
readers:
  t:
    in: m
    send: list
`+reader))
}

func TestReaderForms(t *testing.T) {
	const routes = `    skip: ['^ROUTES', '^none$']
    row: '^(?P<prefix>\S+/\d+)? +via (?P<via>\S+)$'
    columns:
      prefix: {type: text, carry: true}
      via: {type: text}
      age: {type: number, match: '^ +age (\d+)$', optional: true}
      best: {type: yes/no, match: '^ +(best)$', yes: best, optional: true}
`
	const silent = "    silent: true\n" + routes
	row := func(prefix, via string, age, best any) map[string]any {
		return map[string]any{"prefix": prefix, "via": via, "age": age, "best": best}
	}
	for name, c := range map[string]struct {
		reader string
		lines  []string
		want   any
		err    string
	}{
		"rows of several lines": {routes, []string{"ROUTES", "192.0.2.0/24 via a", "  age 12", "  best", "             via b", "198.51.100.0/24 via c", "  age 3"},
			[]map[string]any{row("192.0.2.0/24", "a", 12.0, true), row("192.0.2.0/24", "b", nil, nil), row("198.51.100.0/24", "c", 3.0, nil)}, ""},
		"a line fits no pattern": {routes, []string{"ROUTES", "192.0.2.0/24 via a", "198.51.100.0/24 by b", "203.0.113.0/24 via c"}, nil,
			"2 rows, and 1 line that fit neither row nor skip: 198.51.100.0/24 by b"},
		"a line says that there is nothing": {"    none: '^No routes'\n" + routes, []string{"No routes here."}, []map[string]any{}, ""},
		"one row, and nothing to tell": {"    none: '^No clock'\n    columns: {a: {type: number, match: '^a (.*)$'}}\n", []string{"No clock."},
			map[string]any{"a": nil}, ""},
		"one row, two values": {"    columns: {a: {type: text, match: '^a (.*)$'}}\n", []string{"a 1", "a 2"}, nil,
			`column a: two lines fit it, and they differ: "1" and "2"`},
		"it says that there are none": {routes, []string{"ROUTES", "none", ""}, []map[string]any{}, ""},
		"nothing fits":                {routes, []string{"ROUTES", "192.0.2.0/24 -> a", "more"}, nil, "no line fits its row; it printed: 192.0.2.0/24 -> a / more"},
		"nothing was printed":         {routes, []string{"", "  "}, nil, "it printed nothing where a table was expected"},
		"silence means none":          {silent, nil, []map[string]any{}, ""},
		"not a number": {"    row: '^(?P<n>\\S+)$'\n    columns: {n: {type: number}}\n", []string{"many"}, nil,
			`column n: "many" is not a number; it printed: many`},
		"one row, one column missing": {"    columns: {a: {type: text, match: '^a (.*)$'}, b: {type: text, match: '^b (.*)$'}}\n", []string{"a 1"}, nil,
			"no line fits column b; it printed: a 1"},
		"one row, one column optional": {"    columns: {a: {type: text, match: '^a (.*)$'}, b: {type: number, match: '^b (.*)$', optional: true, unit: KiB}}\n", []string{"a 1"},
			map[string]any{"a": "1", "b": nil}, ""},
	} {
		p, err := withReader(c.reader)
		require.NoError(t, err, name)
		got, err := p.Readers["t"].Parse(c.lines)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, c.want, got, name)
	}
	p, err := withReader(routes)
	require.NoError(t, err)
	assert.Equal(t, []string{"prefix", "via", "age", "best"}, p.Readers["t"].Order(), "columns keep the profile's order")
}

func TestMistakesInReaders(t *testing.T) {
	for reader, want := range map[string]string{
		"    row: '^(?P<a>x)$'\n    columns: {b: {type: text}}\n":                        "no group of that name; write: (?P<b>…) in row, or match: with a group",
		"    row: '^(?P<a>x)$'\n    columns: {a: {type: text, match: '(x)'}}\n":          "one is enough",
		"    skip: ['x']\n    columns: {a: {type: text, match: '(x)'}}\n":                "tables of many rows",
		"    columns: {a: {type: txt, match: '(x)'}}\n":                                  `type "txt" is not known; write: text`,
		"    columns: {a: {type: number, unit: TB, match: '(x)'}}\n":                     `unit "TB" is not known`,
		"    columns: {a: {type: text, match: 'x'}}\n":                                   "nothing says where the value stands",
		"    row: '^(?P<a>x)$'\n    columns: {a: {type: text}}\n    colour: {a: blue}\n": "x.yaml:",
	} {
		_, err := withReader(reader)
		assert.ErrorContains(t, err, want, reader)
	}
}

// Whatever a device prints, a reader gives a table or an error that shows the
// text, and both are bounded.
func FuzzReaders(f *testing.F) {
	f.Add("port  state  lan    label\n1     up     trunk  \"uplink\"\n")
	f.Add("BIRD 2.0.12 ready.\nTable master4:\n192.0.2.0/24 unicast [q 1] * (200)\n\tdev lo\n")
	f.Add("time      2026-12-02T01:34:12Z\nsource    192.0.2.40\nstate     settled\noffset    -0.004 s\n")
	var all []Reader
	for _, file := range []string{"tern", "plover", "bird"} {
		for _, r := range shipped(f, file).Readers {
			all = append(all, r)
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		lines := strings.Split(text, "\n")
		for _, r := range all {
			v, err := r.Parse(lines)
			if err != nil {
				require.LessOrEqual(t, len(err.Error()), 4*len(text)+4000)
				continue
			}
			switch rows := v.(type) {
			case map[string]any:
				require.Len(t, rows, len(r.Columns))
			case []map[string]any:
				require.LessOrEqual(t, len(rows), len(lines))
				for _, row := range rows {
					require.Len(t, row, len(r.Columns))
				}
			}
		}
	})
}

// Whatever stands on a line, it is the prompt of one mode at most, found the
// same way each time, and never where the pattern does not fit all of it.
func FuzzPrompts(f *testing.F) {
	f.Add("[ald-quay-1 work] ")
	f.Add("ald-gate-1! ")
	f.Add("crew@quay:~$ ")
	f.Add("[x look] [x look] ")
	var ps []*Profile
	for _, file := range []string{"tern", "plover", "bird"} {
		ps = append(ps, shipped(f, file))
	}
	f.Fuzz(func(t *testing.T, line string) {
		for _, p := range ps {
			mode, host, _ := p.PromptOf(line)
			again, _, _ := p.PromptOf(line)
			require.Equal(t, mode, again)
			if mode == "" {
				continue
			}
			require.Contains(t, line, host)
			require.Equal(t, []int{0, len(line)}, p.Modes[mode].Prompt.FindStringIndex(line))
		}
	})
}
