package report

import (
	"cmp"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/textfile"
)

// What JUnit's XML is made of, as far as it is written here.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Name     string       `xml:"name,attr"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Errors   int          `xml:"errors,attr"`
		Time     string       `xml:"time,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Time     string      `xml:"time,attr"`
		Stamp    string      `xml:"timestamp,attr,omitempty"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name    string     `xml:"name,attr"`
		Class   string     `xml:"classname,attr"`
		Time    string     `xml:"time,attr"`
		Skipped *junitText `xml:"skipped,omitempty"`
		Error   *junitText `xml:"error,omitempty"`
		Failure *junitText `xml:"failure,omitempty"`
	}
	junitText struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",cdata"`
	}
)

// JUnit writes the report as pipelines read results: a suite for each batch, a case for
// each device. What was taken back, or blocked, has failed; what needs a person is an
// error; what nobody tried is skipped.
func (m *Morning) JUnit(w io.Writer) error {
	why := map[string]Failure{}
	for _, f := range m.Failures {
		why[f.Device] = f
	}
	all := junitSuites{Name: xmlText(m.Title), Time: seconds(m.Took())}
	for _, b := range m.Batches {
		s := m.junitBatch(b, why)
		all.Tests, all.Failures, all.Errors = all.Tests+s.Tests, all.Failures+s.Failures, all.Errors+s.Errors
		all.Suites = append(all.Suites, s)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// junitBatch is a batch as a suite.
func (m *Morning) junitBatch(b BatchReport, why map[string]Failure) junitSuite {
	s := junitSuite{Name: fmt.Sprintf("batch %d", b.Number), Time: seconds(b.Ended.Sub(b.Began))}
	if !b.Began.IsZero() {
		s.Stamp = b.Began.UTC().Format("2006-01-02T15:04:05")
	}
	for _, dev := range m.Devices {
		if dev.Batch != b.Number {
			continue
		}
		f, wrong := why[dev.Name]
		c := junitCase{Name: dev.Name, Class: strings.Trim(dev.Site+"."+dev.Platform, "."), Time: seconds(dev.Took())}
		told := &junitText{
			xmlText(string(dev.Result) + ": " + cmp.Or(dev.Cut, dev.Note)),
			xmlText(strings.Join(append([]string{f.Why}, f.Evidence...), "\n")),
		}
		switch dev.Result {
		case night.Kept, night.Already:
			if wrong { // kept, and not as it was meant to be
				c.Failure = told
				s.Failures++
			}
		case night.Skipped, night.Waiting:
			c.Skipped = told
			s.Skipped++
		case night.Reverted, night.Blocked:
			c.Failure = told
			s.Failures++
		default:
			c.Error = told
			s.Errors++
		}
		s.Tests++
		s.Cases = append(s.Cases, c)
	}
	return s
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.3f", max(d, 0).Seconds()) }

// xmlText is a text without what XML cannot have.
func xmlText(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0xFFFE || r == 0xFFFF || r >= 0xD800 && r <= 0xDFFF {
			return ' '
		}
		return r
	}, strings.ReplaceAll(s, "]]>", "]] >"))
}

// WriteCSV writes a line a device.
func (m *Morning) WriteCSV(w io.Writer) error {
	c := csv.NewWriter(w)
	rows := [][]string{
		{
			"device",
			"site",
			"role",
			"platform",
			"batch",
			"result",
			"note",
			"began",
			"ended",
			"seconds",
			"lines_changed",
			"prediction",
			"backup",
			"sha256",
			"left",
			"left_sha256",
			"ran",
			"runs",
		},
	}
	iso := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format(time.RFC3339)
	}
	for _, d := range m.Devices {
		changed := fmt.Sprint(len(d.Differs))
		if d.mustLook && len(d.Differs) == 0 {
			changed = "" // nobody has counted them
		}
		rows = append(
			rows,
			[]string{d.Name, d.Site, d.Role, d.Platform, fmt.Sprint(d.Batch), string(d.Result), cmp.Or(d.Cut, d.Note), iso(d.Began), iso(d.Ended),
				fmt.Sprintf("%.1f", d.Took().Seconds()), changed, d.Prediction, fileOf(d.Backup), d.SHA256,
				fileOf(d.Left), d.LeftSHA256, d.Ran, d.Runs},
		)
	}
	return c.WriteAll(tame(rows))
}

// tame is rows in which no text acts on a terminal, or on a spreadsheet, which takes some for a formula.
func tame(rows [][]string) [][]string {
	for _, r := range rows {
		for i := range r {
			r[i] = textfile.Straight(r[i])
		}
		for i, cell := range r {
			if i > 0 && cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
				r[i] = "'" + cell
			}
		}
	}
	return rows
}
