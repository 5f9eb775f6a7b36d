package watch

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/screen"
	"metabasis/internal/screen/console"
	"metabasis/internal/screen/decide"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/list"
	"metabasis/internal/screen/page"
)

// View is the list of devices with its cursor, and what stands beside it. The cursor
// stays on a device, not on a row, so that nothing jumps when rows are folded.
type View struct {
	n      *Live
	host   *screen.Host
	cursor int // index of the device
	folded bool
	sure   bool // the person is asked whether it begins
	list   list.List
	rows   []place
	cells  int // the rows were made for
	asking *asking
	byHand bool      // a person has moved the cursor, or does something where it stands
	after  time.Time // since when the trouble is that the cursor has followed
	busy   bool      // the devices are being read
	// toConsole is the device whose console is opened once the night has it ready; "" for none.
	toConsole string
	prepared  *console.Command
	met       int      // the newest hold that was met by itself
	said      struct { // what was said with a device, while the night is played again
		device string
		lines  []string
	}

	rehearsed string    // what the newest rehearsal found, in short; "" where there was none
	found     []ink.Row // and in full

	frame   screen.Frame // that is drawn
	listTop int          // row at which the list begins
	paneTop int          // first row of the pane that is shown
}

// place is what stands in a row of the list.
type place struct {
	batch    int // whose head it is, from 1; 0 for a row of devices
	from, to int // devices; none for an empty row
}

// manyDevices is from how many on the list begins folded.
const manyDevices = 60

func newView(n *Live) *View {
	v := &View{n: n, folded: len(n.night.Devices) > manyDevices}
	v.list = list.List{Len: func() int { return len(v.rows) }, Pick: func(i int) bool { return v.rows[i].to > v.rows[i].from },
		Draw: v.row, Text: v.text, Moved: v.moved}
	return v
}

// Name implements [screen.View].
func (v *View) Name() string { return "Night" }

// Opened implements [screen.Opener].
func (v *View) Opened(h *screen.Host) {
	v.host = h
	if v.n.planned() {
		v.lookBack()
	}
}

// lookBack finds what the newest rehearsal found, behind what is shown.
func (v *View) lookBack() {
	if v.n.src.Plan == nil {
		return
	}
	v.host.Go(func(ctx context.Context) {
		found, lines := v.n.src.Plan.Rehearsed(ctx), []ink.Row{{}}
		for _, l := range v.n.src.Plan.Found(ctx) {
			lines = append(lines, ink.T(ink.Foam, l))
		}
		v.host.Then(func() { v.rehearsed, v.found = found, lines })
	})
}

// Closed implements [screen.Closer]. A night that runs goes on.
func (v *View) Closed() error {
	if v.n.src.Close == nil || v.n.Running() {
		return nil
	}
	return v.n.src.Close()
}

// Back implements [screen.Backer].
func (v *View) Back() bool {
	if v.sure {
		v.sure = false
		return true
	}
	if v.n.play != nil {
		v.unplay()
		return true
	}
	if !v.n.night.Ended.IsZero() && v.host.Standing() == screen.Standing(v.n) {
		v.host.Stand(nil) // its end was seen
	}
	return false
}

// lay lays out the rows: a head a batch, then its devices, a line or a cell each.
func (v *View) lay(cells int) {
	if v.cells == cells && len(v.rows) > 0 {
		return
	}
	v.cells = cells
	v.rows = v.rows[:0]
	each, i := 1, 0
	if v.folded {
		each = perRow(cells)
	}
	for b, batch := range v.n.night.Outline.Batches {
		if b > 0 {
			v.rows = append(v.rows, place{})
		}
		v.rows = append(v.rows, place{batch: b + 1})
		for from := i; from < i+len(batch); from += each {
			v.rows = append(v.rows, place{from: from, to: min(from+each, i+len(batch))})
		}
		i += len(batch)
	}
	v.list.Cursor = max(slices.IndexFunc(v.rows, func(p place) bool { return p.from <= v.cursor && v.cursor < p.to }), 0)
}

