package draw

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/document"
	"metabasis/internal/report"
)

const book = `runbook "Gates & <clocks>"
  change    MSF-2291
  window    01:30 for 2h
  reserve   20m

scope
  true

batches
  sizes     1, 25%
  per site  2

timer       5m

step "Log host"
  send
    | log host 192.0.2.1
  undo
    | drop log host 192.0.2.1
`

var now = time.Date(2026, 12, 1, 20, 0, 0, 0, time.UTC)

func planned(t require.TestingT, text, csv string) *plan.Plan {
	traits := map[string]plan.Traits{"tern": {Timer: plan.RestartTimer, Saves: true, TellsSaved: true, Restores: true, Command: time.Second}}
	f, err := fleet.Read("fleet.csv", []byte("name,address,platform,site,role,pair,via\n"+csv), []string{"tern"})
	require.NoError(t, err)
	rb, err := runbook.Parse("x.runbook", []byte(text))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(plan.Schema(traits, f)))
	p, err := plan.Make(rb, f, nil, traits, now)
	require.NoError(t, err)
	return p
}

// harbour draws a fleet: devices on sites, some reached through others.
func harbour(t *rapid.T) string {
	n := rapid.IntRange(1, 60).Draw(t, "devices")
	var b strings.Builder
	for i := range n {
		via := ""
		if i > 0 && rapid.IntRange(0, 3).Draw(t, "reached") > 0 {
			via = fmt.Sprintf("d%d", rapid.IntRange(0, i-1).Draw(t, "via"))
		}
		fmt.Fprintf(&b, "d%d,192.0.2.%d,tern,%s,quay,,%s\n", i, i+1, rapid.SampledFrom([]string{"ALD", "BRM", "CLD", "DRF", ""}).Draw(t, "site"), via)
	}
	return b.String()
}

// sketch remembers what was drawn.
type sketch struct {
	Pen
	w, h  float64
	boxes [][4]float64 // of devices
	words []string
	out   []string // what does not stand on the page
}

func (s *sketch) Page(w, h float64) { s.w, s.h = w, h; s.Pen.Page(w, h) }
func (s *sketch) in(x, y float64, what string) {
	if x < 0 || y < 0 || x > s.w+0.01 || y > s.h+0.01 {
		s.out = append(s.out, fmt.Sprintf("%s at %.1f %.1f of %.1f %.1f", what, x, y, s.w, s.h))
	}
}
func (s *sketch) Rect(x, y, w, h float64, fill, line int) {
	s.in(x, y, "a box")
	s.in(x+w, y+h, "a box's end")
	if w == boxWide && h == boxHigh {
		s.boxes = append(s.boxes, [4]float64{x, y, x + w, y + h})
	}
}
func (s *sketch) Line(x1, y1, x2, y2, _ float64, _ int, _ bool) {
	s.in(x1, y1, "a line")
	s.in(x2, y2, "a line's end")
}
func (s *sketch) Text(x, y, size float64, bold bool, _ int, text string) {
	s.in(x, y, text)
	s.in(x+s.Width(size, bold, text), y, "the end of "+text)
	s.words = append(s.words, text)
}

// However the network is: each device has a box, none lies over another, and all stands on
// the page.
func TestTheNetworkIsDrawn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := planned(t, book, harbour(t))
		s := &sketch{Pen: SVG("x")}
		Network(s, p)
		assert.Empty(t, s.out)
		assert.Len(t, s.boxes, len(p.Targets()))
		for i, a := range s.boxes {
			for _, b := range s.boxes[:i] {
				assert.False(t, a[0] < b[2] && b[0] < a[2] && a[1] < b[3] && b[1] < a[3], "boxes lie over one another: %v %v", a, b)
			}
		}
		for _, d := range p.Targets() {
			assert.Contains(t, s.words, d.Device.Name)
		}
		s = &sketch{Pen: SVG("x")}
		Window(s, p)
		assert.Empty(t, s.out)
		assert.Contains(t, s.words, fmt.Sprintf("Batch %d", len(p.Batches)))
		assert.Contains(t, s.words, "reserve")
	})
}

