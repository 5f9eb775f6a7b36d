package profile

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/runbook"
)

func TestWhatAnAddressAnswered(t *testing.T) {
	for _, c := range []struct {
		platform, printed string
		want              runbook.Reached
		err               string
	}{
		{"tern", "3 of 4 came back from 192.0.2.1.", runbook.Reached{Sent: 4, Answered: 3}, ""},
		{"tern", "0 of 4 came back from 192.0.2.1.", runbook.Reached{Sent: 4}, ""},
		{"tern", "", runbook.Reached{}, "nothing tells how many came back"},
		{"tern", "5 of 4 came back from 192.0.2.1.", runbook.Reached{}, "5 came back, and 4 were sent"},
		{"tern", "1 of 4 came back from 192.0.2.1.\n2 of 4 came back from 192.0.2.1.", runbook.Reached{}, "does not tell how many came back"},
		{"tern", "99999999999999999999 of 4 came back from 192.0.2.1.", runbook.Reached{}, "does not tell how many came back"},
		{"osier", "answer from 192.0.2.1 after 3.5 ms\nanswer from 192.0.2.1 after 4.0 ms", runbook.Reached{Answered: 2, Took: 3500 * time.Microsecond}, ""},
		{"osier", "Nothing came back.", runbook.Reached{}, ""},
		{"osier", "sound: no such address", runbook.Reached{}, "nothing tells how many came back: sound: no such address"},
		{"plover", "CALLED 4 HEARD 4", runbook.Reached{Sent: 4, Answered: 4}, ""},
	} {
		got, err := shipped(t, c.platform).Reach.Parse(strings.Split(c.printed, "\n"))
		if c.err != "" {
			require.ErrorContains(t, err, c.err, c.printed)
			continue
		}
		require.NoError(t, err, c.printed)
		assert.Equal(t, c.want, got, c.printed)
	}
}

// ternWith is the profile of the terns with another text in the place of one of its sections.
func ternWith(t *testing.T, key string) func(text string) []byte {
	t.Helper()
	whole := ternFile(t)
	if key == "restart" || key == "files" { // without what builds on that
		from := strings.Index(whole, "\nsoftware:\n") + 1
		whole = whole[:from] + whole[from+strings.Index(whole[from:], "\n\n"):]
	}
	from := strings.Index(whole, "\n"+key+":\n") + 1
	require.Positive(t, from)
	to := from + strings.Index(whole[from:], "\n\n")
	return func(text string) []byte { return []byte(whole[:from] + text + whole[to:]) }
}

func TestMistakesInHowAnAddressIsReached(t *testing.T) {
	with := ternWith(t, "reach")
	for text, want := range map[string]string{
		"reach:\n  in: work\n  send: probe it\n  answered: '^x'\n":                                         "the address <<address>> is missing",
		"reach:\n  in: dock\n  send: probe <<address>>\n  answered: '^(\\d+) came'\n":                      `there is no mode "dock"`,
		"reach:\n  in: work\n  send: probe <<address>> <<seconds>>\n  answered: '^(\\d+) came'\n":          "a value in << >> is filled in nowhere here",
		"reach:\n  in: work\n  send: probe <<address>>\n":                                                  "what tells how many answers came back is missing",
		"reach:\n  in: work\n  send: probe <<address>>\n  answered: '^answer'\n":                           "what says that no answer came is missing",
		"reach:\n  in: work\n  send: probe <<address>>\n  answered: '^(\\d+) of (\\d+)'\n":                 "it has 2 groups",
		"reach:\n  in: work\n  send: probe <<address>>\n  answered: '^(\\d+) of'\n  took: 'after .* ms'\n": "it has 0 groups",
	} {
		_, err := Load("tern.yaml", with(text))
		require.ErrorContains(t, err, want, text)
	}
	p, err := Load("tern.yaml", with(""))
	require.NoError(t, err)
	assert.False(t, p.Traits().Reaches)
	assert.True(t, tern(t).Traits().Reaches)
}

func FuzzReach(f *testing.F) {
	f.Add("3 of 4 came back from 192.0.2.1.\nanswer from 192.0.2.1 after 3.5 ms\nCALLED 4 HEARD 4")
	var all []Reach
	for _, file := range []string{"tern", "osier", "plover"} {
		all = append(all, shipped(f, file).Reach)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, r := range all {
			got, err := r.Parse(strings.Split(text, "\n"))
			if err == nil {
				require.GreaterOrEqual(t, got.Answered, 0)
				require.True(t, got.Sent == 0 || got.Answered <= got.Sent)
				require.GreaterOrEqual(t, got.Took, time.Duration(0))
			}
		}
	})
}
