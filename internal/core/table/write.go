package table

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/runbook"
	"metabasis/internal/core/textfile"
)

// WriteCSV writes the table as RFC 4180 has it. Times are as in RFC 3339, sizes
// in bytes. Text that a spreadsheet would run as a formula is quoted by an
// apostrophe: it comes from devices.
func (t *Table) WriteCSV(w io.Writer) error {
	out := csv.NewWriter(w)
	head := []string{"device"}
	for _, c := range t.Columns {
		head = append(head, c.Name)
	}
	_ = out.Write(head)
	for _, r := range t.Rows {
		line := []string{r.Device}
		for i, c := range t.Columns {
			line = append(line, textfile.Straight(harmless(plain(c, r.Values[i]))))
		}
		_ = out.Write(line)
	}
	out.Flush()
	return out.Error()
}

func harmless(v any) string {
	s, isText := v.(string)
	if isText && s != "" && strings.ContainsRune("=+@-\t\r", rune(s[0])) {
		if _, err := strconv.ParseFloat(s, 64); err != nil && s != "-" {
			return "'" + s
		}
	}
	if v == nil {
		return ""
	}
	if f, ok := v.(float64); ok {
		return strconv.FormatFloat(f, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}

// plain is a value as programs read it.
func plain(c Column, v any) any {
	if f, ok := v.(float64); ok && c.Type == runbook.TimeColumn {
		return time.Unix(0, int64(f*1e9)).UTC().Format(time.RFC3339)
	}
	return v
}

// WriteJSON writes the table as one object.
func (t *Table) WriteJSON(w io.Writer) error {
	rows := []map[string]any{}
	for _, r := range t.Rows {
		row := map[string]any{"device": r.Device}
		for i, c := range t.Columns {
			if v := plain(c, r.Values[i]); v != nil {
				row[c.Name] = v
			}
		}
		rows = append(rows, row)
	}
	failed := t.Failed
	if failed == nil {
		failed = []Failed{}
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	return e.Encode(map[string]any{"table": t.Name, "rows": rows, "failed": failed})
}

// WriteText writes the table as people read it.
func (t *Table) WriteText(w io.Writer) error {
	widths := make([]int, len(t.Columns)+1)
	cells := [][]string{{"device"}}
	for _, c := range t.Columns {
		cells[0] = append(cells[0], c.Name)
	}
	for _, r := range t.Rows {
		line := []string{r.Device}
		for i, c := range t.Columns {
			line = append(line, c.Text(r.Values[i]))
		}
		cells = append(cells, line)
	}
	for _, line := range cells {
		for i, s := range line {
			widths[i] = max(widths[i], len([]rune(s)))
		}
	}
	for _, line := range cells {
		var b strings.Builder
		for i, s := range line {
			b.WriteString(s + strings.Repeat(" ", widths[i]-len([]rune(s))+2))
		}
		if _, err := fmt.Fprintln(w, strings.TrimRight(b.String(), " ")); err != nil {
			return err
		}
	}
	return nil
}
