package kind

import (
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestKindsAreReadAsTheyAreWritten(t *testing.T) {
	for _, text := range []string{"address", "prefix", "number", "number 2..4094", "text", "choice up, down", "switch", "port", "time", "size", "list of number 1..9", "list of address"} {
		k, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, text, k.String())
	}
	for text, why := range map[string]string{
		"adress":        `unknown kind of value "adress"; write: address`,
		"number 9..2":   `"9..2" is not a range`,
		"number few":    `"few" is not a range`,
		"choice":        "a choice of nothing",
		"address ipv4":  `"ipv4" cannot stand behind address`,
		"secret":        "unknown kind of value",
		"list of":       "unknown kind of value",
		"":              "unknown kind of value",
		"list of list ": "unknown kind of value",
	} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, why, text)
	}
}

func TestWhatFits(t *testing.T) {
	for _, c := range []struct{ kind, good, wrong, why string }{
		{"address", "2001:db8::1", "192.0.2.400", `"192.0.2.400" is not an IP address`},
		{"prefix", "192.0.2.0/24", "192.0.2.1/24", "an address within the range 192.0.2.0/24"},
		{"number 2..4094", "310", "5000", "5000 is not from 2 to 4094"},
		{"number", "7", "007", `"007" is not written as a number is: write 7, or call it text`},
		{"choice up, down", "down", "Up", `"Up" is not one of up, down`},
		{"switch", "yes", "true", "neither yes nor no"},
		{"port", "gate/1", "gate 1", "not the name of a port"},
		{"time", "1h30m", "90", "not a length of time"},
		{"size", "20 MB", "20 furlongs", "not a size, such as 20 MB"},
		{"list of number 1..9", "1, 9", "1 10", "10 is not from 1 to 9"},
		{"text", "anything: at all", "bell\a", "control character"},
	} {
		k, err := Parse(c.kind)
		require.NoError(t, err)
		assert.NoError(t, k.Check(c.good), c.kind)
		assert.ErrorContains(t, k.Check(c.wrong), c.why, c.kind)
	}
}

func TestValues(t *testing.T) {
	for _, c := range []struct {
		kind, text string
		want       any
	}{
		{"number", "310", 310}, {"number", "", nil}, {"time", "1m30s", 90}, {"size", "2 KB", 2000}, {"switch", "no", false}, {"switch", "", nil},
		{"list of number", "10 20", []any{10, 20}}, {"list of text", "north quay, south quay", []any{"north quay", "south quay"}}, {"list of number", "", []any{}},
		{"address", "192.0.2.1", "192.0.2.1"}, {"text", "", ""},
	} {
		k, err := Parse(c.kind)
		require.NoError(t, err)
		assert.Equal(t, c.want, k.Value(c.text), "%s of %q", c.kind, c.text)
	}
}

// A column of which nobody says the kind holds numbers only where each value is in a line what
// it is in the file.
func TestGuess(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		values := rapid.SliceOf(rapid.StringMatching(`-?[0-9]{0,4}`)).Draw(t, "values")
		k := Guess(values)
		for _, v := range values {
			if v == "" || !k.IsNumber() {
				continue
			}
			assert.Equal(t, v, strconv.Itoa(k.Value(v).(int)))
		}
	})
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"number 2..4094", "list of choice a, b", "size", "text"} {
		f.Add(s, "20 MB")
	}
	f.Fuzz(func(t *testing.T, kind, text string) {
		k, err := Parse(kind)
		if err != nil {
			return
		}
		again, err := Parse(k.String())
		require.NoError(t, err)
		assert.True(t, k.Equal(again))
		if k.Check(text) == nil && text != "" && !k.List {
			assert.NotNil(t, k.Value(text), "%s of %q", k, text)
		}
	})
}
