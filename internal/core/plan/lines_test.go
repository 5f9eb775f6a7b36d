package plan

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What cannot be sent, or would prove nothing, is told once for all devices of a
// platform, before the night.
func TestLinesThatCannotBeSent(t *testing.T) {
	with := func(change func(*Traits)) map[string]Traits {
		tr := traits["tern"]
		change(&tr)
		return map[string]Traits{"tern": tr}
	}
	for what, c := range map[string]struct {
		traits map[string]Traits
		want   string
	}{
		"unsendable": {with(func(t *Traits) {
			t.Unsendable = func(l string) string {
				return map[bool]string{true: "it cannot be sent"}[strings.HasPrefix(l, "drop lan")]
			}
		}), `"drop lan 310 on 1": it cannot be sent`},
		"volatile": {with(func(t *Traits) { t.Style.Volatile = []*regexp.Regexp{regexp.MustCompile(`^drop lan`)} }), `"drop lan 310 on 1" is what the profile of tern calls volatile`},
		"never":    {with(func(t *Traits) { t.Never = []*regexp.Regexp{regexp.MustCompile(`^drop lan`)} }), `the profile of tern never lets a runbook send "drop lan 310 on 1"`},
	} {
		_, err := Make(parse(t, book), read(t, six), map[string]string{"lan": "310"}, c.traits, night)
		if assert.ErrorContains(t, err, c.want, what) {
			assert.Equal(t, 1, strings.Count(err.Error(), c.want), err)
		}
	}
}
