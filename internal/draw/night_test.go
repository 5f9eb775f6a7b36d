package draw

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/report"
)

// someNight is the report of a night of n devices, one of which was taken back.
func someNight(n int) *report.Morning {
	began := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	m := &report.Morning{Night: 21, Title: "Move the quays", Change: "MSF-2291", Began: began, Ended: began.Add(40 * time.Minute), Last: began.Add(40 * time.Minute),
		Outcome: "All but one.", Batches: []report.BatchReport{{Number: 1, Began: began, Ended: began.Add(40 * time.Minute), Devices: n, Kept: n - 1}, {Number: 2, Devices: 1}}}
	at := func(s int) time.Time { return began.Add(time.Duration(s) * time.Second) }
	for i := range n {
		d := report.DeviceReport{Name: fmt.Sprintf("ald-quay-%d", i+1), Site: "ALD", Platform: "tern", Batch: 1, Result: night.Kept, Prediction: "kept", Began: at(i), Ended: at(i + 200),
			Stages:  []report.Stage{{State: night.Checking, From: at(i), To: at(i + 5)}, {State: night.Changing, From: at(i + 5), To: at(i + 60)}, {State: night.Soaking, From: at(i + 60), To: at(i + 200)}},
			Differs: []string{"+ log host 198.51.100.14"}, Backup: "x.cfg", SHA256: strings.Repeat("a", 64)}
		if i == 3 {
			d.Result, d.Note = night.Reverted, "equal to the backup"
			d.Stages[2] = report.Stage{State: night.Held, From: at(i + 60), To: at(i + 200)}
			m.Failures = append(m.Failures, report.Failure{Device: d.Name, Site: "ALD", At: at(99), State: night.Reverted, Cause: "line 1 was refused", Why: "line 1 was refused"})
		}
		m.Devices = append(m.Devices, d)
	}
	return m
}

func TestTimelineAsSVG(t *testing.T) {
	for _, n := range []int{1, 24, 1000} {
		pen := SVG("Move the quays")
		Timeline(pen, someNight(n))
		Charts(pen, someNight(n))
		data, err := pen.Bytes()
		require.NoError(t, err)
		d := xml.NewDecoder(strings.NewReader(string(data)))
		for {
			if _, err := d.Token(); errors.Is(err, io.EOF) {
				break
			} else {
				require.NoError(t, err)
			}
		}
		assert.Contains(t, string(data), "never began")
		if n >= 24 {
			assert.Contains(t, string(data), ">ald-quay-4<")
			assert.Contains(t, string(data), "reverted: equal to the backup")
			assert.Contains(t, string(data), "line 1 was refused")
			assert.Equal(t, n <= mostRows, strings.Contains(string(data), ">ald-quay-5<"), "of many devices those that went well are counted")
		}
	}
}

// The PDF of a report can be read back: its contents name the pages on which its parts
// stand, every page has its number, and the head of a table stands on each page that it
// goes over.
func TestReportAsPDF(t *testing.T) {
	data, err := Report(someNight(300))
	require.NoError(t, err)
	text := pdfText(t, data)
	pages := strings.Split(text, "\f")
	contents := pages[0]
	for i, page := range pages[:len(pages)-3] {
		assert.Contains(t, page, fmt.Sprintf("page %d", i+1))
	}
	for _, part := range []string{"What went wrong", "Timeline", "Every device", "Checksums"} {
		on := 0
		for i, page := range pages {
			for l := range strings.Lines(page) {
				if strings.TrimSpace(l) == part {
					on = i + 1
				}
			}
		}
		require.NotZero(t, on, part)
		assert.Regexp(t, part+` +`+fmt.Sprint(on)+`\n`, contents)
	}
	heads := 0
	for _, page := range pages {
		if strings.Contains(page, "ald-quay-") && strings.Contains(page, "prediction") {
			heads++
		}
	}
	assert.Greater(t, heads, 3)
	assert.NotContains(t, text, "{p", "no page number is left open")
}

func BenchmarkReport5000(b *testing.B) {
	m := someNight(5000)
	for b.Loop() {
		_, err := Report(m)
		require.NoError(b, err)
	}
}
