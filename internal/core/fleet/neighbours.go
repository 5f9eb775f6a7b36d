package fleet

import (
	"slices"
	"time"
)

// Seen is what devices told of their neighbours.
type Seen struct {
	At         time.Time           // of the oldest of it
	Neighbours map[string][]string // by device: the names at the other ends of its ports
}

// Placed is the fleet with what neighbours tell of how devices are reached, for those of
// which the file does not say it. A device with only one neighbour is reached through that
// one; and so is, once those that hang on it are set aside, one with only one neighbour
// left. Of the others, as those in a ring, nothing is concluded: nor of those with a
// neighbour that is not in the fleet, since we may come in there.
func (f *Fleet) Placed(s Seen) *Fleet {
	if len(s.Neighbours) == 0 {
		return f
	}
	out := *f
	out.Devices = slices.Clone(f.Devices)
	left := map[string]map[string]bool{} // neighbours not set aside
	for name, others := range s.Neighbours {
		left[name] = map[string]bool{}
		for _, o := range others {
			if o != name {
				left[name][o] = true
			}
		}
	}
	from := "by its neighbours, read " + s.At.Local().Format("Mon 2 Jan 15:04")
	for again := true; again; {
		again = false
		for i := range out.Devices {
			d := &out.Devices[i]
			if len(left[d.Name]) != 1 {
				continue
			}
			on := only(left[d.Name])
			if u, known := out.Get(on); !known || slices.Contains(out.Above(u), d.Name) {
				continue
			}
			if d.Via == "" {
				d.Behind, d.BehindFrom = on, from
			}
			delete(left, d.Name)
			delete(left[on], d.Name)
			again = true
		}
	}
	return &out
}

func only(set map[string]bool) string {
	for name := range set {
		return name
	}
	return ""
}

// Upstream is the device that it is reached through: as the file says, else as its
// neighbours told; "" when no such is known.
func (d Device) Upstream() string {
	if d.Via != "" {
		return d.Via
	}
	return d.Behind
}
