package draw

import (
	"bytes"
	"fmt"
	"strings"

	"codeberg.org/go-pdf/fpdf"

	"metabasis/internal/core/plan"
	"metabasis/internal/document"
	"metabasis/internal/report"
)

// Document is a document as a PDF, with the drawings of its plan at the end.
func Document(title string, d *document.Document, of *plan.Plan) ([]byte, error) {
	return written(title, d, false, func(p Pen) { Window(p, of); Network(p, of) })
}

// Report is the report of a night as a PDF to be read on paper: contents, page numbers, and
// its drawings at the end.
func Report(m *report.Morning) ([]byte, error) {
	return written(
		fmt.Sprintf("%s, night %d", m.Title, m.Night),
		report.MorningDocument(m),
		true,
		func(p Pen) { Timeline(p, m); Charts(p, m) },
	)
}

// Errand is the list of what is to be seen to on site as a PDF to be taken along.
func Errand(m *report.Morning, d *document.Document) ([]byte, error) {
	return written(fmt.Sprintf("On site, after night %d", m.Night), d, false, func(Pen) {})
}

// Readiness is who is ready for other software, as a PDF.
func Readiness(title string, d *document.Document) ([]byte, error) {
	return written("Ready for other software: "+title, d, false, func(Pen) {})
}

// written sets a document, with drawings at its end.
func written(title string, d *document.Document, contents bool, drawings func(Pen)) ([]byte, error) {
	f := Pages(title)
	f.SetMargins(18, 18, 18)
	f.SetAutoPageBreak(true, 18)
	f.SetFooterFunc(func() {
		f.SetY(-12)
		f.SetFont("text", "", 8)
		f.SetTextColor(90, 90, 90)
		f.CellFormat(0, 5, title+fmt.Sprintf("  ·  page %d", f.PageNo()), "", 0, "C", false, 0, "")
	})
	f.AddPage()
	w := writer{Fpdf: f}
	var before document.Block
	for _, b := range d.Blocks {
		if _, begins := b.(document.Section); begins && contents && w.parts == nil { // behind the head
			w.contents(d)
		}
		if document.Apart(before, b) {
			w.Ln(1.6)
		}
		w.write(b)
		before = b
	}
	f.SetAutoPageBreak(false, 0)
	if contents {
		f.Bookmark("Drawings", 0, -1)
	}
	drawings(&pdf{Fpdf: f})
	var b bytes.Buffer
	err := f.Output(&b)
	return b.Bytes(), err
}

type writer struct {
	*fpdf.Fpdf
	parts []int // the links of the parts that are still to come, where there are contents
	part  int   // of the newest
}

// contents writes which part begins on which page. The numbers are filled in as the parts
// come.
func (w *writer) contents(d *document.Document) {
	w.Ln(3)
	w.heading("Contents", 13, 8)
	for _, b := range d.Blocks {
		title, is := b.(document.Section)
		if !is {
			continue
		}
		link := w.AddLink()
		w.parts = append(w.parts, link)
		w.SetFont("text", "", 10)
		w.SetTextColor(0, 0, 0)
		w.CellFormat(120, 5.6, string(title), "", 0, "L", false, link, "")
		w.CellFormat(0, 5.6, pageAlias(len(w.parts)), "", 1, "L", false, link, "")
	}
	w.Ln(6)
}

// pageAlias stands for the page of a part until that is known.
func pageAlias(part int) string { return fmt.Sprintf("{p%d}", part) }

// begins takes note of the page on which a part begins.
func (w *writer) begins(title string) {
	if w.parts == nil {
		return
	}
	w.SetLink(w.parts[w.part], w.GetY(), -1)
	w.part++
	w.RegisterAlias(pageAlias(w.part), fmt.Sprint(w.PageNo()))
	w.Bookmark(title, 0, -1)
}

// write writes a part.
func (w *writer) write(b document.Block) {
	switch b := b.(type) {
	case document.Title:
		w.heading(string(b), 17, 9)
	case document.Section:
		w.Ln(3)
		w.keepWith(7)
		w.begins(string(b))
		w.heading(string(b), 13, 7)
	case document.Heading:
		w.Ln(2)
		w.heading(string(b), 10.5, 6)
	case document.Text:
		w.text(string(b))
	case document.Item:
		mark := "•  "
		if b.Number > 0 {
			mark = fmt.Sprintf("%d.  ", b.Number)
		}
		w.text(mark + b.Text)
	case document.Table:
		w.table(b.All())
	case document.Code:
		w.code(b)
	}
}

