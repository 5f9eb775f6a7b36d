package ink

import "fmt"

// Scroll cuts rows to a height around the row that must be seen, and says how many
// are above and below. It returns the first row shown, which the caller keeps, so
// that nothing jumps.
func Scroll(rows []Row, top, must, height int) ([]Row, int) {
	if len(rows) <= height || height < 3 {
		return rows[:max(min(len(rows), height), 0)], 0
	}
	if must >= 0 {
		if must < top+1 {
			top = must - 1
		}
		if must > top+height-2 {
			top = must - height + 2
		}
	}
	top = min(max(top, 0), len(rows)-height)
	out := append([]Row(nil), rows[top:top+height]...)
	if top > 0 {
		out[0] = T(Dim, fmt.Sprintf("↑ %d more", top+1))
	}
	if left := len(rows) - top - height; left > 0 {
		out[height-1] = T(Dim, fmt.Sprintf("↓ %d more", left+1))
	}
	return out, top
}

// LastMarked finds the last marked row, -1 when there is none.
func LastMarked(rows []Row) int {
	for i := len(rows) - 1; i >= 0; i-- {
		if rows[i].Marked {
			return i
		}
	}
	return -1
}
