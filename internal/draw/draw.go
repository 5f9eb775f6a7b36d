// Package draw draws a plan for a change record: when its batches run in the window, and
// the network of its devices, as SVG or PDF. What is drawn is readable in grey, and says
// in words what its shapes mean.
package draw

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/goregular"
)

// Pen draws on pages. Lengths are millimetres from the upper left corner; grey is from 0,
// black, to 255.
type Pen interface {
	// Page begins a page of that size.
	Page(width, height float64)
	Rect(x, y, w, h float64, fill, line int) // none for -1
	Line(x1, y1, x2, y2, thick float64, grey int, dashed bool)
	// Text writes a line that begins at x and stands on y.
	Text(x, y, size float64, bold bool, grey int, text string)
	// Width is how wide a text is.
	Width(size float64, bold bool, text string) float64
	// Bytes is the finished drawing.
	Bytes() ([]byte, error)
}

// none draws nothing.
const none = -1

// PDF draws on the pages of a PDF, with fonts that it brings along.
func PDF(title string) Pen { return &pdf{Fpdf: Pages(title)} }

// Pages is an empty PDF with the fonts of the drawings: text, bold and mono.
func Pages(title string) *fpdf.Fpdf {
	f := fpdf.New("P", "mm", "A4", "")
	f.SetTitle(title, true)
	f.SetCreator("Metabasis", true)
	f.SetAutoPageBreak(false, 0)
	f.AddUTF8FontFromBytes("text", "", goregular.TTF)
	f.AddUTF8FontFromBytes("text", "B", gobold.TTF)
	f.AddUTF8FontFromBytes("mono", "", gomono.TTF)
	return f
}

type pdf struct{ *fpdf.Fpdf }

func (p *pdf) Page(w, h float64) { p.AddPageFormat("P", fpdf.SizeType{Wd: w, Ht: h}) }

func (p *pdf) Rect(x, y, w, h float64, fill, line int) {
	style := ""
	if fill != none {
		p.SetFillColor(fill, fill, fill)
		style += "F"
	}
	if line != none {
		p.SetDrawColor(line, line, line)
		p.SetLineWidth(0.2)
		style += "D"
	}
	p.Fpdf.Rect(x, y, w, h, style)
}

func (p *pdf) Line(x1, y1, x2, y2, thick float64, grey int, dashed bool) {
	p.SetDrawColor(grey, grey, grey)
	p.SetLineWidth(thick)
	if dashed {
		p.SetDashPattern([]float64{1, 1}, 0)
		defer p.SetDashPattern(nil, 0)
	}
	p.Fpdf.Line(x1, y1, x2, y2)
}

func (p *pdf) font(size float64, bold bool) {
	style := ""
	if bold {
		style = "B"
	}
	p.SetFont("text", style, size/0.3528)
}

func (p *pdf) Text(x, y, size float64, bold bool, grey int, text string) {
	p.font(size, bold)
	p.SetTextColor(grey, grey, grey)
	p.Fpdf.Text(x, y, text)
}

func (p *pdf) Width(size float64, bold bool, text string) float64 {
	p.font(size, bold)
	return p.GetStringWidth(text)
}

func (p *pdf) Bytes() ([]byte, error) {
	var b bytes.Buffer
	err := p.Output(&b)
	return b.Bytes(), err
}

// SVG draws one SVG; its pages stand one below the other. Text is text, in a font that is
// everywhere.
func SVG(title string) Pen { return &svg{title: title, measure: PDF("")} }

type svg struct {
	title         string
	measure       Pen // widths are those of a font much like the one that will be there
	body          strings.Builder
	width, height float64 // of all pages so far
	top           float64 // of the newest
}

func (s *svg) Page(w, h float64) {
	s.top = s.height
	s.height += h
	s.width = max(s.width, w)
}

func grey(n int) string {
	if n == none {
		return "none"
	}
	return fmt.Sprintf("#%02x%02x%02x", n, n, n)
}

func (s *svg) Rect(x, y, w, h float64, fill, line int) {
	fmt.Fprintf(
		&s.body,
		`<rect x="%.2f" y="%.2f" width="%.2f" height="%.2f" fill="%s" stroke="%s" stroke-width="0.2"/>`+"\n",
		x,
		s.top+y,
		max(w, 0),
		max(h, 0),
		grey(fill),
		grey(line),
	)
}

func (s *svg) Line(x1, y1, x2, y2, thick float64, g int, dashed bool) {
	dash := ""
	if dashed {
		dash = ` stroke-dasharray="1 1"`
	}
	fmt.Fprintf(
		&s.body,
		`<line x1="%.2f" y1="%.2f" x2="%.2f" y2="%.2f" stroke="%s" stroke-width="%.2f"%s/>`+"\n",
		x1,
		s.top+y1,
		x2,
		s.top+y2,
		grey(g),
		thick,
		dash,
	)
}

func (s *svg) Text(x, y, size float64, bold bool, g int, text string) {
	weight := ""
	if bold {
		weight = ` font-weight="bold"`
	}
	var b bytes.Buffer
	_ = xml.EscapeText(&b, []byte(text)) // a buffer takes all
	fmt.Fprintf(&s.body, `<text x="%.2f" y="%.2f" font-size="%.2f" fill="%s"%s>%s</text>`+"\n", x, s.top+y, size, grey(g), weight, b.String())
}

func (s *svg) Width(size float64, bold bool, text string) float64 {
	return 1.17 * s.measure.Width(size, bold, text) // the widest of those that may be there
}

func (s *svg) Bytes() ([]byte, error) {
	var title bytes.Buffer
	_ = xml.EscapeText(&title, []byte(s.title))
	return fmt.Appendf(nil, `<?xml version="1.0" encoding="UTF-8"?>
<svg xmlns="http://www.w3.org/2000/svg" width="%.0fmm" height="%.0fmm" viewBox="0 0 %.2f %.2f"
  font-family="Go, DejaVu Sans, Verdana, Arial, sans-serif">
<title>%s</title>
<rect width="100%%" height="100%%" fill="#ffffff"/>
%s</svg>
`, s.width, s.height, s.width, s.height, title.String(), s.body.String()), nil
}
