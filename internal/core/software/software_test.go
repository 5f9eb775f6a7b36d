package software

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const sum = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"

var platforms = []string{"osier", "tern"}

const catalogue = `tern:
  - version: "4.8"
    file: images/tern-4.8.img
    sha256: ` + sum + `
    from: ["4.2", "4.7*"]
    size: 41943040
  - version: "5.0"
    models: [tern-24]
    file: tern-5.0.img
    sha256: ` + sum + `
    from: ["4.8"]
    restart: 6m
  - version: "5.1"
    file: tern-5.1.img
    sha256: ` + sum + `
    never: it loses its trunks
`

func TestACatalogueIsRead(t *testing.T) {
	c, err := Read("images.yaml", []byte(catalogue), platforms)
	require.NoError(t, err)
	require.Len(t, c["tern"], 3)
	assert.Equal(t, "tern-4.8.img", c["tern"][0].Name())
	assert.Equal(t, []int{2, 7, 13}, []int{c["tern"][0].Line(), c["tern"][1].Line(), c["tern"][2].Line()})
	assert.Len(t, c.Named("/somewhere/tern-5.0.img"), 1)
	assert.Empty(t, c.Named("tern-5.2.img"))
}

// What is wrong in it is told with its place and what to write, all of it at once.
func TestMistakesOfACatalogue(t *testing.T) {
	for name, c := range map[string]struct{ text, at, says, write string }{
		"another platform":       {"ternn:\n  - version: \"5.0\"\n    file: a.img\n    sha256: " + sum, "images.yaml:1", `there is no platform "ternn"`, "tern"},
		"no version":             {"tern:\n  - file: a.img\n    sha256: " + sum, "images.yaml:2", "has no version", "version:"},
		"no version that can be": {"tern:\n  - version: \"5; restart\"\n    file: a.img\n    sha256: " + sum, "images.yaml:2", "cannot be a version", ""},
		"no file":                {"tern:\n  - version: \"5.0\"\n    sha256: " + sum, "images.yaml:2", "has no file", "file: tern-5.0.img"},
		"a file of odd signs":    {"tern:\n  - version: \"5.0\"\n    file: \"a b;.img\"\n    sha256: " + sum, "images.yaml:2", "cannot be named to a device", ""},
		"no checksum":            {"tern:\n  - version: \"5.0\"\n    file: a.img", "images.yaml:2", "has no checksum", "sha256:"},
		"half a checksum":        {"tern:\n  - version: \"5.0\"\n    file: a.img\n    sha256: e3b0", "images.yaml:2", "is no SHA-256", ""},
		"twice":                  {"tern:\n  - version: \"5.0\"\n    file: a.img\n    sha256: " + sum + "\n  - version: \"5.0\"\n    file: b.img\n    sha256: " + sum, "images.yaml:5", "stands there already, on line 2", ""},
		"from itself":            {"tern:\n  - version: \"5.0\"\n    file: a.img\n    sha256: " + sum + "\n    from: [\"5.0\"]", "images.yaml:2", "reached from itself", ""},
		"an unknown word":        {"tern:\n  - version: \"5.0\"\n    file: a.img\n    sha: " + sum, "images.yaml:4", "sha", "one of version"},
		"a list alone":           {"- version: \"5.0\"", "images.yaml:1", "", ""},
		"a number":               {"tern:\n  - version: \"5.0\"\n    file: a.img\n    sha256: " + sum + "\n    size: much", "images.yaml:5", "", ""},
	} {
		_, err := Read("images.yaml", []byte(c.text+"\n"), platforms)
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), c.at, name)
		assert.Contains(t, err.Error(), c.says, name)
		assert.Contains(t, err.Error(), c.write, name)
	}
	c, err := Read("images.yaml", nil, platforms)
	assert.NoError(t, err)
	assert.Empty(t, c)
}

