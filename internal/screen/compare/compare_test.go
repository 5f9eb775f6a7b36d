package compare

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/config"
	"metabasis/internal/core/record"
	"metabasis/internal/screen"
	"metabasis/internal/screen/screentest"
)

func TestOutliersStandFirst(t *testing.T) {
	var all []record.Differing
	for i := range 22 {
		all = append(all, record.Differing{Device: fmt.Sprintf("ald-quay-%d", i+1), Config: []string{"+ log host 198.51.100.14"}, Predicted: []string{"+ log host 198.51.100.14"}})
	}
	all = append(all, record.Differing{Device: "brm-quay-4", Changes: []record.Change{{Table: "neighbours", Row: "port 3", What: "is gone", Kind: record.Gone}}},
		record.Differing{Device: "brm-quay-5", Changes: []record.Change{{Table: "device", What: "could not be read: refused", Kind: record.Unknown}}})
	var opened []string
	s := screentest.Open(t, 140, 30, NewGroups(Source{A: "before night 7", B: "after it", Note: "1 device not compared: 1 blocked", Devices: all,
		Open: func(_ *screen.Host, device string) { opened = append(opened, device) }}))
	text := s.See(`▪ 24 devices: 23 different, 1 cannot be told; 1 in a way that nobody predicted`)
	assert.Contains(t, text, "1 device not compared")
	unknown, odd, predicted := strings.Index(text, "could not be read"), strings.Index(text, "neighbours: port 3 is gone"), strings.Index(text, "+ log host")
	assert.True(t, unknown < odd && odd < predicted, "what nobody knows, what nobody predicted, what was predicted")
	s.Press("end", "enter")
	s.See(`22 devices  \+ log host`)
	s.Press("/", "1", "7", "enter", "enter")
	assert.Equal(t, []string{"ald-quay-17"}, opened)
	s.Press("esc", "home", "down", "enter")
	s.See("What is different on brm-quay-4")
}

func two(a, b string) Two {
	style := config.Style{Layout: "indented"}
	return Two{A: "then", B: "now", Tree: config.Differing(config.Parse(a, style), config.Parse(b, style)), TextA: a, TextB: b}
}

// However it is shown, the same lines are different; what is the same is folded, and the
// next difference is one key away.
func TestTwoConfigurations(t *testing.T) {
	a := "name a\n" + strings.Repeat("log host 1\n", 1) + "port 1\n  lan 10\n  label \"x\"\nport 2\n  lan 10\nport 3\n  trunk\n"
	b := strings.Replace(strings.Replace(a, "label \"x\"", "label \"y\"", 1), "  trunk", "  lan 20", 1)
	s := screentest.Open(t, 120, 30, NewTree(two(a, b)))
	text := s.See(`- 2 lines   \+ 2 lines   as a tree`)
	assert.Contains(t, text, "… 2 lines the same")
	assert.NotContains(t, text, "port 2")
	s.See(`▌-   label "x"`)
	s.Press("!")
	s.See(`▌-   trunk`)
	s.Press("!")
	s.See(`▌-   label "x"`)
	s.Press("f")
	s.See("port 2")
	s.Press("home", "down", "down", "enter")
	s.See(`port 1  … 3 below, 2 different`)
	s.Press("enter", "v")
	text = s.See("side by side")
	assert.Regexp(t, `lan 10 +  +lan 10`, text)
	s.Press("v", "f")
	text = s.See("as lines")
	for _, l := range []string{`-  label "x"`, `+  label "y"`, `-  trunk`, `+  lan 20`} {
		assert.Contains(t, text, l)
	}
	s.Press("/", "t", "r", "u", "n", "k", "enter")
	s.See(`▌-  trunk`)
}

func TestEqualConfigurations(t *testing.T) {
	s := screentest.Open(t, 100, 20, NewTree(two("name a\n", "name a\n")))
	s.See("● equal")
	s.Press("!")
	s.See("nothing is different")
	s.Press("enter")
	s.See("no section begins here")
	assert.NotPanics(t, func() { s.Press("v", "v", "v", "f", "f", "end", "!") })
}
