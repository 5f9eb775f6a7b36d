package keep

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestKeepRules(t *testing.T) {
	for text, want := range map[string]string{
		"10 newest, 31 days, 12 months": "", "1 newest": "", "0 newest": "at least 1 newest", "5 days": "at least 1 newest",
		"ten newest": "no rule", "5 weeks, 1 newest": "no rule", "": "no rule",
	} {
		_, err := Parse(text)
		if want == "" {
			assert.NoError(t, err, text)
		} else {
			assert.ErrorContains(t, err, want, text)
		}
	}
	assert.Equal(t, "the 10 newest, the last of each of 31 days, the last of each of 12 months", Rule{10, 31, 12}.String())
	assert.Equal(t, "the 1 newest", Rule{Last: 1}.String())
	now := time.Date(2026, 12, 31, 12, 0, 0, 0, time.Local)
	var shelf []Item
	for i := range 400 * 4 { // every six hours for 400 days, the newest first
		at := now.Add(-time.Duration(i) * 6 * time.Hour)
		shelf = append(shelf, Item{fmt.Sprint(i), []time.Time{at}})
	}
	gone := Rule{10, 31, 12}.Superfluous(shelf, now)
	assert.InDelta(t, 10+30+11, len(shelf)-len(gone), 4)
}

// However it is cleared: the newest stay, each day and month in reach has its last, and
// clearing again clears nothing.
func TestKeepProperties(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		now := time.Date(2026, 12, 31, 12, 0, 0, 0, time.Local)
		k := Rule{rapid.IntRange(1, 5).Draw(rt, "last"), rapid.IntRange(0, 20).Draw(rt, "days"), rapid.IntRange(0, 14).Draw(rt, "months")}
		var shelf []Item
		at := now
		for i := range rapid.IntRange(0, 60).Draw(rt, "backups") {
			at = at.Add(-time.Duration(rapid.IntRange(1, 400).Draw(rt, "hours")) * time.Hour)
			shelf = append(shelf, Item{fmt.Sprintf("%03d", 100-i), []time.Time{at}})
		}
		var left []Item
		gone := k.Superfluous(shelf, now)
		is := map[string]bool{}
		for _, name := range gone {
			is[name] = true
		}
		days := map[string]bool{}
		for i, s := range shelf {
			day := s.Seen[0].Local().Format("2006-01-02")
			if i < k.Last || k.Days > 0 && !days[day] && s.Seen[0].After(now.AddDate(0, 0, 1-k.Days)) {
				if is[s.Name] {
					rt.Fatalf("%s of %s is cleared", s.Name, day)
				}
			}
			days[day] = true
			if !is[s.Name] {
				left = append(left, s)
			}
		}
		if again := k.Superfluous(left, now); len(again) > 0 && k.Months == 0 && k.Days == 0 {
			rt.Fatalf("cleared again, %d more go", len(again))
		}
		if len(shelf) > 0 && left[0].Name != shelf[0].Name {
			rt.Fatal("the newest is gone")
		}
	})
}

func FuzzParse(f *testing.F) {
	f.Add(Usual)
	f.Add("-1 newest, 99999999999999999999 days,,")
	f.Fuzz(func(t *testing.T, text string) {
		rule, err := Parse(text)
		if err != nil {
			return
		}
		at := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
		gone := rule.Superfluous([]Item{{"newest", []time.Time{at}}, {"old", []time.Time{at.AddDate(-3, 0, 0)}}}, at)
		assert.NotContains(t, gone, "newest", "the newest always stays")
	})
}
