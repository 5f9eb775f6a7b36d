package roster

import (
	"fmt"
	"strings"

	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
)

// side is what stands beside the list: the device under the cursor.
func (v *View) side(cells, height int) []ink.Row {
	rows := v.device(cells)
	out := make([]ink.Row, 0, len(rows))
	for _, r := range rows[:min(len(rows), height)] {
		out = append(out, ink.T(ink.Foam, " ").Then(r))
	}
	return out
}

func labelled(name, text string, cells int, in ink.Ink) []ink.Row {
	var rows []ink.Row
	for i, l := range ink.Wrap(text, cells-11, 6) {
		if i > 0 {
			name = ""
		}
		rows = append(rows, ink.T(ink.Dim, ink.Fit(name, 11)).Add(in, l))
	}
	return rows
}

func (v *View) device(cells int) []ink.Row {
	i := v.current()
	if i < 0 {
		return nil
	}
	d, e := v.src.Devices[i], v.board.Entries[i]
	head := ink.Row{}.Strong(ink.Foam, d.Name)
	if d.ClearText {
		head = head.Strong(ink.Lamp, "  clear text")
	}
	rows := []ink.Row{head}
	if res := e.Result; res != nil {
		if f := res.Failure; f != nil {
			head, cause, remedy := ink.Row{}.Strong(ink.Port, "▲ not reached: "+f.Stage.Noun()), f.Cause, f.Remedy
			if f.Stage == reach.Identity {
				head = ink.Row{}.Strong(ink.Port, "▲ another device answers")
			}
			if v.isFresh(e) { // the whole fingerprint stands where it can be compared
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
			rows = append(rows, labelled("calls itself", other, cells, ink.Foam)...)
		}
		if f := res.Failure; res.Seen.Serial != "" && (f == nil || f.Stage != reach.Identity) { // else it is another's
			rows = append(rows, labelled("serial", res.Seen.Serial, cells, ink.Foam)...)
		}
		if res.OK() && res.Seen.Nothing() {
			rows = append(rows, labelled("who", "nothing on it tells who it is", cells, ink.Lamp)...)
		}
		for _, w := range res.Warnings {
			rows = append(rows, labelled("warning", w, cells, ink.Lamp)...)
		}
	} else {
		rows = append(rows, ink.Row{})
		rows = append(rows, labelled("at", d.Address, cells, ink.Foam)...)
	}
	for _, f := range []struct{ name, value string }{{"platform", d.Platform}, {"site", d.Site}, {"role", d.Role},
		{"login", orNone(d.Login, "login")}, {"pair", d.Pair}, {"via", d.Via}} {
		if f.value != "" {
			rows = append(rows, labelled(f.name, f.value, cells, ink.Foam)...)
		}
	}
	rows = append(rows, v.stages(e)...)
	return append(rows, v.outside(cells)...)
}

// stages lists how long each stage took.
func (v *View) stages(e reach.Entry) []ink.Row {
	if e.Result == nil || len(e.Result.Passed) == 0 {
		return nil
	}
	rows := []ink.Row{{}, ink.Row{}.Strong(ink.Foam, "Stages")}
	for _, p := range e.Result.Passed {
		rows = append(
			rows,
			ink.T(ink.Buoy, "■ ").
				Add(ink.Foam, ink.Fit(p.Stage.String(), 12)).
				Add(ink.Dim, fmt.Sprintf("%7.0f ms", float64(p.Took.Microseconds())/1000)),
		)
	}
	if f := e.Result.Failure; f != nil {
		shape, in := v.shape(e)
		rows = append(rows, ink.Row{}.Strong(in, shape+" "+f.Stage.String()))
	}
	return rows
}

// outside says what was met, and who is left out, until something has been reached.
func (v *View) outside(cells int) []ink.Row {
	if !v.board.Began.IsZero() {
		return nil
	}
	var rows []ink.Row
	for _, w := range v.src.Warnings {
		rows = append(append(rows, ink.Row{}), labelled("warning", w, cells, ink.Lamp)...)
	}
	if len(v.src.LeftOut) == 0 {
		return rows
	}
	rows = append(rows, ink.Row{}, ink.Row{}.Strong(ink.Foam, "Left out"))
	for _, g := range scope.Groups(v.src.LeftOut) {
		for _, l := range ink.Wrap(report.Some(g.Devices, 4)+": "+g.Why, cells, 3) {
			rows = append(rows, ink.T(ink.Dim, l))
		}
	}
	return rows
}
