package compare

import (
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/core/config"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/list"
)

// Two are two configurations that are compared.
type Two struct {
	A, B string
	Tree []config.Shown // secrets masked
	// TextA and TextB are the configurations as they are printed, secrets masked.
	TextA, TextB string
	// Notes are what else is different, such as in tables.
	Notes []string
}

// How two configurations are shown.
const (
	asTree = iota
	beside
	asLines
	manners
)

var mannerNames = [...]string{"as a tree", "side by side", "as lines"}

// Tree is the view of the difference of two configurations.
type Tree struct {
	two    Two
	host   *screen.Host
	manner int
	whole  bool         // what is the same is shown, too
	shut   map[int]bool // sections that are folded by the person, by their line
	open   map[int]bool // and unfolded
	rows   []treeRow
	list   list.List
	top    int
}

// treeRow is a line of the tree, or what stands for lines that are the same.
type treeRow struct {
	at   int // of the line; -1 for none
	same int // lines that are not shown
	text string
	mark byte
}

// NewTree makes the view.
func NewTree(two Two) *Tree {
	v := &Tree{two: two, shut: map[int]bool{}, open: map[int]bool{}}
	v.list = list.List{Len: func() int { return len(v.rows) }, Text: func(i int) string { return v.rows[i].text }, Draw: v.draw}
	v.lay()
	v.list.Cursor = max(slices.IndexFunc(v.rows, treeRow.differs), 0)
	return v
}

func (r treeRow) differs() bool { return r.mark == '-' || r.mark == '+' }

// lay lays out the rows for how it is shown.
func (v *Tree) lay() {
	v.rows = v.rows[:0]
	if v.manner == asLines {
		text := config.Unified(v.two.A, v.two.B, v.two.TextA, v.two.TextB)
		if v.whole {
			text = config.UnifiedAll(v.two.A, v.two.B, v.two.TextA, v.two.TextB)
		}
		for l := range strings.Lines(text) {
			l = strings.TrimRight(l, "\n")
			r := treeRow{at: -1, text: l, mark: ' '}
			if len(l) > 0 && !strings.HasPrefix(l, "---") && !strings.HasPrefix(l, "+++") {
				r.mark = l[0]
			}
			v.rows = append(v.rows, r)
		}
		return
	}
	same := 0
	flush := func(depth int) {
		if same > 0 {
			v.rows = append(
				v.rows,
				treeRow{at: -1, same: same, mark: ' ', text: strings.Repeat("  ", depth) + "… " + report.Count(same, "line") + " the same"},
			)
		}
		same = 0
	}
	for i := 0; i < len(v.two.Tree); i++ {
		l := v.two.Tree[i]
		if l.Mark == ' ' && l.Differ == 0 && !v.whole && !v.open[i] {
			same += 1 + l.Below
			i += l.Below
			if i+1 >= len(v.two.Tree) || v.two.Tree[i+1].Depth != l.Depth {
				flush(l.Depth)
			}
			continue
		}
		flush(l.Depth)
		r := treeRow{at: i, mark: l.Mark, text: strings.Repeat("  ", l.Depth) + l.Text}
		if v.shut[i] && l.Below > 0 {
			r.text += fmt.Sprintf("  … %d below, %d different", l.Below, l.Differ)
			i += l.Below
		}
		v.rows = append(v.rows, r)
	}
	flush(0)
}

// Name implements [screen.View].
func (v *Tree) Name() string { return "Compared" }

// Opened implements [screen.Opener].
func (v *Tree) Opened(h *screen.Host) { v.host = h }