// moved takes the cursor to the row that the list's stands in, in the same column.
func (v *View) moved() {
	v.byHand = true
	p := v.rows[v.list.Cursor]
	if v.cursor >= p.from && v.cursor < p.to {
		return
	}
	column := 0
	if i := slices.IndexFunc(v.rows, func(p place) bool { return p.from <= v.cursor && v.cursor < p.to }); i >= 0 {
		column = v.cursor - v.rows[i].from
	}
	v.cursor = min(p.from+column, p.to-1)
}

// to puts the cursor on a device.
func (v *View) to(i int) {
	v.cursor = min(max(i, 0), max(len(v.n.night.Devices)-1, 0))
	if i := slices.IndexFunc(v.rows, func(p place) bool { return p.from <= v.cursor && v.cursor < p.to }); i >= 0 {
		v.list.Cursor = i
	}
}

// row draws a row of the list.
func (v *View) row(i int, here bool, cells int) ink.Row {
	n, p := &v.n.night, v.rows[i]
	switch {
	case p.batch > 0:
		if v.n.cutOff() && p.batch > n.Batch {
			return head(n, p.batch, v.members(p.batch), time.Time{}).Add(ink.Dim, "   never begun")
		}
		return head(n, p.batch, v.members(p.batch), v.n.clock(v.now()))
	case p.from == p.to:
		return ink.Row{}
	case v.folded:
		r := cellRow(n.Devices[p.from:p.to], v.cursor-p.from)
		return r
	}
	r := Line(n.Devices[p.from], v.n.clock(v.now()), cells)
	if here {
		r.Spans[0].Text, r.Spans[0].Ink = "▌", ink.Lamp
	}
	return r
}

// members are the devices of a batch.
func (v *View) members(batch int) []*night.Device {
	from := 0
	for _, b := range v.n.night.Outline.Batches[:batch-1] {
		from += len(b)
	}
	return v.n.night.Devices[from : from+len(v.n.night.Outline.Batches[batch-1])]
}

// text is what finding looks in.
func (v *View) text(i int) string {
	var names []string
	for _, d := range v.n.night.Devices[v.rows[i].from:v.rows[i].to] {
		names = append(names, d.Name)
	}
	return strings.Join(names, " ")
}

// Device is the device under the cursor; nil when there is none.
func (v *View) Device() *night.Device {
	if v.cursor < 0 || v.cursor >= len(v.n.night.Devices) {
		return nil
	}
	return v.n.night.Devices[v.cursor]
}

// DeviceHere implements [screen.OfDevices].
func (v *View) DeviceHere() string {
	if d := v.Device(); d != nil {
		return d.Name
	}
	return ""
}

// hold is the hold of the device under the cursor, else the oldest of those that wait for a person,
// else the oldest.
func (v *View) hold() (night.Hold, bool) {
	holds := v.n.night.Holds
	if d := v.Device(); d != nil {
		if i := slices.IndexFunc(holds, func(h night.Hold) bool { return h.Device == d.Name || slices.Contains(h.Devices, d.Name) }); i >= 0 {
			return holds[i], true
		}
	}
	return v.n.night.Foremost()
}

// ask opens a question above the view.
func (v *View) ask(q decide.Question) {
	if v.asking != nil {
		v.asking.close()
	}
	v.asking = newAsking(v, q)
	v.host.Open(v.asking)
}

// changed takes note of what has happened: a question that nobody waits for any more
// is closed.
func (v *View) changed() {
	if v.asking != nil {
		v.asking.changed()
	}
	v.follow()
	v.readyForConsole()
	v.meets()
}

