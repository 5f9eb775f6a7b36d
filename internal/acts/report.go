package acts

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"metabasis/internal/draw"
	"metabasis/internal/report"
)

// Morning makes the report of a night. Of one that is damaged it is made of what can be
// read, and the error says so.
func (d *Desk) Morning(ctx context.Context, id int64) (*report.Morning, error) {
	j, err := d.ReadJournal()
	if err != nil {
		return nil, err
	}
	defer j.Close()
	heads, listErr := j.List(ctx)
	for _, h := range heads {
		if h.ID != id {
			continue
		}
		_, now := d.Running(h.NightHead) // before its events: one that ends meanwhile has not been cut off
		events, err := j.Events(ctx, id)
		if len(events) == 0 {
			return nil, err
		}
		sum, sumErr := j.Sum(ctx, id)
		m := report.MorningOf(id, h.File, sum, events)
		if h.Seen != nil {
			m.Settled = h.Seen.String()
		}
		if now && m.Ended.IsZero() {
			m.StillRuns()
		}
		return m, errors.Join(err, sumErr)
	}
	return nil, errors.Join(listErr, fmt.Errorf("night %d is not in the journal; metabasis journal check lists those that are", id))
}

// ReportKinds are what a report can be written as, by the ending of its file.
var ReportKinds = []string{".md", ".pdf", ".json", ".xml", ".csv"}

// ReportAs is a report as the ending of a file's name says: Markdown, PDF, JSON, JUnit's
// XML, or CSV of the devices.
func ReportAs(m *report.Morning, file string) ([]byte, error) {
	var b bytes.Buffer
	switch ext := strings.ToLower(filepath.Ext(file)); ext {
	case ".md":
		b.WriteString(strings.Join(report.MorningDocument(m).Markdown(), "\n") + "\n")
	case ".pdf":
		return draw.Report(m)
	case ".json":
		e := json.NewEncoder(&b)
		e.SetIndent("", "  ")
		if err := e.Encode(m); err != nil {
			return nil, err
		}
	case ".xml":
		if err := m.JUnit(&b); err != nil {
			return nil, err
		}
	case ".csv":
		if err := m.WriteCSV(&b); err != nil {
			return nil, err
		}
	default:
		return nil, fmt.Errorf("%s: a report is FILE%s", file, strings.Join(ReportKinds, ", FILE"))
	}
	return b.Bytes(), nil
}

// DrawingAs draws a night, its timeline and its charts, as the ending of a file's name says:
// SVG or PDF.
func DrawingAs(m *report.Morning, file string) ([]byte, error) {
	var pen draw.Pen
	switch strings.ToLower(filepath.Ext(file)) {
	case ".svg":
		pen = draw.SVG(m.Title)
	case ".pdf":
		pen = draw.PDF(m.Title)
	default:
		return nil, fmt.Errorf("%s: a drawing is FILE.svg or FILE.pdf", file)
	}
	draw.Timeline(pen, m)
	draw.Charts(pen, m)
	return pen.Bytes()
}

// ReportFile is the report that a night writes by itself at its end.
const ReportFile = "report.md"

// writeReport writes the report of a night that is over into its folder, as Markdown and
// for programs.
func (n *Tonight) writeReport(ctx context.Context) error {
	m, err := n.desk.Morning(ctx, n.ID)
	if m == nil {
		return err
	}
	dir := n.desk.Transcripts(n.ID)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for _, name := range []string{ReportFile, "report.json"} {
		data, err := ReportAs(m, name)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
			return err
		}
	}
	return err
}
