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
	"metabasis/internal/store"
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

// ErrandKinds are what an errand can be written as, by the ending of its file.
var ErrandKinds = []string{".txt", ".md", ".pdf"}

// ErrandAs is what a night could not put back, for the person who drives there, as the ending of a
// file's name says: plain text, Markdown or PDF.
func (d *Desk) ErrandAs(m *report.Morning, file string) ([]byte, error) {
	doc := report.Errand(m, d.places())
	switch strings.ToLower(filepath.Ext(file)) {
	case ".txt":
		return []byte(strings.Join(doc.Plain(), "\n") + "\n"), nil
	case ".md":
		return []byte(strings.Join(doc.Markdown(), "\n") + "\n"), nil
	case ".pdf":
		return draw.Errand(m, doc)
	}
	return nil, fmt.Errorf("%s: an errand is FILE%s", file, strings.Join(ErrandKinds, ", FILE"))
}

// ReadinessKinds are what readiness can be written as, by the ending of its file.
var ReadinessKinds = []string{".md", ".pdf", ".csv", ".txt"}

// ReadinessAs is who is ready for other software, as the ending of a file's name says.
func ReadinessAs(r *store.Rehearsal, file string) ([]byte, error) {
	doc := report.Readiness(r)
	switch strings.ToLower(filepath.Ext(file)) {
	case ".txt":
		return []byte(strings.Join(doc.Plain(), "\n") + "\n"), nil
	case ".md":
		return []byte(strings.Join(doc.Markdown(), "\n") + "\n"), nil
	case ".pdf":
		return draw.Readiness(r.Title, doc)
	case ".csv":
		var b bytes.Buffer
		err := report.WriteReadiness(&b, r)
		return b.Bytes(), err
	}
	return nil, fmt.Errorf("%s: readiness is FILE%s", file, strings.Join(ReadinessKinds, ", FILE"))
}

// places are where the devices of the fleet are found; none where it cannot be read.
func (d *Desk) places() map[string]report.Place {
	f, err := d.Workspace.Fleet("")
	if err != nil {
		return nil
	}
	out := map[string]report.Place{}
	for _, dev := range f.Devices {
		out[dev.Name] = report.Place{Address: dev.Address, Via: strings.Join(f.Above(dev), ", then ")}
	}
	return out
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
	return errors.Join(err, n.writeErrand(m, dir))
}

// ErrandFile is the list that a night writes by itself at its end, where it left what nobody has
// proven; there is one as PDF beside it.
const ErrandFile = "errand.txt"

func (n *Tonight) writeErrand(m *report.Morning, dir string) error {
	if len(m.Unproven()) == 0 {
		return nil
	}
	for _, name := range []string{ErrandFile, "errand.pdf"} {
		data, err := n.desk.ErrandAs(m, name)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
			return err
		}
	}
	return nil
}

// ErrandOf is the file of what a night could not put back; "" where it wrote none.
func (d *Desk) ErrandOf(id int64) string {
	file := filepath.Join(d.Transcripts(id), ErrandFile)
	if _, err := os.Stat(file); err != nil {
		return ""
	}
	return file
}
