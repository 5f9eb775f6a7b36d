package fleet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"strings"

	"metabasis/internal/core/kind"
	"metabasis/internal/core/problem"
)

// A sheet is a file of lines with values between separators (RFC 4180), under a line that
// names the columns. Commas separate, or what the head shows to: semicolons, or tabs. In the
// head, the kind of a column may stand behind its name: lan: number 2..4094.
type sheet struct {
	rule    cell // what stands above the head, as rows,join; see [Rows]
	head    []column
	line    int // of the head
	text    string
	records []row
}

// column is a name in a head, with its kind where it is said.
type column struct {
	name    string
	written string
	kind    *kind.Kind
	col     int
}

// separator is the one that the head of a sheet shows.
func separator(data []byte) rune {
	for l := range bytes.Lines(data) {
		line := strings.TrimSpace(string(l))
		if line == "" || line[0] == '#' {
			continue
		}
		quoted, found := false, ','
		for _, c := range string(l) {
			switch {
			case c == '"':
				quoted = !quoted
			case quoted:
			case c == '\t':
				return c
			case c == ';':
				found = c
			}
		}
		return found
	}
	return ','
}

// newSheet is a reader of the lines of a sheet.
func newSheet(data []byte) *csv.Reader {
	cr := csv.NewReader(bytes.NewReader(data))
	cr.Comment, cr.FieldsPerRecord, cr.Comma = '#', -1, separator(data)
	cr.TrimLeadingSpace = cr.Comma != '\t' // else empty cells were none
	return cr
}

// sheet reads a whole sheet; hint is a head as it should be. What is under no column is told.
func (r *reader) sheet(data []byte, hint string) *sheet {
	lines := strings.Split(string(data), "\n")
	cr := newSheet(data)
	s := &sheet{}
	for {
		rec, err := cr.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			r.csvError(err, lines)
			return s // what follows a broken quote cannot be trusted
		}
		line, _ := cr.FieldPos(0)
		switch {
		case s.head == nil && s.rule.line == 0 && len(rec) == 2 && strings.EqualFold(strings.TrimSpace(rec[0]), "rows"):
			_, col := cr.FieldPos(1)
			s.rule = cell{strings.TrimSpace(rec[1]), line, col}
		case s.head == nil:
			s.line, s.text = line, lineOf(lines, line)
			for i, h := range rec {
				_, col := cr.FieldPos(i)
				s.head = append(s.head, r.column(h, line, col, s.text))
			}
		default:
			s.records = append(s.records, r.record(s, cr, rec, lineOf(lines, line)))
		}
	}
	if s.head == nil && len(r.problems) == 0 {
		r.fail(0, 0, "", hint, "the file is empty: its first line must name the columns")
	}
	return s
}

// column reads a cell of a head.
func (r *reader) column(written string, line, col int, text string) column {
	name, said, has := strings.Cut(written, ":")
	c := column{name: columnName(name), written: strings.TrimSpace(name), col: col}
	if has {
		k, err := kind.Parse(said)
		if err != nil {
			r.fail(line, col, text, "", "column %s: %v", c.name, err)
		} else {
			c.kind = &k
		}
	}
	return c
}

// twice tells two columns of one name, however it is written.
func (r *reader) twice(s *sheet) {
	at := map[string]string{}
	for _, c := range s.head {
		if c.name == "" {
			continue
		}
		switch first, there := at[c.name]; {
		case there && first != c.written:
			r.fail(
				s.line,
				c.col,
				s.text,
				"two names",
				"columns %q and %q are one and the same: names differ by more than their case",
				first,
				c.written,
			)
		case there:
			r.fail(s.line, c.col, s.text, "", "column %q stands twice", c.name)
		}
		at[c.name] = c.written
	}
}

func (r *reader) record(s *sheet, cr *csv.Reader, rec []string, text string) row {
	line, _ := cr.FieldPos(0)
	one := row{line: line, text: text, cells: map[string]cell{}}
	if len(rec) > len(s.head) {
		_, col := cr.FieldPos(len(s.head))
		r.fail(line, col, text, "", "%d values under %d columns", len(rec), len(s.head))
	}
	for i, v := range rec[:min(len(rec), len(s.head))] {
		l, c := cr.FieldPos(i)
		v = strings.TrimSpace(v)
		if problem.Printable(v) != v || strings.ContainsAny(v, "\n\t") {
			r.fail(l, c, text, "", "the value of %s has a control character", s.head[i].name)
		}
		one.cells[s.head[i].name] = cell{v, l, c}
	}
	return one
}

func (r *reader) csvError(err error, lines []string) {
	var pe *csv.ParseError
	if errors.As(err, &pe) {
		r.fail(pe.Line, pe.Column, lineOf(lines, pe.Line), `"a value in quotes", with "" for a quote inside it`, "%v", pe.Err)
		return
	}
	r.fail(0, 0, "", "", "%v", err)
}
