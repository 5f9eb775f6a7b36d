package identity

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

var seenOn = time.Date(2026, 11, 20, 3, 0, 0, 0, time.UTC)

func TestCheck(t *testing.T) {
	quay := Meant{Device: "ald-quay-4", Name: "ald-quay-4"}
	last := Last{Seen{"ald-quay-4", "T-1", "SHA256:a"}, seenOn}
	for name, c := range map[string]struct {
		meant Meant
		last  Last
		now   Seen
		why   string // a part of it; "" is the one that is meant
	}{
		"for the first time":           {quay, Last{}, Seen{"ald-quay-4", "T-1", "SHA256:a"}, ""},
		"as ever":                      {quay, last, last.Seen, ""},
		"in capitals, with a domain":   {quay, last, Seen{"ALD-QUAY-4.ald.example", "T-1", "SHA256:a"}, ""},
		"another name":                 {quay, Last{}, Seen{Name: "brm-quay-3"}, "it calls itself brm-quay-3, and ald-quay-4 is meant"},
		"a longer name":                {quay, Last{}, Seen{Name: "ald-quay-41"}, "ald-quay-41"},
		"another name, as said":        {Meant{Device: "ald-quay-4", Name: "SW-4"}, last, Seen{"sw-4", "T-1", ""}, ""},
		"its own name, not as said":    {Meant{Device: "ald-quay-4", Name: "SW-4"}, last, Seen{Name: "ald-quay-4"}, "and SW-4 is meant"},
		"another serial than said":     {Meant{Device: "ald-quay-4", Name: "ald-quay-4", Serial: "T-9"}, Last{}, Seen{Serial: "T-1"}, "its serial is T-1, and the fleet says T-9"},
		"another serial than seen":     {quay, last, Seen{"ald-quay-4", "T-2", "SHA256:a"}, "its serial is T-2, not T-1, as ald-quay-4 was last seen on Fri 20 Nov 2026"},
		"another serial, said by now":  {Meant{Device: "ald-quay-4", Name: "ald-quay-4", Serial: "T-2"}, last, Seen{"ald-quay-4", "T-2", "SHA256:b"}, ""},
		"a new key, the same serial":   {quay, last, Seen{"ald-quay-4", "T-1", "SHA256:b"}, ""},
		"a new key, no serial told":    {quay, last, Seen{"ald-quay-4", "", "SHA256:b"}, "it shows the key SHA256:b, not SHA256:a"},
		"known by its address":         {Meant{Device: "192.0.2.9"}, Last{}, Seen{Name: "whatever"}, ""},
		"by its address, another name": {Meant{Device: "192.0.2.9"}, last, Seen{Name: "whatever"}, "it calls itself whatever, not ald-quay-4"},
		"nothing is told":              {quay, last, Seen{}, ""},
		"its name is gone, key stands": {quay, last, Seen{Key: "SHA256:a"}, ""},
	} {
		err := Check(c.meant, c.last, c.now)
		if c.why == "" {
			assert.NoError(t, err, name)
			continue
		}
		var other *Other
		if assert.ErrorAs(t, err, &other, name) {
			assert.Contains(t, other.Why, c.why, name)
			assert.Equal(t, c.now, other.Seen)
		}
	}
}

func TestOne(t *testing.T) {
	assert.True(t, One(Seen{"a", "T-1", "k"}, Seen{"b", "T-1", "l"}), "one serial is one device, whatever it is called")
	assert.False(t, One(Seen{"a", "T-1", "k"}, Seen{"a", "T-2", "k"}), "a copied key does not make one of two serials")
	assert.True(t, One(Seen{Key: "k"}, Seen{Key: "k"}))
	assert.False(t, One(Seen{Name: "a", Key: "k"}, Seen{Name: "b", Key: "k"}), "copied hosts share a key, and call themselves otherwise")
	assert.False(t, One(Seen{Name: "a"}, Seen{Name: "a"}), "a name alone proves nothing")
	assert.False(t, One(Seen{}, Seen{}))
}

// draw draws what a device may say, with few values, so that they often meet.
func draw(t *rapid.T, label string) Seen {
	word := func(of ...string) string { return rapid.SampledFrom(append(of, "")).Draw(t, label) }
	return Seen{word("a", "A", "a.example", "b"), word("1", "2"), word("k", "l")}
}

// What differs and what is one never hold together, both ways are alike, and who passes the
// check once passes it again when it is held against itself.
func TestSeenProperties(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := draw(t, "a"), draw(t, "b")
		assert.Equal(t, One(a, b), One(b, a))
		assert.Equal(t, Differ(a, b) == "", Differ(b, a) == "")
		assert.False(t, One(a, b) && Differ(a, b) != "", "%v and %v", a, b)
		assert.Empty(t, Differ(a, a))
		m := Meant{Device: "a", Name: "a"}
		if Check(m, Last{}, a) == nil {
			assert.NoError(t, Check(m, Last{a, seenOn}, a))
		}
		if Check(m, Last{a, seenOn}, b) == nil { // what was seen stays, what is said is added
			with := a.With(b)
			assert.NoError(t, Check(m, Last{with, seenOn}, b))
		}
	})
}

// Two nights that know one device by other addresses meet in what they hold it by; hosts
// that share a copied key do not.
func TestHolds(t *testing.T) {
	meet := func(a, b Seen) bool {
		for _, h := range a.Holds() {
			if slices.Contains(b.Holds(), h) {
				return true
			}
		}
		return false
	}
	assert.True(t, meet(Seen{"a", "T-1", "SHA256:a"}, Seen{"b", "T-1", "SHA256:b"}), "its serial")
	assert.True(t, meet(Seen{"A.example", "", "SHA256:a"}, Seen{"a", "", "SHA256:a"}), "its key and its name")
	assert.True(t, meet(Seen{Key: "SHA256:a"}, Seen{Key: "SHA256:a"}), "its key alone")
	assert.False(t, meet(Seen{"r1", "", "SHA256:a"}, Seen{"r2", "", "SHA256:a"}), "a copied key")
	assert.False(t, meet(Seen{}, Seen{}))
}

// Same tells of many sightings what One tells of two.
func TestSameIsOneForMany(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		whole := rapid.Bool().Draw(t, "all tell a serial number, or none does")
		all := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Seen {
			s := Seen{Name: rapid.SampledFrom([]string{"r1", "R1.example", "r2"}).Draw(t, "name"), Key: rapid.SampledFrom([]string{"", "a", "b"}).Draw(t, "key")}
			if whole {
				s.Serial = rapid.SampledFrom([]string{"T-1", "T-2", "T-3"}).Draw(t, "serial")
			}
			return s
		}), 0, 12).Draw(t, "all")
		same := Same(all)
		for i := range all {
			for j := range i {
				assert.Equal(t, One(all[i], all[j]), same[i] == same[j], "%v %v", all[i], all[j])
			}
		}
	})
	assert.Equal(t, []int{0, 0, 2, 2}, Same([]Seen{{"r1", "T-1", "a"}, {"r1", "", "a"}, {"r2", "", "b"}, {"r2", "T-2", "b"}}), "one that did not tell its serial number")
	assert.Equal(t, []int{0, 1, 0}, Same([]Seen{{"r1", "T-1", "a"}, {"r1", "T-2", "a"}, {"r1", "T-1", "a"}}), "copies of one host")
}
