// Package document is a text made of parts: headings, paragraphs, lists, tables, and lines that
// stand as they are. Whoever has something to say puts the parts together; Markdown is written
// here, a PDF by package draw, and the screen draws the same parts by package page. Nobody takes
// apart what was written.
package document

import (
	"fmt"
	"slices"
	"strings"
)

// Block is a part of a document: one of the types below.
type Block interface{ block() }

type (
	// Title is the title of the whole; Section begins a part of it, and Heading a part of that.
	Title   string
	Section string
	Heading string
	// Text is a paragraph.
	Text string
	// Item is one of a list; those that follow one another are one list. Number is from 1; 0
	// where they are not counted.
	Item struct {
		Number int
		Text   string
	}
	// Table is a table; a head of empty texts is none.
	Table struct {
		Head []string
		Rows [][]string
	}
	// Code is lines as they stand.
	Code []string
)

func (Title) block()   {}
func (Section) block() {}
func (Heading) block() {}
func (Text) block()    {}
func (Item) block()    {}
func (Table) block()   {}
func (Code) block()    {}

// All is the rows with the head above them, where it says anything; headed tells whether it does.
func (t Table) All() (rows [][]string, headed bool) {
	headed = slices.ContainsFunc(t.Head, func(h string) bool { return h != "" })
	if !headed {
		return t.Rows, false
	}
	return append([][]string{t.Head}, t.Rows...), true
}

// Document is its parts, in order. The zero value is an empty one.
type Document struct{ Blocks []Block }

// Add adds parts at the end.
func (d *Document) Add(parts ...Block) { d.Blocks = append(d.Blocks, parts...) }

// Items adds a list that is not counted.
func (d *Document) Items(texts ...string) {
	for _, t := range texts {
		d.Add(Item{Text: t})
	}
}

// Counted adds a list that is.
func (d *Document) Counted(texts ...string) {
	for i, t := range texts {
		d.Add(Item{Number: i + 1, Text: t})
	}
}

// Plain is the document as lines of text without signs, as wide as they come; tables are set in
// columns.
func (d *Document) Plain() (out []string) {
	var before Block
	for _, b := range d.Blocks {
		if Apart(before, b) {
			out = append(out, "")
		}
		before = b
		switch b := b.(type) {
		case Title:
			out = append(out, string(b), strings.Repeat("=", len([]rune(string(b)))))
		case Section:
			out = append(out, "", string(b), strings.Repeat("-", len([]rune(string(b)))))
		case Heading:
			out = append(out, string(b))
		case Text:
			out = append(out, string(b))
		case Item:
			mark := "-"
			if b.Number > 0 {
				mark = fmt.Sprintf("%d.", b.Number)
			}
			out = append(out, mark+" "+b.Text)
		case Table:
			out = append(out, b.columns()...)
		case Code:
			for _, l := range b {
				out = append(out, "  "+l)
			}
		}
	}
	return out
}

// columns is the table in columns of text.
func (t Table) columns() (out []string) {
	rows, _ := t.All()
	var wide []int
	for _, r := range rows {
		for i, c := range r {
			if i == len(wide) {
				wide = append(wide, 0)
			}
			wide[i] = max(wide[i], len([]rune(c)))
		}
	}
	for _, r := range rows {
		line := ""
		for i, c := range r {
			line += c + strings.Repeat(" ", wide[i]-len([]rune(c))+2)
		}
		out = append(out, strings.TrimRight(line, " "))
	}
	return out
}

// Apart tells whether a part stands apart from the one before it: all do but the items of one
// list.
func Apart(before, b Block) bool {
	was, follows := before.(Item)
	is, item := b.(Item)
	return before != nil && !(follows && item && (is.Number == 0) == (was.Number == 0))
}

// Markdown is the document as lines of Markdown, with tables as GitHub's flavour has them.
func (d *Document) Markdown() (out []string) {
	var before Block
	for _, b := range d.Blocks {
		if Apart(before, b) {
			out = append(out, "")
		}
		before = b
		switch b := b.(type) {
		case Title:
			out = append(out, "# "+escaped(string(b)))
		case Section:
			out = append(out, "## "+escaped(string(b)))
		case Heading:
			out = append(out, "### "+escaped(string(b)))
		case Text:
			out = append(out, escaped(string(b)))
		case Item:
			mark := "-"
			if b.Number > 0 {
				mark = fmt.Sprintf("%d.", b.Number)
			}
			out = append(out, mark+" "+escaped(b.Text))
		case Table:
			out = append(out, tabled(b.Head), "|"+strings.Repeat("---|", len(b.Head)))
			for _, row := range b.Rows {
				out = append(out, tabled(row))
			}
		case Code:
			fence := fence(b)
			out = append(append(append(out, fence+"text"), b...), fence)
		}
	}
	return out
}

func tabled(row []string) string {
	cells := make([]string, len(row))
	for i, c := range row {
		cells[i] = escaped(c)
	}
	return "| " + strings.Join(cells, " | ") + " |"
}

// escaped is a text in which nothing is a sign of Markdown.
func escaped(s string) string {
	return strings.NewReplacer("|", `\|`, "*", `\*`, "_", `\_`, "<", "&lt;", "`", "'", "\n", " ", "#", `\#`, "[", `\[`).Replace(s)
}

// fence is one that none of the lines ends.
func fence(lines []string) string {
	fence := "```"
	for _, l := range lines {
		for strings.Contains(l, fence) {
			fence += "`"
		}
	}
	return fence
}