func (w *writer) text(text string) {
	w.SetFont("text", "", 9.5)
	w.SetTextColor(0, 0, 0)
	w.MultiCell(0, 4.6, text, "", "L", false)
}

func (w *writer) heading(text string, size, high float64) {
	w.keepWith(high)
	w.SetFont("text", "B", size)
	w.SetTextColor(0, 0, 0)
	w.MultiCell(0, high, text, "", "L", false)
}

// keepWith begins a page where a heading of that height would stand alone at the foot of one.
func (w *writer) keepWith(high float64) {
	if _, h := w.GetPageSize(); w.GetY() > h-18-high-14 {
		w.AddPage()
	}
}

// code writes lines as they stand, on a ground of their own.
func (w *writer) code(lines []string) {
	w.SetFont("mono", "", 8)
	w.SetTextColor(0, 0, 0)
	w.SetFillColor(244, 244, 244)
	for _, l := range lines {
		w.MultiCell(0, 3.9, strings.ReplaceAll(l, "\t", "    "), "", "L", true)
	}
}

// table writes a table; its columns are as wide as what stands in them needs, and as the
// page has room for.
func (w *writer) table(rows [][]string, headed bool) {
	if len(rows) == 0 {
		return
	}
	const size = 8.5
	w.SetFont("text", "", size)
	page, _ := w.GetPageSize()
	wide := widths(rows, page-36, w.GetStringWidth)
	for n, r := range rows {
		head := headed && n == 0
		if w.row(r, wide, head, size) {
			continue
		}
		w.AddPage()
		if headed && n > 0 { // its head stands again on the next page
			w.row(rows[0], wide, true, size)
		}
		w.row(r, wide, head, size)
	}
}

// row writes a row of a table; it is false, and writes nothing, where the page has no room
// for it. A row that no page has room for is cut at the foot of one.
func (w *writer) row(r []string, wide []float64, head bool, size float64) bool {
	w.SetFont("text", map[bool]string{true: "B"}[head], size)
	w.SetTextColor(0, 0, 0)
	high, parts := 1, make([][]string, len(r))
	for c, text := range r {
		if c >= len(wide) {
			break
		}
		parts[c] = []string{text}
		if w.GetStringWidth(text) > wide[c]-2 {
			parts[c] = w.SplitText(text, wide[c]-2)
		}
		high = max(high, len(parts[c]))
	}
	page, pageHigh := w.GetPageSize()
	const top = 18
	if most := int((pageHigh - 2*top - 12) / 4); high > most {
		high = most
		for c := range parts {
			if len(parts[c]) > most {
				parts[c][most-1] = "… cut here: there is more than a page of it"
			}
		}
	}
	if w.GetY()+float64(high)*4+2 > pageHigh-top {
		return false
	}
	x, y := w.GetXY()
	for c := range parts {
		for k, part := range parts[c][:min(len(parts[c]), high)] {
			w.SetXY(x, y+float64(k)*4)
			w.CellFormat(wide[c], 4, part, "", 0, "L", false, 0, "")
		}
		if c < len(wide) {
			x += wide[c]
		}
	}
	w.SetXY(top, y+float64(high)*4+0.8)
	w.SetDrawColor(200, 200, 200)
	w.SetLineWidth(0.1)
	w.Fpdf.Line(top, w.GetY()-0.3, page-top, w.GetY()-0.3)
	return true
}

// widths shares a width among columns: short ones get what they need, long ones the rest.
func widths(rows [][]string, all float64, measure func(string) float64) []float64 {
	need := make([]float64, len(rows[0]))
	for _, r := range rows {
		for c, text := range r {
			if c < len(need) {
				need[c] = max(need[c], 1.12*measure(text)+4) // heads are bold
			}
		}
	}
	total, share := 0.0, all/float64(len(need))
	for _, n := range need {
		total += n
	}
	if total <= all {
		return need
	}
	rest, long := all, 0.0
	for _, n := range need {
		if n <= share {
			rest -= n
		} else {
			long += n
		}
	}
	for c, n := range need {
		if n > share {
			need[c] = rest * n / long
		}
	}
	return need
}
