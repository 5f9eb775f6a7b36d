package roster

import (
	"fmt"
	"strings"

	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/watch"
)

// side is what stands beside the list: the device under the cursor.
func (m *Model) side(cells, height int) []ink.Row {
	rows := m.device(cells)
	out := make([]ink.Row, 0, len(rows))
	for _, r := range rows[:min(len(rows), height)] {
		out = append(out, ink.T(ink.Foam, " ").Then(r))
	}
	return out
}

func labelled(name, text string, cells int, in ink.Ink) []ink.Row {
	var rows []ink.Row
	for i, l := range watch.Wrap(text, cells-11, 6) {
		if i > 0 {
			name = ""
		}
		rows = append(rows, ink.T(ink.Dim, ink.Fit(name, 11)).Add(in, l))
	}
	return rows
}

func (m *Model) device(cells int) []ink.Row {
	i := m.current()
	if i < 0 {
		return nil
	}
	d, e := m.src.Devices[i], m.board.Entries[i]
	head := ink.Row{}.Strong(ink.Foam, d.Name)
	if d.ClearText {
		head = head.Strong(ink.Lamp, "  clear text")
	}
	rows := []ink.Row{head}
	if res := e.Result; res != nil {
		if f := res.Failure; f != nil {
			head, cause, remedy := ink.Row{}.Strong(ink.Port, "▲ not reached: "+f.Stage.Noun()), f.Cause, f.Remedy
			if m.isFresh(e) { // the whole fingerprint stands where it can be compared
				head, cause = ink.Row{}.Strong(ink.Lamp, "◆ new host key"), f.Common()
				remedy = "K shows it: compare it with what the device's own console says, then accept it"
			}
			rows = append(rows, ink.Row{}, head)
			rows = append(rows, labelled("why", cause, cells, ink.Foam)...)
			if f.Last != "" {
				rows = append(rows, labelled("last", fmt.Sprintf("%q", f.Last), cells, ink.Foam)...)
			}
			if remedy != "" {
				rows = append(rows, labelled("do", remedy, cells, ink.Lamp)...)
			}
		} else {
			rows = append(rows, ink.Row{}.Strong(ink.Buoy, "● ready").Add(ink.Dim, fmt.Sprintf("  in %.1f s", res.Took.Seconds())))
		}
		rows = append(rows, ink.Row{})
		rows = append(rows, labelled("at", res.Address+" over "+res.Protocol, cells, ink.Foam)...)
		if len(res.Through) > 0 {
			rows = append(rows, labelled("through", strings.Join(res.Through, ", "), cells, ink.Foam)...)
		}
		if other := res.OtherName(); other != "" {
			rows = append(rows, labelled("own name", other+", not "+d.Name+": see whether it is the right device", cells, ink.Lamp)...)
		}
		for _, w := range res.Warnings {
			rows = append(rows, labelled("warning", w, cells, ink.Lamp)...)
		}
	} else {
		rows = append(rows, ink.Row{})
		rows = append(rows, labelled("at", d.Address, cells, ink.Foam)...)
	}
	for _, f := range []struct{ name, value string }{{"platform", d.Platform}, {"site", d.Site}, {"role", d.Role}, {"login", orNone(d.Login, "login")}, {"pair", d.Pair}, {"via", d.Via}} {
		if f.value != "" {
			rows = append(rows, labelled(f.name, f.value, cells, ink.Foam)...)
		}
	}
	rows = append(rows, m.stages(e)...)
	return append(rows, m.outside(cells)...)
}

// stages lists how long each stage took.
func (m *Model) stages(e reach.Entry) []ink.Row {
	if e.Result == nil || len(e.Result.Passed) == 0 {
		return nil
	}
	rows := []ink.Row{{}, ink.Row{}.Strong(ink.Foam, "Stages")}
	for _, p := range e.Result.Passed {
		rows = append(rows, ink.T(ink.Buoy, "■ ").Add(ink.Foam, ink.Fit(p.Stage.String(), 12)).Add(ink.Dim, fmt.Sprintf("%7.0f ms", float64(p.Took.Microseconds())/1000)))
	}
	if f := e.Result.Failure; f != nil {
		shape, in := m.shape(e)
		rows = append(rows, ink.Row{}.Strong(in, shape+" "+f.Stage.String()))
	}
	return rows
}

// outside says who is left out, until something has been reached.
func (m *Model) outside(cells int) []ink.Row {
	if len(m.src.LeftOut) == 0 || !m.board.Began.IsZero() {
		return nil
	}
	rows := []ink.Row{{}, ink.Row{}.Strong(ink.Foam, "Left out")}
	for _, g := range scope.Groups(m.src.LeftOut) {
		for _, l := range watch.Wrap(list(g.Devices, 4)+": "+g.Why, cells, 3) {
			rows = append(rows, ink.T(ink.Dim, l))
		}
	}
	return rows
}

// newKeys is the question about host keys shown for the first time. Each is
// shown whole, since half a fingerprint proves nothing.
func (m *Model) newKeys(cells, height int) []ink.Row {
	fresh := m.fresh()
	rows := []ink.Row{ink.T(ink.Foam, " ").Strong(ink.Lamp, fmt.Sprintf("◆ %s shown for the first time", plural(m.countKeys(), "host key")))}
	for _, l := range watch.Wrap("Compare them with what the devices' own consoles say. A wrong one means that somebody stands between you and the device.", cells-2, 4) {
		rows = append(rows, ink.T(ink.Dim, " "+l))
	}
	rows = append(rows, ink.Row{})
	prints, devices := m.prints(fresh)
	room := max(height-len(rows)-5, 1)
	m.keysTop = max(min(m.keysTop, len(prints)-room), 0)
	for _, p := range prints[m.keysTop:min(m.keysTop+room, len(prints))] {
		rows = append(rows, ink.T(ink.Foam, " ").Add(ink.Foam, p).Add(ink.Dim, "  "+list(devices[p], 2)))
	}
	if len(prints) > room {
		rows = append(rows, ink.T(ink.Lamp, fmt.Sprintf(" %d to %d of %d; ↑↓ shows the others", m.keysTop+1, m.keysTop+room, len(prints))))
	}
	return append(rows, ink.Row{},
		ink.T(ink.Foam, " ").Strong(ink.Foam, "m").Add(ink.Foam, "    remember them and go on"),
		ink.T(ink.Foam, " ").Strong(ink.Foam, "1").Add(ink.Foam, "    accept them this once and go on"),
		ink.T(ink.Foam, " ").Strong(ink.Foam, "Esc").Add(ink.Foam, "  refuse: the devices stay unreached"))
}

// prints lists the new keys, each with the devices that wait for it: those behind
// a jump host may all wait for its key.
func (m *Model) prints(fresh []*reach.Result) (prints []string, devices map[string][]string) {
	devices = map[string][]string{}
	for _, r := range fresh {
		p, _ := m.src.Fingerprint(r)
		if devices[p] == nil {
			prints = append(prints, p)
		}
		devices[p] = append(devices[p], r.Device)
	}
	return prints, devices
}

// countKeys counts the new keys.
func (m *Model) countKeys() int {
	prints, _ := m.prints(m.fresh())
	return len(prints)
}
