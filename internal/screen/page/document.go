package page

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"metabasis/internal/document"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
)

// Document opens a document.
func Document(title string, d *document.Document) *Page {
	var rows []ink.Row
	cells := 0
	return Of(title, func(f screen.Frame) []ink.Row {
		if rows == nil || cells != f.Cells {
			rows, cells = documentRows(d, f.Cells-2), f.Cells
		}
		return rows
	})
}

// documentRows draws a document for a width.
func documentRows(d *document.Document, cells int) (out []ink.Row) {
	var before document.Block
	for _, b := range d.Blocks {
		if document.Apart(before, b) {
			out = append(out, ink.Row{})
		}
		before = b
		out = append(out, blockRows(b, cells)...)
	}
	return out
}

func blockRows(b document.Block, cells int) (out []ink.Row) {
	switch b := b.(type) {
	case document.Title:
		return []ink.Row{ink.T(ink.Foam, "").Strong(ink.Foam, string(b))}
	case document.Section:
		line := strings.Repeat("─", max(cells-ink.T(ink.Foam, string(b)).Width()-4, 0))
		return []ink.Row{ink.T(ink.Faint, "─ ").Strong(ink.Foam, string(b)).Add(ink.Faint, " "+line)}
	case document.Heading:
		return []ink.Row{ink.T(ink.Foam, "").Strong(ink.Foam, string(b))}
	case document.Text:
		return hanging("", "", string(b), cells)
	case document.Item:
		mark := "· "
		if b.Number > 0 {
			mark = fmt.Sprintf("%d. ", b.Number)
		}
		return hanging(mark, strings.Repeat(" ", len([]rune(mark))), b.Text, cells)
	case document.Table:
		return tableRows(b, cells)
	case document.Code:
		for _, l := range b {
			out = append(out, ink.T(ink.Foam, "  "+strings.ReplaceAll(l, "\t", "    ")))
		}
	}
	return out
}

// hanging is a text in as many rows as it needs: the first begins with a mark, the others
// below what stands behind it.
func hanging(mark, below, text string, cells int) (out []ink.Row) {
	for _, l := range wrapped(text, max(cells-len([]rune(mark)), 10)) {
		out = append(out, ink.T(ink.Dim, mark).Add(ink.Foam, l))
		mark = below
	}
	return out
}

// tableRows draws a table: each column as wide as what stands in it, as far as there is room;
// what finds none goes on in the row below.
func tableRows(t document.Table, cells int) (out []ink.Row) {
	rows, headed := t.All()
	wide := columnWidths(rows, cells)
	for n, r := range rows {
		i := ink.Foam
		if headed && n == 0 {
			i = ink.Dim
		}
		parts, high := make([][]string, len(wide)), 1
		for c := range wide {
			if c < len(r) {
				parts[c] = wrapped(r[c], wide[c])
				high = max(high, len(parts[c]))
			}
		}
		for k := range high {
			row := ink.Row{}
			for c := range wide {
				text := ""
				if k < len(parts[c]) {
					text = parts[c][k]
				}
				first := i
				if c == 0 && !headed { // a table without a head is names and what they are
					first = ink.Dim
				}
				row = row.Col(first, text, wide[c]).Add(ink.Foam, "  ")
			}
			out = append(out, row)
		}
	}
	return out
}

// wrapped is a text in lines of at most that many cells. No word is cut: one that is longer goes
// on in the next line.
func wrapped(text string, cells int) []string {
	return strings.Split(ansi.Wrap(ink.OneLine(text), cells, ""), "\n")
}

// columnWidths shares a width among columns: short ones get what they need, long ones the rest.
func columnWidths(rows [][]string, cells int) []int {
	var need []int
	for _, r := range rows {
		for c, text := range r {
			if c == len(need) {
				need = append(need, 1)
			}
			need[c] = max(need[c], ink.T(ink.Foam, text).Width())
		}
	}
	room := max(cells-2*len(need), 6*len(need))
	for {
		total := 0
		for _, n := range need {
			total += n
		}
		if total <= room {
			return need
		}
		long := 0
		for c := range need {
			if need[c] > need[long] {
				long = c
			}
		}
		second := 6
		for c := range need {
			if c != long && need[c] < need[long] {
				second = max(second, need[c])
			}
		}
		need[long] = max(need[long]-(total-room), min(second, need[long]-1), 1)
	}
}
