package runbook

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/kind"
	"metabasis/internal/core/record"
)

// A condition over a table names the row that broke it, and its value.
func TestWhatBreaksACondition(t *testing.T) {
	ports := Table{Many: true, Columns: map[string]ColumnType{"port": NumberColumn, "state": TextColumn, "lan": TextColumn}, Manner: record.Manner{Keys: []string{"port"}}}
	s := Schema{Beside: map[string][]kind.Column{"lans": {{Name: "lan", Kind: kind.Kind{Type: kind.Number}}, {Name: "title", Kind: kind.Kind{Type: kind.Text}}}},
		Tables: map[string]Table{"ports": ports}, Of: map[string]map[string]Table{"tern": {"ports": ports}}}
	env := Env{"site": "ALD", "lans": []map[string]any{{"lan": 10, "title": "staff"}, {"lan": 999, "title": "what"}},
		"ports": []map[string]any{{"port": 7.0, "state": "down", "lan": "310"}, {"port": 8.0, "state": "up", "lan": "20"}, {"port": 9.0, "state": nil, "lan": "20"}}}
	for source, want := range map[string]string{
		`all(lans, .lan in [10, 100, 200])`:                  "lan 999 is none of 10, 100, 200",
		`all(lans, .lan in 10..200)`:                         "lan 999 is none of 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20, 21, and 179 more",
		`all(lans, .title != "what")`:                        "lan 999: title is what, wanted != what",
		`any(ports, .port == 7 and .state == "up")`:          "no row of ports fits, of 3; the nearest: port 7: state is down, wanted up",
		`any(ports, .lan == "310" and .state == "up")`:       "no row of ports fits, of 3; the nearest: port 7: state is down, wanted up",
		`none(ports, .lan == "310")`:                         "port 7 should not be so, and is",
		`one(ports, .lan == "20")`:                           "2 rows of ports fit, and one should: port 8; port 9",
		`site == "ALD" and all(ports, .lan in ["20", "30"])`: "port 7: lan 310 is none of 20, 30",
		`all(ports, .state == "up")`:                         "port 7: state is down, wanted up; port 9: cannot be told: state == \"up\": state is missing",
		`len(filter(ports, .lan == "20")) == 3`:              "len(filter(ports, .lan == \"20\")) is 2, wanted 3",
		`all(ports, all(lans, .lan < 100))`:                  "",
		`site in ["BRM", "CLD"]`:                             "site ALD is none of BRM, CLD",
	} {
		rb := &Runbook{lines: map[int]string{}}
		cond := &Cond{Source: source, at: span{line: 1, col: 1}}
		rb.Prechecks = []Precheck{{Name: "x", Where: cond}}
		require.NoError(t, rb.Compile(s), source)
		why := cond.Explain(env)
		if want == "" {
			assert.NotEmpty(t, why, source)
			continue
		}
		assert.Equal(t, want, why, source)
	}
}
