// Package roster is the Fleet view: the devices in scope, how far we come with
// each, and why no further. Devices are marked here by hand, by range or by a
// condition, saved as a selection, reached, read, and worked by hand.
//
// It draws a [reach.Board] and never reaches into what fills it.
package roster

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"metabasis/internal/acts"
	"metabasis/internal/core/reach"
	"metabasis/internal/screen"
	"metabasis/internal/screen/list"
)

// by is what the devices are grouped by.
type by int

const (
	bySite by = iota
	byRole
	byPlatform
	byOutcome
	groupings
)

func (b by) String() string { return [...]string{"site", "role", "platform", "outcome"}[b] }

// View is the view's state.
type View struct {
	src   Source
	host  *screen.Host
	board reach.Board
	busy  bool            // devices are being reached
	asked map[string]bool // those that are, or were last
	now   time.Time

	group     by
	rows      []row // as they are grouped now
	list      list.List
	top       int // row at which the list begins
	cells     int // it has
	marked    map[string]bool
	clear     bool   // some device is reached in clear text
	from      string // where a range of marks begins
	nameCells int    // of the longest name
}

// row is a group's heading or a device.
type row struct {
	heading string
	members []int // of a heading
	device  int
}

// New makes the view.
func New(src Source) *View {
	v := &View{src: src, marked: map[string]bool{}}
	v.clear = slices.ContainsFunc(src.Devices, func(d Device) bool { return d.ClearText })
	var names []string
	for _, d := range src.Devices {
		names = append(names, d.Name)
	}
	v.board = reach.NewBoard(names)
	for _, n := range append(names, "device") {
		v.nameCells = min(max(v.nameCells, len(n)), mostName)
	}
	v.list = list.List{Len: func() int { return len(v.rows) }, Pick: func(i int) bool { return v.rows[i].device >= 0 },
		Text: func(i int) string { return v.src.Devices[v.rows[i].device].Name }, Draw: v.row}
	v.regroup()
	return v
}

// Name implements [screen.View].
func (v *View) Name() string { return "Fleet" }

// Opened implements [screen.Opener].
func (v *View) Opened(h *screen.Host) { v.host = h }

// Closed implements [screen.Closer].
func (v *View) Closed() error {
	if v.src.Close == nil {
		return nil
	}
	return v.src.Close()
}

// Click implements [screen.Pointed].
func (v *View) Click(x, y int) {
	if x < v.cells {
		v.list.Click(y - v.top)
	}
}

// Wheel implements [screen.Pointed].
func (v *View) Wheel(rows int) { v.list.Wheel(rows) }

// mostName is the most that a name takes, in cells.
const mostName = 24

// groupName is the group that a device belongs to.
func (v *View) groupName(i int) string {
	d := v.src.Devices[i]
	switch v.group {
	case bySite:
		return orNone(d.Site, "site")
	case byRole:
		return orNone(d.Role, "role")
	case byPlatform:
		return d.Platform
	}
	e := v.board.Entries[i]
	switch e.State {
	case reach.Failed:
		return fmt.Sprintf("%s: %s", e.Result.Failure.Stage.Noun(), e.Result.Failure.Common())
	case reach.Waiting:
		return "not reached yet"
	case reach.Reaching:
		return "being reached"
	}
	return "ready"
}

func orNone(v, what string) string {
	if v == "" {
		return "no " + what
	}
	return v
}

// regroup puts the devices into groups anew. It is done when the person asks for
// it and when reaching is over, so that nothing jumps while it goes on.
func (v *View) regroup() {
	at := v.current()
	var names []string
	members := map[string][]int{}
	for i := range v.src.Devices {
		g := v.groupName(i)
		if members[g] == nil {
			names = append(names, g)
		}
		members[g] = append(members[g], i)
	}
	if v.group == byOutcome { // what needs somebody first: failures by how many, then the rest
		rank := func(g string) int {
			switch v.board.Entries[members[g][0]].State {
			case reach.Failed:
				return 0
			case reach.Reaching, reach.Waiting:
				return 1
			}
			return 2
		}
		slices.SortStableFunc(names, func(a, b string) int {
			stage := func(g string) reach.Stage { return v.board.Entries[members[g][0]].Stage }
			return cmp.Or(rank(a)-rank(b), len(members[b])-len(members[a]), cmp.Compare(stage(a), stage(b)))
		})
	}
	v.rows = nil
	for _, g := range names {
		v.rows = append(v.rows, row{heading: g, members: members[g], device: -1})
		for _, i := range members[g] {
			v.rows = append(v.rows, row{device: i})
		}
	}
	v.list.To(0)
	if at >= 0 {
		v.list.To(slices.IndexFunc(v.rows, func(r row) bool { return r.device == at }))
	}
}

// current is the device under the cursor, -1 for none.
func (v *View) current() int {
	if v.list.Cursor < 0 || v.list.Cursor >= len(v.rows) {
		return -1
	}
	return v.rows[v.list.Cursor].device
}

// DeviceHere implements [screen.OfDevices].
func (v *View) DeviceHere() string {
	if i := v.current(); i >= 0 {
		return v.src.Devices[i].Name
	}
	return ""
}

// markedNames are the marked devices in the fleet's order.
func (v *View) markedNames() []string {
	var out []string
	for _, d := range v.src.Devices {
		if v.marked[d.Name] {
			out = append(out, d.Name)
		}
	}
	return out
}

// meant are the devices that a key is for: those marked, else all.
func (v *View) meant() []string {
	if names := v.markedNames(); len(names) > 0 {
		return names
	}
	var all []string
	for _, d := range v.src.Devices {
		all = append(all, d.Name)
	}
	return all
}

// fresh are the results whose host keys were shown for the first time.
func (v *View) fresh() (out []*reach.Result) {
	for _, e := range v.board.Entries {
		if v.isFresh(e) {
			out = append(out, e.Result)
		}
	}
	return out
}

// isFresh tells whether a device waits for its new host key to be accepted.
func (v *View) isFresh(e reach.Entry) bool {
	return v.src.Accept != nil && acts.NewKey(e.Result) != nil
}

// countKeys counts the new keys.
func (v *View) countKeys() int {
	prints, _ := acts.Prints(v.fresh())
	return len(prints)
}
