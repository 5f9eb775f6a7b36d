package table

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/runbook"
)

func versions() *Table {
	t := &Table{Name: "version", Columns: []Column{{"version", runbook.TextColumn, false}, {"serial", runbook.TextColumn, false}}}
	for i := range 21 {
		v := "4.2"
		if i == 7 || i == 12 {
			v = "4.1"
		}
		t.Add(fmt.Sprintf("q-%02d", i), "tern", map[string]any{"version": v, "serial": fmt.Sprintf("T-%d", i)})
	}
	return t
}

func TestOutliersFirst(t *testing.T) {
	v := versions()
	assert.Equal(t, "19 have 4.2, 2 have 4.1", v.Summary(0))
	assert.Equal(t, []int{0}, v.Telling(), "serial numbers tell nothing")
	assert.Equal(t, 2, v.OutliersFirst())
	assert.Equal(t, []string{"q-07", "q-12", "q-00"}, []string{v.Rows[0].Device, v.Rows[1].Device, v.Rows[2].Device})
	assert.True(t, v.Odd(v.Rows[0], 0))
	assert.False(t, v.Odd(v.Rows[5], 0))
	for i := range 3 { // another platform has other versions, and these are usual there
		v.Add(fmt.Sprintf("g-%d", i), "plover", map[string]any{"version": "1.9", "serial": "x"})
	}
	assert.Equal(t, 2, v.OutliersFirst())
	assert.Equal(t, "tern: 19 have 4.2, 2 have 4.1; plover: 3 have 1.9", v.Summary(0))
	v.Sort(-1, true)
	assert.Equal(t, "q-20", v.Rows[0].Device)
	f := v.Filter("4.1")
	assert.Len(t, f.Rows, 2)
	assert.Len(t, v.Rows, 24)
}

func TestNumbersInNamesCountAsNumbers(t *testing.T) {
	v := &Table{Columns: []Column{{"version", runbook.TextColumn, false}}}
	for device, version := range map[string]any{"q-10": "4.9", "q-9": "4.10", "q-100": nil, "q-2": "4.2"} {
		v.Add(device, "", map[string]any{"version": version})
	}
	order := func() (out []string) {
		for _, r := range v.Rows {
			out = append(out, r.Device)
		}
		return out
	}
	v.Sort(-1, false)
	assert.Equal(t, []string{"q-2", "q-9", "q-10", "q-100"}, order())
	v.Sort(0, false)
	assert.Equal(t, []string{"q-100", "q-2", "q-10", "q-9"}, order(), "what is missing first")
	v.Sort(0, true)
	assert.Equal(t, []string{"q-9", "q-10", "q-2", "q-100"}, order())
}

func TestForms(t *testing.T) {
	v := &Table{Name: "storage", Columns: []Column{{"free", runbook.NumberColumn, true}, {"at", runbook.TimeColumn, false}, {"ok", runbook.YesNoColumn, false}, {"label", runbook.TextColumn, false}}}
	v.Add("a", "", []map[string]any{{"free": 41e6, "at": 1.8e9, "ok": true, "label": "=1+1, \"x\""}})
	v.Add("b", "", []map[string]any{})
	v.Failed = append(v.Failed, Failed{"c", "no route"})
	var csv, js, text strings.Builder
	require.NoError(t, v.WriteCSV(&csv))
	assert.Equal(t, "device,free,at,ok,label\na,41000000,2027-01-15T08:00:00Z,true,\"'=1+1, \"\"x\"\"\"\n", csv.String())
	require.NoError(t, v.WriteJSON(&js))
	assert.JSONEq(t, `{"table":"storage","rows":[{"device":"a","free":41000000,"at":"2027-01-15T08:00:00Z","ok":true,"label":"=1+1, \"x\""}],"failed":[{"device":"c","why":"no route"}]}`, js.String())
	require.NoError(t, v.WriteText(&text))
	assert.Equal(t, "device  free   at                   ok   label\na       41 MB  2027-01-15 08:00:00  yes  =1+1, \"x\"\n", text.String())
	assert.Equal(t, []string{"b"}, v.Empty)
}

// Sorting outliers first loses no row, and never puts a common one before a
// rarer.
func TestOutliersKeepAllRows(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := &Table{Columns: []Column{{"v", runbook.TextColumn, false}}}
		n := rapid.IntRange(1, 40).Draw(t, "devices")
		for i := range n {
			v.Add(fmt.Sprint(i), rapid.SampledFrom([]string{"x", "y"}).Draw(t, "group"), map[string]any{"v": rapid.SampledFrom([]string{"a", "b", "c", "d"}).Draw(t, "value")})
		}
		odd := v.OutliersFirst()
		assert.Len(t, v.Rows, n)
		for i, r := range v.Rows {
			assert.Equal(t, i < odd, v.Odd(r, 0))
		}
	})
}
