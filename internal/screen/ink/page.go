package ink

import "fmt"

// Bounds below which a view says so instead of drawing badly.
const (
	LeastCells = 60
	LeastRows  = 16
	// SideBySide is from where on a panel stands beside a list.
	SideBySide = 132
)

// ForTheme makes the painter of a theme: dark, light, or auto, which is dark
// until the terminal has told its ground.
func ForTheme(theme string) (p *Painter, auto bool) {
	if theme == "light" {
		return NewPainter(&Light), false
	}
	return NewPainter(&Dark), theme == "auto" || theme == ""
}

// TooSmall is the page of a window that is too small for a view, with what must
// be seen all the same; ok is false when it is not.
func (p *Painter) TooSmall(cells, height int, must ...Row) (page string, ok bool) {
	if cells >= LeastCells && height >= LeastRows {
		return "", false
	}
	rows := append([]Row{T(Foam, fmt.Sprintf("This window is too small: make it at least %d×%d.", LeastCells, LeastRows)), T(Dim, "Keys do nothing until then.")}, must...)
	return p.Page(rows, cells, height), true
}

// Key is a key and what it does.
type Key struct{ Name, Does string }

// K makes a key.
func K(name, does string) Key { return Key{Name: name, Does: does} }

// Keys is the line of the keys that do something now. Where there is little room,
// they stand closer. The last one, which leaves, always has room; those before it
// are left away from the end where there is none.
func Keys(keys []Key, cells int) Row {
	for len(keys) > 2 {
		for _, gap := range []string{"   ", "  "} {
			if r := keyRow(keys, gap); r.Width() <= cells {
				return r
			}
		}
		keys = append(append([]Key(nil), keys[:len(keys)-2]...), keys[len(keys)-1])
	}
	return keyRow(keys, "  ")
}

func keyRow(keys []Key, gap string) Row {
	r := T(Foam, " ")
	for i, k := range keys {
		if i > 0 {
			r = r.Add(Dim, gap)
		}
		r = r.Strong(Foam, k.Name).Add(Dim, " "+k.Does)
	}
	return r
}
