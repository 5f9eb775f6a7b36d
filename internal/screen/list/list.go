// Package list is a list with a cursor: its keys, finding, the mouse, and which rows
// are in sight. Only those are drawn, so that 5,000 devices cost no more than 50.
package list

import (
	"fmt"
	"strings"

	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
)

// List is a list of rows. Its functions tell what is in it; they are called for every
// frame, for the rows in sight.
type List struct {
	// Len is the number of rows.
	Len func() int
	// Pick tells whether the cursor may stand on a row; nil lets it stand on any.
	Pick func(i int) bool
	// Text is what finding looks in; nil finds nothing.
	Text func(i int) string
	// Draw draws a row; here tells that the cursor stands on it.
	Draw func(i int, here bool, cells int) ink.Row
	// Moved is told when the cursor was moved; nil for nobody.
	Moved func()

	// Cursor is the row of the cursor.
	Cursor int

	top    int
	height int // as it was drawn last
	query  string
	from   int // where the cursor was when finding began
}

func (l *List) can(i int) bool {
	return i >= 0 && i < l.Len() && (l.Pick == nil || l.Pick(i))
}

// Move moves the cursor by so many rows, past those it may not stand on, as far as
// there are any.
func (l *List) Move(by int) {
	step := 1
	if by < 0 {
		step = -1
	}
	at := l.Cursor
	for left := by * step; left > 0; left-- {
		next := at + step
		for next >= 0 && next < l.Len() && !l.can(next) {
			next += step
		}
		if !l.can(next) {
			break
		}
		at = next
	}
	l.To(at)
}

// To moves the cursor to a row, or to the nearest after it, else before it, on which it
// may stand.
func (l *List) To(i int) {
	if at := l.near(i); at >= 0 {
		l.moved(at)
		return
	}
	l.Cursor = 0
}

// near is the row nearest to one on which the cursor may stand; -1 for none.
func (l *List) near(i int) int {
	i = min(max(i, 0), max(l.Len()-1, 0))
	for at := i; at < l.Len(); at++ {
		if l.can(at) {
			return at
		}
	}
	for at := i; at >= 0; at-- {
		if l.can(at) {
			return at
		}
	}
	return -1
}

func (l *List) moved(at int) {
	l.Cursor = at
	if l.Moved != nil {
		l.Moved()
	}
}

// page is how many rows a page has.
func (l *List) page() int { return max(l.height-1, 1) }

// Moves are the keys that move the cursor.
func (l *List) Moves(what string) []screen.Key {
	return []screen.Key{
		screen.On(keys.Up, "", func() { l.Move(-1) }),
		named(keys.Down, what, func() { l.Move(1) }),
		screen.On(keys.PageUp, "", func() { l.Move(-l.page()) }),
		screen.On(keys.PageDown, "", func() { l.Move(l.page()) }),
		screen.On(keys.HalfUp, "", func() { l.Move(-l.page() / 2) }),
		screen.On(keys.HalfDown, "", func() { l.Move(l.page() / 2) }),
		screen.On(keys.First, "", func() { l.To(0) }),
		screen.On(keys.Last, "", func() { l.To(l.Len() - 1) }),
	}
}

// Keys are the keys that move the cursor, and those that find a text.
func (l *List) Keys(h *screen.Host, what string) []screen.Key {
	return append(append(l.Moves(what), screen.On(keys.Find, "find", func() { l.Find(h, what) })), l.More(h)...)
}

// More are the keys that go on to the next row that has what was found.
func (l *List) More(h *screen.Host) []screen.Key {
	if l.query == "" {
		return nil
	}
	return []screen.Key{screen.On(keys.Next, "next", func() { l.next(h, 1) }), screen.On(keys.Previous, "", func() { l.next(h, -1) })}
}

func named(b screen.Binding, does string, do func()) screen.Key {
	k := screen.On(b, does, do)
	k.Binding.SetHelp("↑↓", b.Help().Desc)
	return k
}

// Find lets a text be typed and goes to the first row that has it, as it is typed.
func (l *List) Find(h *screen.Host, what string) {
	l.from = l.Cursor
	h.Type(screen.Line{Label: "find " + what, Hint: "↓ next   Enter stays   Esc back",
		Each: func(text string) {
			l.query = text
			if text != "" && !l.seek(l.from, 1) {
				h.Say("nothing here has " + text)
			}
		},
		Done: func(text string) error { l.query = text; return nil },
		Left: func() { l.query = ""; l.To(l.from) },
		Key: func(name string) {
			switch name {
			case "down", "tab":
				l.next(h, 1)
			case "up", "shift+tab":
				l.next(h, -1)
			}
		}})
}

func (l *List) next(h *screen.Host, dir int) {
	if !l.seek(l.Cursor+dir, dir) {
		h.Say("nothing here has " + l.query)
	}
}

// seek goes to the first row with the text from i on, round the end.
func (l *List) seek(i, dir int) bool {
	n := l.Len()
	if n == 0 || l.Text == nil {
		return false
	}
	for k := range n {
		at := ((i+dir*k)%n + n) % n
		if l.can(at) && strings.Contains(strings.ToLower(l.Text(at)), strings.ToLower(l.query)) {
			l.moved(at)
			return true
		}
	}
	return false
}

// Rows draws the rows in sight. Nothing jumps: what is in sight changes only when the
// cursor would leave it.
func (l *List) Rows(cells, height int) []ink.Row {
	l.height = height
	n := l.Len()
	if height <= 0 {
		return nil
	}
	if !l.can(l.Cursor) {
		l.Cursor = max(l.near(l.Cursor), 0)
	}
	above := 1 // a row that says how many are above, or a heading
	if l.Cursor < l.top+above {
		l.top = max(l.Cursor-above, 0)
	}
	if l.Cursor > l.top+height-2 && l.top+height < n {
		l.top = l.Cursor - height + 2
	}
	l.top = max(min(l.top, n-height), 0)
	end := min(l.top+height, n)
	out := make([]ink.Row, 0, height)
	for i := l.top; i < end; i++ {
		switch {
		case i == l.top && l.top > 0 && i != l.Cursor:
			out = append(out, ink.T(ink.Dim, fmt.Sprintf(" ↑ %d more", l.top+1)))
		case i == end-1 && end < n && i != l.Cursor:
			out = append(out, ink.T(ink.Dim, fmt.Sprintf(" ↓ %d more", n-end+1)))
		default:
			r := l.Draw(i, i == l.Cursor, cells)
			r.Marked = r.Marked || i == l.Cursor
			out = append(out, r)
		}
	}
	return out
}

// At is the row that is drawn at a height; -1 for none.
func (l *List) At(y int) int {
	if i := l.top + y; y >= 0 && y < l.height && i < l.Len() {
		return i
	}
	return -1
}

// Click moves the cursor to the row that is drawn at a height.
func (l *List) Click(y int) {
	if i := l.At(y); l.can(i) {
		l.moved(i)
	}
}

// Wheel moves the cursor.
func (l *List) Wheel(rows int) { l.Move(rows) }
