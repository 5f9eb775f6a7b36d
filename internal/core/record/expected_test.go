package record

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What the runbook expected and what became so is as expected; all else is an alarm.
func TestExpect(t *testing.T) {
	one := func(row Row) Device { return Device{Device: "a", Tables: map[string][]Row{"clock": {row}}} }
	port := func(rows ...Row) Device { return Device{Device: "a", Tables: map[string][]Row{"ports": rows}} }
	keyed := func(string) Manner { return Manner{Keys: []string{"port"}} }
	plain := func(string) Manner { return Manner{} }
	for name, c := range map[string]struct {
		changes []Change
		held    string
		want    bool
	}{
		"all that changed":       {Tables(one(Row{"source": "a", "settled": true}), one(Row{"source": "b", "settled": true}), plain), `clock.source == "b" and clock.settled`, true},
		"a column more":          {Tables(one(Row{"source": "a", "offset": 1.0}), one(Row{"source": "b", "offset": 9.0}), plain), `clock.source == "b"`, false},
		"a longer name":          {Tables(one(Row{"source": "a"}), one(Row{"source": "b"}), plain), `clock.sources == "b" and my.clock.source_x`, false},
		"another table":          {Tables(one(Row{"source": "a"}), one(Row{"source": "b"}), plain), `len(ports) == 3`, false},
		"the row":                {Tables(port(Row{"port": 3.0, "lan": "10"}), port(Row{"port": 3.0, "lan": "310"}), keyed), `any(ports, .port == 3 and .lan == "310")`, true},
		"another row":            {Tables(port(Row{"port": 4.0, "lan": "10"}), port(Row{"port": 4.0, "lan": "310"}), keyed), `any(ports, .port == 3 and .lan == "310")`, false},
		"a row like it":          {Tables(port(Row{"port": 31.0, "lan": "10"}), port(Row{"port": 31.0, "lan": "310"}), keyed), `any(ports, .port == 3 and .lan == "310")`, false},
		"a column of the row":    {Tables(port(Row{"port": 3.0, "state": "up"}), port(Row{"port": 3.0, "state": "shut"}), keyed), `any(ports, .port == 3 and .lan == "310")`, false},
		"a row that went":        {Tables(port(Row{"port": 3.0, "lan": "10"}), port(), keyed), `any(ports, .port == 3)`, false},
		"a row that came":        {Tables(port(), port(Row{"port": 3.0, "lan": "310"}), keyed), `any(ports, .port == 3 and .lan == "310")`, true},
		"what could not be read": {[]Change{{Table: "clock", Kind: Unknown}}, `clock.source == "b"`, false},
	} {
		got := Expect(c.changes, []string{"", c.held})
		if assert.Len(t, got, 1, name) {
			assert.Equal(t, c.want, got[0].Expected, "%s: %s", name, got[0])
		}
	}
	odd := Tallied([]Differing{{Device: "a", Changes: []Change{{Expected: true}}}, {Device: "b", Changes: []Change{{}}}})
	assert.Equal(t, Tally{Differ: 2, Odd: 1}, odd, "only what nobody asked for counts")
}