// Rows implements [screen.View].
func (v *Tree) Rows(f screen.Frame) []ink.Row {
	minus, plus := 0, 0
	for _, l := range v.two.Tree {
		switch l.Mark {
		case '-':
			minus++
		case '+':
			plus++
		}
	}
	sum := ink.T(ink.Buoy, "● equal")
	if minus+plus > 0 {
		sum = ink.T(ink.Heather, fmt.Sprintf("- %s", report.Count(minus, "line"))).
			Add(ink.Foam, "   ").
			Add(ink.Buoy, fmt.Sprintf("+ %s", report.Count(plus, "line")))
	}
	rows := []ink.Row{
		ink.T(ink.Heather, " - ").Add(ink.Foam, v.two.A),
		ink.T(ink.Buoy, " + ").Add(ink.Foam, v.two.B),
		ink.T(ink.Foam, " ").Then(sum).Add(ink.Dim, "   "+mannerNames[v.manner]),
	}
	for _, n := range v.two.Notes {
		rows = append(rows, ink.T(ink.Lamp, " ▪ "+n))
		if len(rows) > f.Height/3 {
			break
		}
	}
	rows = append(rows, ink.Row{})
	v.top = len(rows)
	return append(rows, v.list.Rows(f.Cells, f.Height-len(rows))...)
}

func (v *Tree) draw(i int, here bool, cells int) ink.Row {
	r := v.rows[i]
	in := ink.Dim
	switch r.mark {
	case '-':
		in = ink.Heather
	case '+':
		in = ink.Buoy
	case '@':
		in = ink.Tide
	default:
		if r.at >= 0 && v.two.Tree[r.at].Differ > 0 {
			in = ink.Foam
		}
	}
	begin := " "
	if here {
		begin = "▌"
	}
	out := ink.T(ink.Lamp, begin)
	switch {
	case v.manner == asLines:
		out = out.Add(in, r.text)
	case v.manner == beside && r.same == 0:
		half := (cells - 5) / 2
		left, right := r.text, r.text
		switch r.mark {
		case '-':
			right = ""
		case '+':
			left = ""
		}
		out = out.Col(in, left, half).Add(in, " "+string(r.mark)+" ").Add(in, ink.Clip(ink.ShortPath(right, half), half))
	default:
		out = out.Add(in, string(r.mark)+" "+r.text)
	}
	return ink.Cut(out, cells)
}

// Keys implements [screen.View].
func (v *Tree) Keys() []screen.Key {
	out := []screen.Key{
		screen.On(keys.Need, "next difference", v.next),
		screen.On(keys.Differs, mannerNames[(v.manner+1)%manners], func() { v.manner = (v.manner + 1) % manners; v.again() }),
	}
	fold := "show all"
	if v.whole {
		fold = "fold the same"
	}
	out = append(out, screen.On(keys.Fold, fold, func() { v.whole = !v.whole; v.again() }))
	if v.manner != asLines {
		out = append(out, screen.On(keys.Open, "fold section", v.fold))
	}
	return append(out, v.list.Keys(v.host, "line")...)
}

// again lays out the rows anew; the cursor stays on its line.
func (v *Tree) again() {
	at := -1
	if v.list.Cursor < len(v.rows) {
		at = v.rows[v.list.Cursor].at
	}
	v.lay()
	for i, r := range v.rows {
		if at >= 0 && r.at == at {
			v.list.Cursor = i
			return
		}
	}
	v.list.Cursor = max(slices.IndexFunc(v.rows, treeRow.differs), 0)
}

// fold folds the section under the cursor, or unfolds it.
func (v *Tree) fold() {
	if v.list.Cursor >= len(v.rows) {
		return
	}
	at := v.rows[v.list.Cursor].at
	if at < 0 || v.two.Tree[at].Below == 0 {
		v.host.Say("no section begins here")
		return
	}
	v.shut[at] = !v.shut[at]
	v.again()
}

// next goes to the next difference that does not stand right below this one.
func (v *Tree) next() {
	n := len(v.rows)
	i := v.list.Cursor
	for i < n && v.rows[i].differs() {
		i++
	}
	for k := range n {
		if at := (i + k) % n; v.rows[at].differs() {
			if at < v.list.Cursor {
				v.host.Say("from the top again")
			}
			v.list.To(at)
			return
		}
	}
	v.host.Say("nothing is different")
}

// Click implements [screen.Pointed].
func (v *Tree) Click(_, y int) { v.list.Click(y - v.top) }

// Wheel implements [screen.Pointed].
func (v *Tree) Wheel(rows int) { v.list.Wheel(rows) }