// Keys implements [screen.View].
func (v *View) Keys() []screen.Key {
	if v.sure {
		return []screen.Key{screen.On(keys.Open, "begin", v.begin)}
	}
	var out []screen.Key
	n := v.n
	if n.planned() && !n.asked {
		out = append(out, screen.On(keys.Begin, "begin", func() { v.sure = true }))
	}
	if n.past() { // first, so that a narrow terminal names them
		out = append(out, v.pastKeys()...)
	}
	opens := "transcript"
	if n.planned() {
		opens = "its lines"
	}
	out = append(out, v.list.Moves("device")...)
	out = append(out, screen.On(keys.Open, opens, v.hand(v.open)), screen.On(keys.Find, "find", func() { v.list.Find(v.host, "device") }))
	out = append(out, v.list.More(v.host)...)
	if !n.planned() {
		out = append(out, screen.On(keys.Need, "next in need", v.hand(v.nextInNeed)))
	}
	if n.started && n.night.Ended.IsZero() {
		out = append(out, screen.On(keys.Note, "note", v.note), screen.On(keys.Play, "let it stand", v.stand),
			screen.On(keys.LeaveOut, "leave out", v.leaveOut), screen.On(keys.Slower, "at once", v.atOnce))
	}
	if n.seen() && !n.wheel.Mine && n.night.Ended.IsZero() {
		out = append(out, screen.On(keys.Wheel, "take the wheel", func() { n.takeWheel(v.host) }))
	}
	out = append(out, screen.On(keys.Pane, "pane", v.hand(v.pane)), screen.On(keys.Fold, "fold", v.fold))
	if n.src.Hands != nil {
		out = append(out, screen.On(keys.Console, "console", v.hand(v.console)))
	}
	if n.src.Hands != nil && n.night.Ended.IsZero() {
		out = append(out, screen.On(keys.Login, "login anew", v.hand(v.login)))
	}
	out = append(out, screen.On(keys.Differs, "difference", v.hand(v.difference)))
	if n.planned() && n.src.Plan != nil && !n.asked && !v.busy {
		out = append(out, screen.On(keys.Predict, "rehearse", v.rehearse))
	}
	if n.planned() && n.src.Plan != nil && !n.asked {
		out = append(out, screen.On(keys.Waive, "waive", v.waive))
	}
	if n.planned() && n.src.Plan != nil && len(n.night.Outline.Values) > 0 && !n.asked && !v.busy {
		out = append(out, screen.On(keys.Values, "values", v.values))
	}
	return append(out, screen.On(keys.Left, "", v.hand(func() { v.to(v.cursor - 1) })), screen.On(keys.Right, "", v.hand(func() { v.to(v.cursor + 1) })))
}

// pastKeys are those of a night that is only looked at.
func (v *View) pastKeys() (out []screen.Key) {
	if v.n.src.Events != nil {
		out = append(out, v.playKeys()...)
	}
	if v.n.play != nil {
		return out
	}
	for _, k := range []struct {
		key  screen.Binding
		does string
		do   func(h *screen.Host)
	}{{keys.Compare, "compare", v.n.src.Morning.Compare}, {keys.Report, "report", v.n.src.Morning.Report},
		{keys.Restore, "take back", v.n.src.Morning.Back}, {keys.Again, "once more for the rest", v.n.src.Morning.Again}} {
		if do := k.do; do != nil {
			out = append(out, screen.On(k.key, k.does, func() { do(v.host) }))
		}
	}
	return out
}

func (v *View) begin() {
	v.sure = false
	v.n.begin(v.host)
}

func (v *View) fold() {
	v.folded = !v.folded
	v.cells = 0
}

func (v *View) waive() {
	var night night.Night
	v.host.Work("Waiving a precheck", func(ctx context.Context) (err error) {
		night, err = v.n.src.Plan.Waive(ctx)
		return err
	}, func(err error) {
		if err != nil {
			v.host.Say("nothing is waived: " + err.Error())
			return
		}
		v.n.night = night
		v.host.Say("waived; it stands among the warnings")
	})
}

