// Package identity tells whether a device is the one that is meant.
//
// A device says who it is in up to three ways: by the name it calls itself, by a serial
// number, and by the key it shows when it is connected to. What it says ([Seen]) is held
// against what the fleet means ([Meant]) and against what was seen under the same name
// before. What a device does not say proves nothing, either way; where it says nothing at
// all, nobody can know, and that is said ([Seen.Nothing]).
//
// A serial number decides before a key does: a key can be made anew on the same hardware,
// or be copied onto other hardware, and a serial number stays with it.
package identity

import (
	"fmt"
	"strings"
	"time"
)

// Seen is who a device says it is. What it does not say is "".
type Seen struct {
	Name   string `json:"name,omitempty"`   // what it calls itself
	Serial string `json:"serial,omitempty"` // as its profile reads it
	Key    string `json:"key,omitempty"`    // the fingerprint of the key it shows, or what it is known by in its protocol
}

// Nothing tells that it does not say at all who it is.
func (s Seen) Nothing() bool { return s == Seen{} }

// String is all of it, such as `calls itself ald-quay-4, serial T-100101`.
func (s Seen) String() string {
	var out []string
	if s.Name != "" {
		out = append(out, "calls itself "+s.Name)
	}
	if s.Serial != "" {
		out = append(out, "serial "+s.Serial)
	}
	if s.Key != "" {
		out = append(out, "key "+s.Key)
	}
	if out == nil {
		return "does not tell who it is"
	}
	return strings.Join(out, ", ")
}

// Brief is String without the key, where something else tells.
func (s Seen) Brief() string {
	if s.Name != "" || s.Serial != "" {
		s.Key = ""
	}
	return s.String()
}

// Claims are what a device is told apart by, for whoever keeps two from working on one.
func (s Seen) Claims() (out []string) {
	if s.Serial != "" {
		out = append(out, "serial "+s.Serial)
	}
	if s.Key != "" {
		out = append(out, "key "+s.Key)
	}
	return out
}

// Holds are Claims for one night against another, which cannot ask the other what else it
// saw: a key counts with the name, as hosts that were copied share their key.
func (s Seen) Holds() (out []string) {
	if s.Serial != "" {
		out = append(out, "serial "+s.Serial)
	}
	if s.Key != "" {
		name, _, _ := strings.Cut(strings.ToLower(s.Name), ".")
		out = append(out, strings.TrimSpace("key "+s.Key+" "+name))
	}
	return out
}

// With is what is known of a device when more of it was seen: what is not said now stays.
func (s Seen) With(more Seen) Seen {
	for _, f := range []struct{ to, from *string }{{&s.Name, &more.Name}, {&s.Serial, &more.Serial}, {&s.Key, &more.Key}} {
		if *f.from != "" {
			*f.to = *f.from
		}
	}
	return s
}

// Meant is what the fleet says of a device.
type Meant struct {
	Device string // its name in the fleet
	Name   string // what it must call itself; "" where the fleet knows no more than its address
	Serial string // its serial number; "" where the fleet does not say
}

// Last is what was seen under a name before, and when.
type Last struct {
	Seen
	At time.Time
}

// Other says that a device is not the one that is meant.
type Other struct {
	Device string
	Seen   Seen
	Why    string // what was seen and what was expected
}

func (e *Other) Error() string { return e.Why }

// Check holds a device against what is meant and what was seen before. The error is an
// [Other].
func Check(m Meant, last Last, now Seen) error {
	var why []string
	switch {
	case now.Name == "":
	case m.Name != "" && !SameName(now.Name, m.Name):
		why = append(why, fmt.Sprintf("it calls itself %s, and %s is meant", now.Name, m.Name))
	case m.Name == "" && last.Name != "" && !SameName(now.Name, last.Name):
		why = append(why, fmt.Sprintf("it calls itself %s, not %s", now.Name, last.Name))
	}
	if now.Serial != "" && m.Serial != "" && now.Serial != m.Serial {
		why = append(why, fmt.Sprintf("its serial is %s, and the fleet says %s", now.Serial, m.Serial))
	}
	if w := apart(last.Seen, now); w != "" && (now.Serial == "" || m.Serial != now.Serial) { // else the fleet says that this is it
		why = append(why, fmt.Sprintf("%s, as %s was last seen on %s", w, m.Device, last.At.Format("Mon 2 Jan 2006")))
	}
	if why == nil {
		return nil
	}
	return &Other{m.Device, now, strings.Join(why, "; ")}
}

// Differ tells two sightings of different devices apart: it says by what, and "" where
// nothing that both say differs.
func Differ(a, b Seen) string {
	hardware, name := apart(a, b), ""
	if a.Name != "" && b.Name != "" && !SameName(a.Name, b.Name) {
		name = fmt.Sprintf("it calls itself %s, not %s", b.Name, a.Name)
	}
	decided := a.Serial != "" && a.Serial == b.Serial || a.Key != "" && a.Key == b.Key
	switch {
	case hardware == "" && decided: // it was renamed
		return ""
	case hardware != "" && name != "":
		return name + "; " + hardware
	}
	return hardware + name
}

// apart says by what hardware is told apart: serial numbers, else keys.
func apart(was, now Seen) string {
	switch {
	case was.Serial != "" && now.Serial != "":
		if was.Serial != now.Serial {
			return fmt.Sprintf("its serial is %s, not %s", now.Serial, was.Serial)
		}
	case was.Key != "" && now.Key != "" && was.Key != now.Key:
		return fmt.Sprintf("it shows the key %s, not %s", now.Key, was.Key)
	}
	return ""
}

// One tells that two sightings are of one device: the same serial, or the same key where no
// serial and no name tells them apart. Hosts that were copied share a key, and call
// themselves otherwise.
func One(a, b Seen) bool {
	if a.Serial != "" && b.Serial != "" {
		return a.Serial == b.Serial
	}
	return a.Key != "" && a.Key == b.Key && (a.Name == "" || b.Name == "" || SameName(a.Name, b.Name))
}

// Same says of each of some sightings which is the first one of the same device, by their
// places; that of a device which is there once is its own. It takes what [Seen.Holds] says for
// one device, however many there are: ten thousand copied hosts are ten thousand devices.
func Same(all []Seen) []int {
	first := make([]int, len(all))
	find := func(i int) int {
		for first[i] != i {
			first[i] = first[first[i]]
			i = first[i]
		}
		return i
	}
	at := map[string]int{}  // by what they are held by; of keys, one without a serial number
	met := map[string]int{} // the first of any
	for i, s := range all {
		first[i] = i
		join := func(j int) { i, j := find(i), find(j); first[max(i, j)] = min(i, j) }
		for _, hold := range s.Holds() {
			j, known := at[hold]
			k, seen := met[hold]
			switch key := strings.HasPrefix(hold, "key "); {
			case known: // a serial number, or a key where that one has no serial number
				join(j)
			case key && s.Serial == "" && seen: // which of several it is, nobody knows
				join(k)
				at[hold] = i
			case !key || s.Serial == "":
				at[hold] = i
			}
			if !seen {
				met[hold] = i
			}
		}
	}
	for i := range first {
		first[i] = find(i)
	}
	return first
}

// SameName tells whether two names are one: upper and lower case do not count, nor does a
// domain that only one of them has.
func SameName(a, b string) bool {
	if strings.EqualFold(a, b) {
		return true
	}
	shortA, domainA, _ := strings.Cut(a, ".")
	shortB, domainB, _ := strings.Cut(b, ".")
	return strings.EqualFold(shortA, shortB) && shortA != "" && (domainA == "" || domainB == "")
}
