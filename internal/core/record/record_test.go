package record

import (
	"fmt"
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func ports(rows ...Row) Device { return Device{Device: "q", Tables: map[string][]Row{"ports": rows}} }

func byPort(string) Manner {
	return Manner{Keys: []string{"port"}, Volatile: []string{"since"}, Within: map[string]Tolerance{"load": {Share: 0.1}, "errors": {By: 5, Counter: true}}}
}

func TestRowsAreToldApartByTheirKeys(t *testing.T) {
	was := ports(Row{"port": 1.0, "state": "up", "since": 1.0, "load": 100.0, "errors": 7.0}, Row{"port": 3.0, "state": "up", "name": "brm-gate-2"}, Row{"port": 10.0, "state": "shut"})
	for name, c := range map[string]struct {
		is   Device
		want []string
	}{
		"as it was":            {ports(Row{"port": 10.0, "state": "shut"}, was.Tables["ports"][0], was.Tables["ports"][1]), nil},
		"by itself":            {ports(Row{"port": 1.0, "state": "up", "since": 9.0, "load": 109.0, "errors": 12.0}, was.Tables["ports"][1], was.Tables["ports"][2]), nil},
		"too far":              {ports(Row{"port": 1.0, "state": "up", "load": 111.0, "errors": 7.0}, was.Tables["ports"][1], was.Tables["ports"][2]), []string{"ports: port 1: load is 111, was 100"}},
		"a counter anew":       {ports(Row{"port": 1.0, "state": "up", "load": 100.0, "errors": 6.0}, was.Tables["ports"][1], was.Tables["ports"][2]), []string{"ports: port 1: errors is 6, was 7"}},
		"gone, new, in order":  {ports(was.Tables["ports"][0], Row{"port": 12.0, "state": "up"}, was.Tables["ports"][2]), []string{"ports: port 3 is gone (name brm-gate-2, state up)", "ports: port 12 is new (state up)"}},
		"another value":        {ports(was.Tables["ports"][0], was.Tables["ports"][1], Row{"port": 10.0, "state": "up"}), []string{"ports: port 10: state is up, was shut"}},
		"a value that is gone": {ports(was.Tables["ports"][0], Row{"port": 3.0, "state": "up", "name": nil}, was.Tables["ports"][2]), []string{"ports: port 3: name is nothing, was brm-gate-2"}},
	} {
		var got []string
		for _, ch := range Tables(was, c.is, byPort) {
			got = append(got, ch.String())
		}
		assert.Equal(t, c.want, got, name)
	}
}

// What could not be read is never the same as something.
func TestWhatIsNotKnownIsNoEquality(t *testing.T) {
	was := ports(Row{"port": 1.0})
	for name, c := range map[string]struct {
		was, is Device
		want    string
	}{
		"a device, now":         {was, Device{Device: "q", Failed: "port: refused"}, "device: what it has is not known: port: refused"},
		"a device, then":        {Device{Device: "q", Failed: "port: refused"}, was, "device: what it had is not known: port: refused"},
		"a table, now":          {was, Device{Device: "q", Wrong: map[string]string{"ports": "no line fits"}}, "ports: could not be read: no line fits"},
		"a table, then":         {Device{Device: "q", Wrong: map[string]string{"ports": "no line fits"}}, was, "ports: could not be read the first time: no line fits"},
		"all rows went, no key": {ports(Row{"a": 1.0}, Row{"a": 1.0}), ports(), "ports: a 1 is gone"},
	} {
		got := Tables(c.was, c.is, func(string) Manner { return Manner{} })
		require.NotEmpty(t, got, name)
		assert.Equal(t, c.want, got[0].String(), name)
	}
}

// Where no column tells rows apart, a table of one row says what is different in it, and
// one of many says which rows came and went; one key of two rows tells nothing apart.
func TestTablesWithoutKeys(t *testing.T) {
	says := func(was, is Device, m Manner) (out []string) {
		for _, c := range Tables(was, is, func(string) Manner { return m }) {
			out = append(out, c.String())
		}
		return out
	}
	assert.Equal(t, []string{"ports: state is shut, was up"}, says(ports(Row{"state": "up", "n": 1.0}), ports(Row{"state": "shut", "n": 1.0}), Manner{}))
	assert.Equal(t, []string{"ports: state shut is new", "ports: state up is gone"}, says(ports(Row{"state": "up"}, Row{"state": "down"}), ports(Row{"state": "shut"}, Row{"state": "down"}), Manner{}))
	twice := ports(Row{"port": 1.0, "state": "up"}, Row{"port": 1.0, "state": "down"})
	assert.Equal(t, []string{"ports: port 1, state down is gone"}, says(twice, ports(Row{"port": 1.0, "state": "up"}), Manner{Keys: []string{"port"}}))
	assert.Equal(t, []string{"ports: port 3 is gone"}, says(ports(Row{"port": 3.0}), ports(), Manner{Keys: []string{"port"}}), "no empty brackets")
	assert.Equal(t, []string{"ports: port 3: name is brm-gate-2, was nothing"}, says(ports(Row{"port": 3.0}), ports(Row{"port": 3.0, "name": "brm-gate-2"}), Manner{Keys: []string{"port"}}))
}

// What only one side holds is not compared, and is told.
func TestApart(t *testing.T) {
	a := Device{Tables: map[string][]Row{"ports": nil, "routes": nil}, Backup: "x.cfg"}
	b := Device{Tables: map[string][]Row{"ports": nil}, Wrong: map[string]string{"clock": "no line fits"}}
	one, shared := Apart(a, b)
	assert.Equal(t, []string{"config", "routes", "clock"}, one)
	assert.True(t, shared)
	one, shared = Apart(Device{Backup: "x.cfg"}, b)
	assert.Equal(t, []string{"config", "clock", "ports"}, one)
	assert.False(t, shared)
	_, shared = Apart(Device{Failed: "refused"}, b)
	assert.True(t, shared, "that it failed is told already")
}

// However rows are ordered, a table is as itself; and what is new from one to another is
// gone the other way round.
func TestCompareProperties(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) []Row {
			var out []Row
			for i := range rapid.IntRange(0, 6).Draw(t, name) {
				if rapid.Bool().Draw(t, name) {
					out = append(out, Row{"port": float64(i), "state": rapid.SampledFrom([]string{"up", "shut"}).Draw(t, name)})
				}
			}
			return rapid.Permutation(out).Draw(t, name)
		}
		manner := func(string) Manner { return Manner{} }
		if rapid.Bool().Draw(t, "keyed") {
			manner = byPort
		}
		a, b := ports(draw("a")...), ports(draw("b")...)
		assert.Empty(t, Tables(a, ports(rapid.Permutation(a.Tables["ports"]).Draw(t, "again")...), manner))
		there, back := map[Kind]int{}, map[Kind]int{}
		for _, c := range Tables(a, b, manner) {
			there[c.Kind]++
		}
		for _, c := range Tables(b, a, manner) {
			back[c.Kind]++
		}
		back[Gone], back[New] = back[New], back[Gone]
		maps.DeleteFunc(back, func(_ Kind, n int) bool { return n == 0 })
		assert.Equal(t, there, back)
	})
}

