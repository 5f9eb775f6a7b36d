package nights

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// confided is how a platform is told a secret, and has one of its own.
type confided struct {
	typed, match string // up to the secret; and what a fault strikes at
	signs        string // that a secret on it may not have
	first        string // nor begin with
	alone        bool   // it has no way back of its own
	step         string
}

var confiding = map[string]confided{
	"tern": {typed: "login ferry secret ", match: "^login ", step: `step "Login"
  send
    | login ferry secret <<key>>
    | drop login bosun
  undo
    | drop login ferry
`},
	"osier": {typed: "member ferry word ", match: "^member ", signs: ";", step: `step "Login"
  want
    | member ferry word <<key>>
`},
	"skerry":          {match: "member", first: `"'`, step: memberStep},
	"skerry-restconf": {match: "member", first: `"'`, alone: true, step: memberStep},
	"bittern": {match: "contact", first: `"'`, alone: true, step: `step "Login"
  send
    | set system.contact = <<key>>
`},
}

const memberStep = `step "Login"
  send
    | set /skerry:core/member[name='ferry']/word = <<key>>
  undo
    | delete /skerry:core/member[name='ferry']
`

// A secret is typed into devices that break into the line, alter it, quote it back, drop the
// session in its midst, print noise: nowhere are more than four signs of it kept in a row,
// neither of one that was asked for nor of one that stood on the device and is typed when it
// is taken back (law 12). With -nights N, so many values.
func TestDrawnSecretsAreShownNowhere(t *testing.T) {
	const signs = `abcdefghkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"'\&%>$!?/+=;:#-_.,*()[]|@^~`
	kinds := []string{"", sim.BreaksIn, sim.BreaksIn, sim.BreaksIn, sim.Alters, sim.SaysBack, sim.Rejects, sim.Drops, sim.DropsAfter, sim.Garbage, sim.Hangs, sim.Ignores}
	dir, spoken := t.TempDir(), map[string]profile.Set{"": shipped(t), "skerry-restconf": overREST(t)}
	draw := func(rng *rand.Rand) string {
		b := make([]byte, 8+rng.IntN(12))
		for i := range b {
			b[i] = signs[rng.IntN(len(signs))]
		}
		return string(b)
	}
	n := *count
	for i := range n {
		rng := rand.New(rand.NewPCG(*firstSeed, uint64(i)))
		key, own := draw(rng), draw(rng)
		manner := []string{"tern", "tern", "osier", "skerry", "skerry-restconf", "bittern"}[rng.IntN(6)]
		platform, c := strings.TrimSuffix(manner, "-restconf"), confiding[manner]
		if strings.ContainsAny(key+own, c.signs) || strings.ContainsAny(key[:1], c.first) { // which is quoted text there
			continue
		}
		fault := sim.Fault{Kind: kinds[rng.IntN(len(kinds))], Times: rng.IntN(2) + 1}
		typed := c.typed + key
		if platform == "tern" && rng.IntN(3) == 0 {
			typed = "login bosun secret " + own // as it is put back
		}
		if c.typed == "" && (fault.Kind == sim.BreaksIn || fault.Kind == sim.Alters) {
			fault.Kind = sim.SaysBack // nothing is typed
		}
		switch fault.Kind {
		case "":
		case sim.BreaksIn, sim.Alters: // behind any sign of it
			fault.Match = "^" + regexp.QuoteMeta(typed[:len(c.typed)+1+rng.IntN(len(typed)-len(c.typed)-1)]) + "$"
		default:
			fault.Match = c.match
		}
		name := fmt.Sprintf("%d, %s: %q, own %q, %+v", i, manner, key, own, fault)
		synctest.Test(t, func(t *testing.T) {
			spec := sim.Spec{Platform: platform, Config: "name {{.Name}}\ntime source 192.0.2.9 first\nmanage from any\nlogin bosun secret " + own + "\nport 1\n  trunk\nport 3\n  label \"gate\"\n"}
			if fault.Kind != "" {
				spec.Faults = []sim.Fault{fault}
			}
			set, other := spoken[manner]
			if !other {
				set = spoken[""]
			}
			w := simpleOf(t, set, filepath.Join(dir, fmt.Sprint(i)), []sim.Spec{spec}, map[string]string{"key": key}, func(s string) string {
				// What can never be is expected, so that it is taken back.
				s = book(c.step + "  expect    clock.source == \"192.0.2.99\" within 3s\n")(s)
				if c.alone {
					s = strings.NewReplacer("\ntimer       4m\n", "\ntimer none\n", "  saved\n", "").Replace(s)
				}
				return strings.Replace(s, "scope\n", "ask\n  key       secret  \"The key\"\n\nscope\n", 1)
			})
			defer w.sim.Close()
			w.runQuiet()
			if fault.Kind == "" {
				assert.True(t, w.night.Devices[0].Touched, "%s: %s", name, w.night.Devices[0].Note)
				assert.Equal(t, night.Reverted, w.night.Devices[0].State, "%s: %s", name, w.night.Devices[0].Note)
			}
			written := map[string]string{"journal": w.journalText()}
			paths, err := filepath.Glob(filepath.Join(w.dir, "transcripts", "*.log"))
			require.NoError(t, err)
			for _, p := range paths {
				b, err := os.ReadFile(p)
				require.NoError(t, err)
				written[p] = string(b)
			}
			for where, text := range written {
				for _, secret := range []string{key, own} {
					for i := 0; i+5 <= len(secret); i++ {
						if strings.Trim(secret[i:i+5], "0123456789abcdef") == "" {
							continue // it stands in any checksum
						}
						if at := strings.Index(text, secret[i:i+5]); at >= 0 {
							assert.Fail(t, "a secret is kept", "%s: %q in %s: …%s…", name, secret[i:i+5], where, text[max(0, at-80):min(len(text), at+80)])
							break
						}
					}
				}
			}
		})
		if t.Failed() {
			return
		}
	}
}