func TestTheWayThere(t *testing.T) {
	c, err := Read("images.yaml", []byte(catalogue), platforms)
	require.NoError(t, err)
	for name, want := range map[string]struct{ model, runs, wanted, way, says string }{
		"one hop":          {"tern-24", "4.8", "5.0", "5.0", ""},
		"two hops":         {"tern-24", "4.2", "5.0", "4.8 5.0", ""},
		"by a pattern":     {"tern-24", "4.7.31", "5.0", "4.8 5.0", ""},
		"there":            {"tern-24", "5.0", "5.0", "", ""},
		"no way":           {"tern-24", "3.9", "5.0", "", "no way leads from 3.9 to 5.0, which can be reached from 4.8 only"},
		"another model":    {"tern-48", "4.8", "5.0", "", "version 5.0 is for the models tern-24, and this one is a tern-48"},
		"no model":         {"", "4.8", "5.0", "", "the fleet has no column model"},
		"known to be bad":  {"tern-24", "4.8", "5.1", "", "is never installed: it loses its trunks"},
		"a slip of a sign": {"tern-24", "4.8", "5.00", "", "has no version 5.00; write: 5.0"},
	} {
		way, err := Way(c["tern"], want.model, want.runs, want.wanted)
		if want.says != "" {
			assert.ErrorContains(t, err, want.says, name)
			continue
		}
		require.NoError(t, err, name)
		var got []string
		for _, i := range way {
			got = append(got, i.Version)
		}
		assert.Equal(t, want.way, strings.Join(got, " "), name)
	}
	_, err = Way(c["osier"], "", "1", "2")
	assert.ErrorContains(t, err, "says of no software")
	assert.Equal(t, 2, Longest(c["tern"], "tern-24", "5.0"), "from 4.7")
}

// Every way leads from each version to the next, ends at what is wanted, passes none twice and none that is
// known to be bad; and none is shorter.
func TestAWayHolds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 7).Draw(t, "versions")
		var images []Image
		for i := range n {
			im := Image{Version: fmt.Sprint(i), File: "f"}
			for _, from := range rapid.SliceOfN(rapid.IntRange(0, n), 0, 3).Draw(t, "from") {
				im.From = append(im.From, fmt.Sprint(from))
			}
			if rapid.IntRange(0, 5).Draw(t, "bad") == 0 {
				im.Never = "bad"
			}
			images = append(images, im)
		}
		runs, wanted := fmt.Sprint(rapid.IntRange(0, n).Draw(t, "runs")), fmt.Sprint(rapid.IntRange(0, n-1).Draw(t, "wanted"))
		way, err := Way(images, "", runs, wanted)
		near := map[string]int{runs: 0} // by another way of reckoning: as many rounds as there are versions
		for range n + 1 {
			for _, i := range images {
				for from, d := range near {
					if known, is := near[i.Version]; i.Never == "" && i.ReachedFrom(from) && (!is || d+1 < known) {
						near[i.Version] = d + 1
					}
				}
			}
		}
		d, reached := near[wanted]
		bad := slices.ContainsFunc(images, func(i Image) bool { return i.Version == wanted && i.Never != "" })
		if err != nil {
			if reached && !bad {
				t.Fatalf("there is a way of %d from %s to %s: %v", d, runs, wanted, err)
			}
			return
		}
		if len(way) != d {
			t.Fatalf("%d hops in place of %d", len(way), d)
		}
		at := runs
		for _, i := range way {
			if i.Never != "" || !i.ReachedFrom(at) {
				t.Fatalf("%s is not reached from %s", i.Version, at)
			}
			at = i.Version
		}
		if at != wanted {
			t.Fatalf("it ends at %s", at)
		}
	})
}

func TestHowSoftwareStands(t *testing.T) {
	assert.True(t, State{Runs: "5.0", Next: "5.0"}.Stands("5.0"))
	assert.False(t, State{Runs: "5.0", Next: "4.8"}.Stands("5.0"))
	assert.False(t, State{Runs: "5.0", Next: "5.0", Trial: true}.Stands("5.0"))
	assert.Equal(t, "runs 5.0 on trial, starts 4.8 next, has 4.8, 5.0", State{Runs: "5.0", Next: "4.8", Has: []string{"4.8", "5.0"}, Trial: true}.String())
	assert.Equal(t, "runs none of what is installed, starts 4.8 next, has 4.8", State{Next: "4.8", Has: []string{"4.8"}}.String())
}

// Whatever stands in a catalogue, reading it ends, and what is read of it can be planned with.
func FuzzRead(f *testing.F) {
	f.Add(catalogue)
	f.Add("tern:\n  - version: 5\n")
	f.Add("tern:\n !x 0")
	f.Add("tern: [{}, {version: x}]\nosier:\n")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := Read("images.yaml", []byte(text), platforms)
		if err != nil {
			return
		}
		for platform, images := range c {
			assert.Contains(t, platforms, platform)
			for _, i := range images {
				assert.True(t, ValidVersion(i.Version))
				assert.Regexp(t, sha256Form, i.SHA256)
				_, _ = Way(images, "", "1", i.Version)
			}
		}
	})
}