// values has the values of the runbook given anew. The night with them takes the place
// of this one.
func (v *View) values() {
	var src Source
	v.host.Work("Planning with other values", func(ctx context.Context) (err error) {
		src, err = v.n.src.Plan.Values(ctx)
		return err
	}, func(err error) {
		if err != nil {
			v.host.Say("the values stay as they are: " + err.Error())
			return
		}
		root := v.host.Root()
		v.host.Back()
		root.Open(New(src).View())
		root.Say("planned anew with these values")
	})
}

// login has the login of the device under the cursor typed anew.
func (v *View) login() {
	d := v.Device()
	if d == nil {
		return
	}
	name := d.Name
	v.host.Work("Login", func(ctx context.Context) error { return v.n.src.Hands.Login(ctx, name) }, func(err error) {
		if err != nil {
			v.host.Say("the login of " + name + ": " + err.Error())
			return
		}
		v.host.Say("the login of " + name + " was typed anew; devices are logged in to with it from now on")
	})
}

// open opens the transcript of the device under the cursor; before the night, the lines
// that will be sent to it.
func (v *View) open() {
	d := v.Device()
	switch {
	case d == nil:
		return
	case v.n.planned():
		v.host.Open(v.lines(d.Name))
		return
	case v.n.src.Said == nil:
		return
	}
	OpenTranscript(v.host, d.Name, v.n.src.Said.Transcript)
}

// OpenTranscript opens what was said with a device, followed as it grows, or says why
// there is nothing.
func OpenTranscript(h *screen.Host, device string, read func(device string) ([]string, error)) {
	last, err := read(device)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		h.Say("nothing was said to " + device + " yet")
		return
	case err != nil:
		h.Say(err.Error())
		return
	}
	h.Open(page.Growing("Transcript of "+device, func() []string {
		if now, err := read(device); err == nil {
			last = now
		}
		return last
	}, TranscriptRow))
}

// pane opens what stands beside the list in full: what will be done, or the device.
func (v *View) pane() {
	if v.n.planned() {
		v.host.Open(page.Of("What will be done", func(f screen.Frame) []ink.Row { return append(v.brief(f.Cells-2), v.found...) }))
		return
	}
	d := v.Device()
	if d == nil {
		return
	}
	name := d.Name
	v.host.Open(page.Of(name, func(f screen.Frame) []ink.Row {
		d := v.n.night.Get(name)
		return Panel(v.n.told(d), v.n.clock(f.Now), func(n int) []string { return v.tail(name, n) }, f.Cells-2, wholePane)
	}))
}

// wholePane is how many rows a device in full has at most.
const wholePane = 400

func (v *View) tail(device string, n int) []string {
	if p := v.n.play; p != nil {
		return v.saidThen(device, n, p)
	}
	if v.n.src.Said == nil {
		return nil
	}
	return v.n.src.Said.Tail(device, n)
}

// saidThen is the end of what was said with a device up to the moment that is shown.
func (v *View) saidThen(device string, n int, p *player) []string {
	if v.said.device != device {
		v.said.device, v.said.lines = device, nil
		if v.n.src.Said != nil {
			v.said.lines, _ = v.n.src.Said.Transcript(device) // where nothing was said, nothing stands
		}
	}
	lines := saidBy(v.said.lines, p.events[0].At, p.now)
	return lines[max(0, len(lines)-n):]
}

// Click implements [screen.Pointed].
func (v *View) Click(x, y int) {
	y -= v.listTop
	if x >= v.cells || v.sure {
		return
	}
	v.list.Click(y)
	if i := v.list.At(y); v.folded && i >= 0 && v.rows[i].to > v.rows[i].from {
		v.byHand = true
		v.to(min(v.rows[i].from+max(x-2, 0)/2, v.rows[i].to-1))
	}
}

// Wheel implements [screen.Pointed].
func (v *View) Wheel(rows int) { v.list.Wheel(rows) }
