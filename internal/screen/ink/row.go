package ink

import (
	"fmt"
	"image/color"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

// Span is text in one ink.
type Span struct {
	Text string
	Ink  Ink
	Bold bool
	Mark bool // on the cursor's ground
	raw  bool // styled already
}

// cells is how many cells it takes.
func (s Span) cells() int {
	if s.raw {
		return ansi.StringWidth(s.Text)
	}
	return width(s.Text)
}

// Row is a row of the screen. It is drawn in one pass: a row knows its own
// ground.
type Row struct {
	Spans  []Span
	Marked bool // the cursor stands here
}

// T makes a row of one span.
func T(i Ink, text string) Row { return Row{Spans: []Span{{Text: OneLine(text), Ink: i}}} }

// OneLine is a text as it can stand in a row: what would break or move it is a blank. A path
// may hold the end of a line.
func OneLine(text string) string {
	for i := 0; i < len(text); i++ {
		if text[i] < ' ' || text[i] == 0x7f {
			return strings.Map(func(r rune) rune {
				if r < ' ' || r == 0x7f {
					return ' '
				}
				return r
			}, text)
		}
	}
	return text
}

// Add appends a span and returns the row.
func (r Row) Add(i Ink, text string) Row {
	r.Spans = append(r.Spans[:len(r.Spans):len(r.Spans)], Span{Text: OneLine(text), Ink: i})
	return r
}

// Strong appends a bold span and returns the row.
func (r Row) Strong(i Ink, text string) Row {
	r.Spans = append(r.Spans[:len(r.Spans):len(r.Spans)], Span{Text: OneLine(text), Ink: i, Bold: true})
	return r
}

// Width is the number of cells the row takes.
func (r Row) Width() int {
	n := 0
	for _, s := range r.Spans {
		n += s.cells()
	}
	return n
}

// Col appends text cut or filled to a number of cells.
func (r Row) Col(i Ink, text string, cells int) Row { return r.Add(i, Fit(text, cells)) }

// width counts the cells of text; nearly all of ours is one cell a rune.
func width(s string) int {
	for i := 0; i < len(s); i++ {
		if s[i] >= 0x80 {
			return ansi.StringWidth(s)
		}
	}
	return len(s)
}

// Fit cuts text to a number of cells, with an ellipsis, or fills it with
// spaces.
func Fit(s string, cells int) string {
	if cells <= 0 {
		return ""
	}
	w := width(s)
	if w > cells {
		s = ansi.Truncate(ShortPath(s, cells), cells, "…")
		w = width(s)
	}
	return s + strings.Repeat(" ", max(0, cells-w))
}

// ShortPath cuts the path of a node of data, /MODULE:NAME/…, in its midst where text with
// one is too long: what it is about stands at its end. Other text is left as it is.
func ShortPath(s string, cells int) string {
	at := strings.IndexByte(s, '/')
	if at < 0 || at > 0 && s[at-1] != ' ' {
		return s
	}
	name := strings.IndexAny(s[at+1:], "/: ")
	if name <= 0 || s[at+1+name] != ':' {
		return s
	}
	head := s[:at] + "/…"
	for i := at + 1; i < len(s); i++ { // the first name that lets the rest of the path fit
		if s[i] == '/' && width(head)+width(s[i:]) <= cells {
			return head + s[i:]
		}
		if strings.HasPrefix(s[i:], " = ") { // of a long value, its start
			last := strings.LastIndexByte(s[:i], '/')
			return head + s[max(last, at+1):]
		}
	}
	return s
}

// Right fills the row with spaces so that other ends at a number of cells.
func (r Row) Right(other Row, cells int) Row {
	gap := cells - r.Width() - other.Width()
	if gap < 1 {
		gap = 1
	}
	r = r.Add(Foam, strings.Repeat(" ", gap))
	r.Spans = append(r.Spans, other.Spans...)
	return r
}

// Then appends another row's spans.
func (r Row) Then(other Row) Row {
	r.Spans = append(r.Spans[:len(r.Spans):len(r.Spans)], other.Spans...)
	return r
}

// Painter draws rows in a theme. It keeps the control sequences it has made.
type Painter struct {
	Theme *Theme
	sgr   map[sgrKey]string
}

type sgrKey struct {
	ink          Ink
	bold, marked bool
}

// NewPainter makes a painter.
func NewPainter(t *Theme) *Painter { return &Painter{Theme: t, sgr: map[sgrKey]string{}} }

func (p *Painter) start(s Span, marked bool) string {
	k := sgrKey{s.Ink, s.Bold, marked}
	if out, ok := p.sgr[k]; ok {
		return out
	}
	ground := p.Theme.Ground
	if marked {
		ground = p.Theme.marked
	}
	out := "\x1b[0"
	if s.Bold {
		out += ";1"
	}
	out += rgb(38, p.Theme.inks[s.Ink]) + rgb(48, ground) + "m"
	p.sgr[k] = out
	return out
}

func rgb(what int, c color.Color) string {
	r, g, b, _ := c.RGBA()
	return fmt.Sprintf(";%d;2;%d;%d;%d", what, r>>8, g>>8, b>>8)
}

// Paint draws a row over exactly that many cells.
func (p *Painter) Paint(b *strings.Builder, r Row, cells int) {
	left := cells
	for _, s := range r.Spans {
		if left <= 0 {
			break
		}
		text := s.Text
		w := s.cells()
		if w > left {
			text = ansi.Truncate(text, left, "…")
			w = ansi.StringWidth(text)
		}
		b.WriteString(p.start(s, r.Marked || s.Mark))
		if s.raw { // what it leaves without an ink is on the ground all the same
			text = strings.ReplaceAll(text, "\x1b[m", p.start(Span{}, r.Marked || s.Mark))
		}
		b.WriteString(text)
		left -= w
	}
	if left > 0 {
		b.WriteString(p.start(Span{Ink: Foam}, r.Marked))
		b.WriteString(strings.Repeat(" ", left))
	}
}

// Page draws rows as a whole screen of that size.
func (p *Painter) Page(rows []Row, cells, height int) string {
	var b strings.Builder
	b.Grow(cells * height * 2)
	for i := range height {
		if i > 0 {
			b.WriteString("\x1b[0m\n")
		}
		var r Row
		if i < len(rows) {
			r = rows[i]
		}
		p.Paint(&b, r, cells)
	}
	b.WriteString("\x1b[0m")
	return b.String()
}

// Beside puts rows next to each other: left over some cells, then right. The
// cursor's ground stays in the left part.
func Beside(left []Row, cells int, right []Row) []Row {
	n := max(len(left), len(right))
	out := make([]Row, n)
	for i := range n {
		var l, r Row
		if i < len(left) {
			l = left[i]
		}
		if i < len(right) {
			r = right[i]
		}
		out[i] = joined(Cut(l, cells), r)
	}
	return out
}

// joined appends r to l and turns the ground of each into that of its spans.
func joined(l, r Row) Row {
	var out Row
	for _, part := range []Row{l, r} {
		for _, s := range part.Spans {
			s.Mark = s.Mark || part.Marked
			out.Spans = append(out.Spans, s)
		}
	}
	return out
}

// Cut makes a row exactly that many cells wide.
func Cut(r Row, cells int) Row {
	var out Row
	out.Marked = r.Marked
	left := cells
	for _, s := range r.Spans {
		w := s.cells()
		if w > left {
			s.Text = ansi.Truncate(s.Text, left, "…")
			w = ansi.StringWidth(s.Text)
		}
		out.Spans = append(out.Spans, s)
		if left -= w; left <= 0 {
			return out
		}
	}
	return out.Add(Foam, strings.Repeat(" ", left))
}

// Bar is a gauge of filled and empty cells.
func Bar(share float64, cells int) (filled, empty string) {
	n := int(share*float64(cells) + 0.5)
	n = min(max(n, 0), cells)
	if n == 0 && share > 0 {
		n = 1
	}
	return strings.Repeat("━", n), strings.Repeat("╌", cells-n)
}

// Short writes a time in minutes and seconds, or hours and minutes: 7:12, 1h32.
func Short(d time.Duration) string {
	if d < 0 {
		d = 0
	}
	d = d.Round(time.Second)
	if d >= time.Hour {
		return fmt.Sprintf("%dh%02d", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d:%02d", int(d.Minutes()), int(d.Seconds())%60)
}

// Long writes a time in words: 1 h 32 m, 4 m 10 s, 38 s.
func Long(d time.Duration) string {
	d = d.Round(time.Second)
	switch {
	case d < 0:
		return "0 s"
	case d >= time.Hour:
		return fmt.Sprintf("%d h %02d m", int(d.Hours()), int(d.Minutes())%60)
	case d >= time.Minute:
		return fmt.Sprintf("%d m %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d s", int(d.Seconds()))
}

// Raw makes a row of text that is styled already, as components draw it.
func Raw(text string) Row { return Row{Spans: []Span{{Text: text, raw: true}}} }

// Style is an ink on the ground, for components that draw themselves.
func (p *Painter) Style(i Ink) lipgloss.Style {
	return lipgloss.NewStyle().Foreground(p.Theme.inks[i]).Background(p.Theme.Ground)
}

// Clip cuts text to a number of cells, with an ellipsis.
func Clip(s string, cells int) string {
	if width(s) <= cells {
		return s
	}
	return ansi.Truncate(s, cells, "…")
}

// Text is what the row says, without its inks.
func (r Row) Text() string {
	var b strings.Builder
	for _, s := range r.Spans {
		if s.raw {
			s.Text = ansi.Strip(s.Text)
		}
		b.WriteString(s.Text)
	}
	return b.String()
}

// Wrap breaks text into lines of at most that many cells; the last of them is
// cut.
func Wrap(text string, cells, lines int) []string {
	var out []string
	line := ""
	for _, w := range strings.Fields(text) {
		switch {
		case line == "":
			line = w
		case len([]rune(line))+1+len([]rune(w)) <= cells:
			line += " " + w
		default:
			out = append(out, line)
			line = w
		}
	}
	if line != "" {
		out = append(out, line)
	}
	if len(out) > lines {
		out[lines-1] = Fit(strings.Join(out[lines-1:], " "), cells)
		out = out[:lines]
	}
	return out
}
