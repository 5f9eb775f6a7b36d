package nights

import (
	"context"
	"maps"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// mistakes are ways in which a person gets a profile wrong in one place: what a
// pattern fits in the text, and what stands there instead. A "$RUNNING" is what
// prints what runs, and so on.
var mistakes = map[string][2]string{
	"refusals never fit":            {`refused: \['.*'\]`, `refused: ['^zzyzx$']`},
	"everything is harmless":        {`(?m)^pace:`, "harmless: ['']\npace:"},
	"chatter is a refusal":          {`(?m)^harmless: .*$`, ``},
	"it is said to echo":            {`echo: no`, `echo: yes`},
	"it is said not to echo":        {`echo: yes`, `echo: no`},
	"nothing is said of its echo":   {`  echo: \w+\n`, ``},
	"keys are not quoted":           {`(?m)^quote: .*$`, ``},
	"keys are not known":            {`(?m)^  unsendable: .*$`, ``},
	"no status is asked":            {`lines:\n.*\n`, ``},
	"every status is good":          {`good: '.*'`, `good: ''`},
	"every answer is done":          {`done: '[^']*'`, `done: ''`},
	"what runs is what is saved":    {`running: .*`, `running: {in: $TOP, send: $SAVED}`},
	"what is saved is what runs":    {`  saved: .*`, `  saved: {in: $TOP, send: $RUNNING}`},
	"the end is another":            {`end: '\^= end =\$'`, `end: '^= END =$'`},
	"all of it is volatile":         {`(?m)^  edit: (.*)$`, "  edit: $1\n  volatile: ['']"},
	"some of it is volatile":        {`(?m)^  edit: (.*)$`, "  edit: $1\n  volatile: ['^log ']"},
	"the layout is flat":            {`layout: indented`, `layout: flat`},
	"order has a meaning":           {`layout: indented`, "layout: indented\n  ordered: true"},
	"it saves by looking":           {`save: \{in: (\w+), .*`, `save: {in: $1, send: $CLOCK}`},
	"it saves by another word":      {`save: \{in: (\w+), .*`, `save: {in: $1, send: zzyzx}`},
	"it arms by looking":            {`arm: \{in: (\w+), .*`, `arm: {in: $1, send: $CLOCK}`},
	"it disarms by looking":         {`disarm: \{in: (\w+), .*`, `disarm: {in: $1, send: $CLOCK}`},
	"nothing is ever due":           {`pending: '.*'`, `pending: '^ZZ(?P<seconds>\d+)$'`},
	"anything means nothing is due": {`none: '\^Nothing.*'`, `none: ''`},
	"a restart takes no time":       {`boot: 20s`, `boot: 1s`},
	"it restores by another end":    {`end: '(that is all|== over ==)'`, `end: 'enough of it'`},
	"it restores by looking":        {`restore: \{in: (\w+), send: '[^']*', ready: '[^']*'`, `restore: {in: $1, send: $RUNNING, ready: '^name '`},
	"it restores and does not look": {`, done: '\^It is so\\.\$'\}\n\ntimer`, "}\n\ntimer"},
	"prompts tell no name":          {`\(\?P<host>\\S\+\)`, `\S+`},
	"edit mode is another":          {`(?m)^  edit: .*$`, `  edit: look`},
	"edit mode lasts":               {`(?m)^  edit: (.*)$`, "  edit: $1\n  lasts: true"},
	"it stops elsewhere":            {`more: '.*'`, `more: '^zzyzx$'`},
	"it goes on with another key":   {`next: '.'`, `next: 'x'`},
	"a line that goes on is lost":   {`(?m)^continued: .*$`, ``},
	"the clock is another":          {`time: \{type: time, match: '\^time`, `time: {type: time, match: '^zeit`},
	"an offset must be":             {`, optional: true`, ``},
	"nobody near is a refusal":      {`(?m)^    none: .*$`, ``},
	"a prompt takes no time":        {`prompt_within: 30s`, `prompt_within: 1s`},
}

// mislead makes a mistake in a profile; it is false where there is no place for it.
func mislead(m sim.Manners, text, mistake string) (string, bool) {
	q := func(word string) string { return "'" + strings.ReplaceAll(m.Words[word], "'", "''") + "'" }
	top := regexp.MustCompile(`running: \{in: (\w+),`).FindStringSubmatch(text)[1]
	re := regexp.MustCompile(mistakes[mistake][0])
	at := re.FindStringSubmatchIndex(text)
	if at == nil {
		return text, false
	}
	with := strings.NewReplacer("$TOP", top, "$SAVED", q("saved"), "$RUNNING", q("running"), "$CLOCK", q("clock")).Replace(mistakes[mistake][1])
	with = regexp.MustCompile(`\$([^1]|$)`).ReplaceAllString(with, "$$$$$1")
	out := text[:at[0]] + string(re.ExpandString(nil, with, text, at)) + text[at[1]:]
	if mistake == "what runs is what is saved" && !m.Tells {
		return text, false
	}
	return out, out != text
}

// TestMisled runs the same nights with a profile that is wrong in one place: no
// device is ever kept, reverted or already, in words, that is not in truth; and
// the mistake is named by the check of the profile, by trying it, or by a night
// that does not go on.
func TestMisled(t *testing.T) {
	names := slices.Sorted(maps.Keys(mistakes))
	var mu sync.Mutex
	named := map[string]map[string]int{}
	t.Run("nights", func(t *testing.T) {
		eachSeed(t, func(t *testing.T, seed uint64, dir string) {
			rng := rand.New(rand.NewPCG(seed, 11))
			m := sim.DrawManners(rng)
			mistake := names[rng.IntN(len(names))]
			text, ok := mislead(m, m.Profile(), mistake)
			for !ok {
				m = sim.DrawManners(rng)
				text, ok = mislead(m, m.Profile(), mistake)
			}
			by := misledNight(t, rng, m, text, dir)
			if t.Failed() {
				t.Log("the mistake: " + mistake)
			}
			mu.Lock()
			defer mu.Unlock()
			if named[mistake] == nil {
				named[mistake] = map[string]int{}
			}
			named[mistake][by]++
		})
	})
	for _, name := range names {
		t.Logf("%-32s %v", name, named[name])
	}
}

// misledNight tells what named the mistake: check, try, the night, or nothing.
func misledNight(t *testing.T, rng *rand.Rand, m sim.Manners, text, dir string) string {
	p, err := profile.Load("dunlin.yaml", []byte(text))
	if err != nil {
		return "check"
	}
	bad := tryDunlin(t, m, p)
	w := drawnNight(t, rng, m, text, 0.2, true, dir)
	switch {
	case w == nil:
		return "check"
	case len(bad) > 0:
		return "try"
	case slices.ContainsFunc(w.night.Devices, func(d *night.Device) bool { return d.State != night.Kept && d.State != night.Already }):
		return "night"
	}
	return "nothing, and all was true"
}

// tryDunlin tries a profile on a device with manners, and tells what is not well.
func tryDunlin(t *testing.T, m sim.Manners, p *profile.Profile) (found []string) {
	f, err := sim.New(sim.Scenario{Manners: &m, Logins: map[string]string{"crew": password}, Operator: operator, Config: baseConfig, TimeSources: []string{"192.0.2.9"},
		Devices: []sim.Spec{{Name: "ald-9", Address: "192.0.2.99", Platform: "dunlin"}}})
	require.NoError(t, err)
	defer f.Close()
	w := &world{t: t, sim: f, dir: t.TempDir(), profiles: profile.Set{"dunlin": p}}
	c := w.connector()
	bad, err := c.Try(context.Background(), fleet.Device{Name: "ald-9", Address: "192.0.2.99", Platform: "dunlin", Login: "crew"}, true, func(f lines.Finding) {
		if f.Not != "" {
			found = append(found, f.Line+": "+f.Not)
		}
	})
	assert.Len(t, found, bad)
	assert.NoError(t, err)
	assert.NoError(t, w.scripts.Close())
	return found
}
