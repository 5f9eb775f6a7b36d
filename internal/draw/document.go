package draw

import (
	"bytes"
	"fmt"
	"strings"

	"codeberg.org/go-pdf/fpdf"

	"metabasis/internal/core/plan"
)

// Document is a document in Markdown, as report.Document writes it, as a PDF, with the
// drawings of its plan at the end.
func Document(title string, lines []string, of *plan.Plan) ([]byte, error) {
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
	for i := 0; i < len(lines); i++ {
		i = w.write(lines, i)
	}
	f.SetAutoPageBreak(false, 0)
	pen := &pdf{Fpdf: f}
	Window(pen, of)
	Network(pen, of)
	var b bytes.Buffer
	err := f.Output(&b)
	return b.Bytes(), err
}

type writer struct {
	*fpdf.Fpdf
}

// write writes what begins at a line, and returns the last line that it took.
func (w *writer) write(lines []string, i int) int {
	l := lines[i]
	switch {
	case strings.HasPrefix(l, "# "):
		w.heading(plain(l[2:]), 17, 9)
	case strings.HasPrefix(l, "## "):
		w.Ln(3)
		w.heading(plain(l[3:]), 13, 7)
	case strings.HasPrefix(l, "### "):
		w.Ln(2)
		w.heading(plain(l[4:]), 10.5, 6)
	case strings.HasPrefix(l, "```"):
		return w.code(lines, i)
	case strings.HasPrefix(l, "| "):
		return w.table(lines, i)
	case l == "":
		w.Ln(1.6)
	default:
		w.SetFont("text", "", 9.5)
		w.SetTextColor(0, 0, 0)
		w.MultiCell(0, 4.6, plain(strings.Replace(l, "- ", "•  ", 1)), "", "L", false)
	}
	return i
}

func (w *writer) heading(text string, size, high float64) {
	if _, h := w.GetPageSize(); w.GetY() > h-18-high-14 {
		w.AddPage() // not alone at the foot of a page
	}
	w.SetFont("text", "B", size)
	w.SetTextColor(0, 0, 0)
	w.MultiCell(0, high, text, "", "L", false)
}

// code writes lines as they stand, on a ground of their own.
func (w *writer) code(lines []string, i int) int {
	fence := lines[i][:len(lines[i])-len(strings.TrimLeft(lines[i], "`"))]
	w.SetFont("mono", "", 8)
	w.SetTextColor(0, 0, 0)
	w.SetFillColor(244, 244, 244)
	for i++; i < len(lines) && lines[i] != fence; i++ {
		w.MultiCell(0, 3.9, strings.ReplaceAll(lines[i], "\t", "    "), "", "L", true)
	}
	return i
}

// table writes a table; its columns are as wide as what stands in them needs, and as the
// page has room for.
func (w *writer) table(lines []string, i int) int {
	var rows [][]string
	for ; i < len(lines) && strings.HasPrefix(lines[i], "|"); i++ {
		if !strings.HasPrefix(lines[i], "|--") {
			rows = append(rows, cells(lines[i]))
		}
	}
	const size = 8.5
	w.SetFont("text", "", size)
	page, _ := w.GetPageSize()
	wide := widths(rows, page-36, w.GetStringWidth)
	for n, r := range rows {
		w.SetFont("text", map[bool]string{true: "B"}[n == 0], size)
		high, parts := 1, make([][]string, len(r))
		for c, text := range r {
			parts[c] = w.SplitText(text, wide[c]-2)
			high = max(high, len(parts[c]))
		}
		if _, h := w.GetPageSize(); w.GetY()+float64(high)*4+2 > h-18 {
			w.AddPage()
		}
		x, y := w.GetXY()
		for c := range r {
			for k, part := range parts[c] {
				w.SetXY(x, y+float64(k)*4)
				w.CellFormat(wide[c], 4, part, "", 0, "L", false, 0, "")
			}
			x += wide[c]
		}
		w.SetXY(18, y+float64(high)*4+0.8)
		w.SetDrawColor(200, 200, 200)
		w.SetLineWidth(0.1)
		w.Fpdf.Line(18, w.GetY()-0.3, page-18, w.GetY()-0.3)
	}
	return i - 1
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

// cells takes a row of a Markdown table apart.
func cells(line string) (out []string) {
	line = strings.TrimSuffix(strings.TrimPrefix(line, "|"), "|")
	for _, c := range strings.Split(strings.ReplaceAll(line, `\|`, "\x00"), "|") {
		out = append(out, plain(strings.ReplaceAll(strings.TrimSpace(c), "\x00", "|")))
	}
	return out
}

// plain takes the signs of Markdown out of a text.
func plain(s string) string {
	return strings.NewReplacer(`\|`, "|", `\*`, "*", `\_`, "_", "&lt;", "<", `\#`, "#", `\[`, "[").Replace(s)
}