// Of a thousand devices a site is a box a batch; what is not in scope is drawn as what it
// is; a night without a window is drawn, too.
func TestOtherNetworks(t *testing.T) {
	var csv strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&csv, "d%d,10.0.%d.%d,tern,S%02d,quay,,\n", i, i/250, i%250+1, i%40)
	}
	p := planned(t, book, csv.String())
	s := &sketch{Pen: SVG("x")}
	Network(s, p)
	assert.Empty(t, s.out)
	assert.Contains(t, s.words, "25 in scope")
	assert.Less(t, len(s.boxes), 300)
	text := strings.NewReplacer("01:30 for 2h", "none", "  reserve   20m\n", "", "  true", "  role == \"quay\"").Replace(book)
	p = planned(t, text, "core,192.0.2.9,tern,ALD,core,,\na,192.0.2.1,tern,ALD,quay,p,core\nb,192.0.2.2,tern,ALD,quay,p standby,core\n")
	s = &sketch{Pen: SVG("x")}
	Network(s, p)
	assert.Contains(t, s.words, "core")
	assert.Len(t, s.boxes, 3)
	s = &sketch{Pen: SVG("x")}
	Window(s, p)
	assert.Empty(t, s.out)
	assert.NotContains(t, s.words, "reserve")
	assert.Contains(t, strings.Join(s.words, "\n"), "no window")
}

const three = "core,192.0.2.9,tern,ALD,quay,,\na,192.0.2.1,tern,ALD,quay,p,core\nb,192.0.2.2,tern,BRM,quay,p standby,core\n"

// An SVG is well-formed, whatever stands in the title, and has its words as text.
func TestSVGIsWellFormed(t *testing.T) {
	p := planned(t, book, three)
	pen := SVG(p.Title)
	Window(pen, p)
	Network(pen, p)
	data, err := pen.Bytes()
	require.NoError(t, err)
	d := xml.NewDecoder(bytes.NewReader(data))
	words := ""
	for {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		if c, ok := tok.(xml.CharData); ok {
			words += string(c)
		}
	}
	assert.Contains(t, words, "Gates & <clocks> · MSF-2291")
	assert.Contains(t, words, "must begin by then")
}

// A PDF opens, with its title, its lines as they stand, and its drawings.
func TestDocumentAsPDF(t *testing.T) {
	p := planned(t, book, three)
	lines := report.Document(p, nil, 0)
	data, err := Document(p.Title, lines, p)
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(data, []byte("%PDF-")))
	pen := PDF("x")
	Window(pen, p)
	Network(pen, p)
	drawn, err := pen.Bytes()
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(drawn, []byte("%PDF-")))
	out := pdfText(t, data)
	for _, want := range []string{"Gates & <clocks>", "MSF-2291", "| log host 192.0.2.1", "How it is taken back", "Must begin by", "Batches on the window", "The network of its scope"} {
		assert.Contains(t, out, want)
	}
}

// pdfText is the text of a PDF, as somebody else reads it; pages end with a form feed.
func pdfText(t *testing.T, data []byte) string {
	if _, err := exec.LookPath("pdftotext"); err != nil {
		t.Skip("no pdftotext here to read it with")
	}
	file := filepath.Join(t.TempDir(), "x.pdf")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	out, err := exec.Command("pdftotext", "-layout", file, "-").CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// A document may have tables of no rows, with a head and without one.
func TestADocumentWithEmptyTables(t *testing.T) {
	var d document.Document
	d.Add(document.Title("x"), document.Table{}, document.Table{Head: []string{"", ""}}, document.Table{Head: []string{"device"}})
	data, err := written("x", &d, true, func(Pen) {})
	require.NoError(t, err)
	assert.NotEmpty(t, data)
}