func TestFoldHasOutliersFirst(t *testing.T) {
	var all []Differing
	for i := range 22 {
		all = append(all, Differing{Device: fmt.Sprintf("ald-quay-%d", i+1), Config: []string{"+ log host 198.51.100.14"}, Predicted: []string{"+ log host 198.51.100.14"}})
	}
	all = append(all, Differing{Device: "brm-quay-4", Changes: []Change{{Table: "neighbours", Row: "port 3", What: "is gone (name brm-gate-2)", Kind: Gone}}},
		Differing{Device: "brm-quay-5", Missed: []string{"+ log host 198.51.100.14"}}, Differing{Device: "brm-quay-6"})
	groups := Fold(all)
	require.Len(t, groups, 3)
	assert.Equal(t, "neighbours: port 3 is gone (name brm-gate-2)", groups[0].Text)
	assert.Equal(t, []string{"brm-quay-5"}, groups[1].Devices)
	assert.True(t, groups[2].Predicted)
	assert.Len(t, groups[2].Devices, 22)
	assert.Equal(t, "ald-quay-2", groups[2].Devices[1], "in the order in which people count")
	assert.Equal(t, Tally{Same: 1, Differ: 24, Odd: 2}, Tallied(all))
}

// A line of the configuration that nobody foresaw stands before one that was foreseen, and
// what nobody knows before all.
func TestUnforeseenLines(t *testing.T) {
	all := []Differing{
		{Device: "a", Config: []string{"+ one", "+ two"}, Predicted: []string{"+ one"}},
		{Device: "b", Config: []string{"+ one"}, Predicted: []string{"+ one"}},
		{Device: "c", Changes: []Change{{Table: "ports", Row: "", What: "could not be read", Kind: Unknown}}},
	}
	assert.Equal(t, Tally{Differ: 2, Odd: 1, Untold: 1}, Tallied(all))
	assert.Equal(t, []Group{{Text: "ports: could not be read", Devices: []string{"c"}, Unknown: true}, {Text: "+ two", Devices: []string{"a"}}, {Text: "+ one", Devices: []string{"a", "b"}, Predicted: true}}, Fold(all))
}

func TestParseTolerance(t *testing.T) {
	for text, want := range map[string]Tolerance{"5": {By: 5}, "10%": {Share: 0.1}, " 0.5 ": {By: 0.5}} {
		got, err := ParseTolerance(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"", "-1", "ten", "NaN", "1e999", "5 s"} {
		_, err := ParseTolerance(text)
		assert.Error(t, err, text)
	}
}
