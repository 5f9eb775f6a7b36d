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
	rows := append(
		[]Row{
			T(Foam, fmt.Sprintf("This window is too small: make it at least %d×%d.", LeastCells, LeastRows)),
			T(Dim, "Keys do nothing until then."),
		},
		must...)
	return p.Page(rows, cells, height), true
}
