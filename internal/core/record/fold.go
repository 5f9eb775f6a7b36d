package record

import (
	"cmp"
	"slices"

	"github.com/maruel/natural"
)

// Differing is a device with what is different on it.
type Differing struct {
	Device  string   `json:"device"`
	Changes []Change `json:"changes,omitempty"`
	// Config is how the configuration differs, as lines behind "-" and "+", secrets masked.
	Config []string `json:"config,omitempty"`
	// Predicted are the lines of Config that were predicted, and Missed those that were
	// predicted and are not there; both where there was a prediction.
	Predicted []string `json:"foreseen,omitempty"`
	Missed    []string `json:"missed,omitempty"`
	// Apart is what only one of the two sides holds, so that it was not compared.
	Apart []string `json:"apart,omitempty"`
}

// Same tells whether nothing is different.
func (d Differing) Same() bool { return len(d.Changes)+len(d.Config)+len(d.Missed) == 0 }

// Untold tells whether all that is told of it is that something could not be read.
func (d Differing) Untold() bool {
	return len(d.Changes) > 0 && len(d.Config)+len(d.Missed) == 0 &&
		!slices.ContainsFunc(d.Changes, func(c Change) bool { return c.Kind != Unknown })
}

// Group is one difference with all the devices that have it.
type Group struct {
	Text    string   `json:"text"`
	Devices []string `json:"devices"`
	// Predicted says that the change was computed to do it.
	Predicted bool `json:"predicted,omitempty"`
	// Expected says that the runbook expected it, and that it became so.
	Expected bool `json:"expected,omitempty"`
	// Unknown says that nobody knows, since something could not be read.
	Unknown bool `json:"unknown,omitempty"`
}

// Fold puts together the differences that several devices have in common. What nobody
// foresaw comes before what was predicted, and of each what the fewest devices have.
// Differences that the same devices have stand together.
func Fold(all []Differing) []Group {
	type key struct {
		text                         string
		predicted, expected, unknown bool
	}
	at := map[key]int{}
	var out []Group
	add := func(k key, device string) {
		i, known := at[k]
		if !known {
			i = len(out)
			at[k] = i
			out = append(out, Group{Text: k.text, Predicted: k.predicted, Expected: k.expected, Unknown: k.unknown})
		}
		if n := len(out[i].Devices); n == 0 || out[i].Devices[n-1] != device {
			out[i].Devices = append(out[i].Devices, device)
		}
	}
	for _, d := range all {
		for _, c := range d.Changes {
			add(key{c.String(), false, c.Expected, c.Kind == Unknown}, d.Device)
		}
		for _, l := range d.Config {
			add(key{l, slices.Contains(d.Predicted, l), false, false}, d.Device)
		}
		for _, l := range d.Missed {
			add(key{"predicted, and not there: " + l, false, false, false}, d.Device)
		}
	}
	for i := range out {
		slices.SortFunc(out[i].Devices, natural.Compare)
	}
	slices.SortStableFunc(out, func(a, b Group) int {
		return cmp.Or(weight(a)-weight(b), len(a.Devices)-len(b.Devices), slices.CompareFunc(a.Devices, b.Devices, natural.Compare))
	})
	return out
}

func weight(g Group) int {
	switch {
	case g.Predicted:
		return 3
	case g.Expected:
		return 2
	case g.Unknown:
		return 0
	}
	return 1
}

// Tally is how many devices of a comparison are what.
type Tally struct {
	Same   int // nothing is different
	Differ int // something is
	Odd    int // of those: something that nobody foresaw
	Untold int // nothing is known to be different, and something could not be read
}

// Tallied counts the devices of a comparison.
func Tallied(all []Differing) (t Tally) {
	for _, d := range all {
		switch {
		case d.Same():
			t.Same++
			continue
		case d.Untold():
			t.Untold++
			continue
		}
		t.Differ++
		odd := len(d.Missed) > 0 || slices.ContainsFunc(d.Changes, func(c Change) bool { return !c.Expected })
		for _, l := range d.Config {
			odd = odd || !slices.Contains(d.Predicted, l)
		}
		if odd {
			t.Odd++
		}
	}
	return t
}
