package config

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var treeStyle = Style{Layout: "flat"}

var trees = &Language{Tree: true, Style: treeStyle}

// drawnTree is a configuration as a device tells it: an entry has a line of its own.
func drawnTree(t *rapid.T, label string) Config {
	var lines []string
	if v := rapid.SampledFrom([]string{"", "a", "b c", `"x"`}).Draw(t, label+" name"); v != "" {
		lines = append(lines, "/sys:system/name = "+v)
	}
	for _, key := range []string{"a", "b/c", "d]", "e=f"} {
		if !rapid.Bool().Draw(t, label+" "+key) {
			continue
		}
		entry := fmt.Sprintf("/if:ports/port[name='%s']", key)
		lines = append(lines, entry)
		if rapid.Bool().Draw(t, label+" on "+key) {
			lines = append(lines, entry+"/on = "+rapid.SampledFrom([]string{"true", "false"}).Draw(t, label+" is "+key))
		}
		for _, in := range []string{"1", "2"} {
			if rapid.Bool().Draw(t, label+" in "+key+in) {
				lines = append(lines, entry+"/in[n='"+in+"'][m='x']")
				if rapid.Bool().Draw(t, label+" with "+key+in) {
					lines = append(lines, entry+"/in[n='"+in+"'][m='x']/mtu = 9"+in)
				}
			}
		}
	}
	for _, word := range []string{"x", "y z"} {
		if rapid.Bool().Draw(t, label+" word "+word) {
			lines = append(lines, "/sys:system/word[.='"+word+"']")
		}
	}
	return Parse(strings.Join(lines, "\n")+"\n", treeStyle)
}

// The lines that are found lead there; none lead from a tree to itself.
func TestLinesLeadFromTreeToTree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		from, to := drawnTree(t, "from"), drawnTree(t, "to")
		lines, err := trees.Lead(from, to)
		require.NoError(t, err)
		after, err := trees.Predict(from, lines)
		require.NoError(t, err)
		assert.True(t, Equal(to, after), "%v leaves %v", lines, Compare(to, after))
		none, err := trees.Lead(to, after)
		require.NoError(t, err)
		assert.Empty(t, none)
		assert.LessOrEqual(t, len(lines), len(from.Lines)+len(to.Lines))
	})
}

func TestWhatLinesMakeOfATree(t *testing.T) {
	before := Parse("/sys:system/name = a\n/if:ports\n/if:lans/lan[n='1']\n/if:lans/lan[n='1']/title = x\n", treeStyle)
	for line, want := range map[string]string{
		"set /sys:system/name = b":                         "/sys:system/name = b|/if:ports|/if:lans/lan[n='1']|/if:lans/lan[n='1']/title = x",
		"set /if:ports/port[name='a/b']/on = true":         "/sys:system/name = a|/if:lans/lan[n='1']|/if:lans/lan[n='1']/title = x|/if:ports/port[name='a/b']|/if:ports/port[name='a/b']/on = true",
		"set /if:lans/lan[n='1']":                          "/sys:system/name = a|/if:ports|/if:lans/lan[n='1']|/if:lans/lan[n='1']/title = x",
		"delete /if:lans/lan[n='1']":                       "/sys:system/name = a|/if:ports",
		"delete /if:lans":                                  "/sys:system/name = a|/if:ports",
		"delete /if:lans/lan[n='1']/title":                 "/sys:system/name = a|/if:ports|/if:lans/lan[n='1']",
		"delete /if:lans/lan":                              "!it is not there to delete",
		"delete /sys:system/name = a":                      "!something else than = and a value",
		"set name = a":                                     "!it has no path",
		"<system/>":                                        "!neither set nor delete",
		"set /sys:system/name is a":                        "!something else than = and a value",
		"set /if:ports/port[name=\"a'] \\\" = b\"]/on = 1": "/sys:system/name = a|/if:lans/lan[n='1']|/if:lans/lan[n='1']/title = x|/if:ports/port[name=\"a'] \\\" = b\"]|/if:ports/port[name=\"a'] \\\" = b\"]/on = 1",
	} {
		after, err := trees.Predict(before, []string{line})
		if why, bad := strings.CutPrefix(want, "!"); bad {
			assert.ErrorContains(t, err, why, line)
			continue
		}
		require.NoError(t, err, line)
		assert.ElementsMatch(t, strings.Split(want, "|"), after.Paths(), line)
	}
}

func TestWhatIsWantedOfATree(t *testing.T) {
	before := Parse("/sys:system/name = a\n/if:lans/lan[n='1']\n/if:lans/lan[n='1']/title = x\n/if:lans/lan[n='2']\n", treeStyle)
	lines := func(texts ...string) (out []Line) {
		for _, t := range texts {
			out = append(out, Line{Text: t})
		}
		return out
	}
	after, err := trees.Wanted(before, Want{Lines: lines("/if:lans/lan[n='3']/title = z", "/sys:system/name = b"), Gone: lines("/sys:system/word"), NoOther: []string{"/if:lans/lan[n='*']"}})
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"/sys:system/name = b", "/if:lans/lan[n='3']", "/if:lans/lan[n='3']/title = z"}, after.Paths())
	after, err = trees.Wanted(before, Want{Lines: lines("/if:lans/lan[n='1']/title = x"), NoOther: []string{"/if:lans/lan[n='*']/title"}})
	require.NoError(t, err)
	assert.True(t, Equal(before, after), "what is wanted is no other")
	after, err = trees.Wanted(before, Want{NoOther: []string{"/if:lans/lan[n='1']/title = *"}})
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"/sys:system/name = a", "/if:lans/lan[n='1']", "/if:lans/lan[n='2']"}, after.Paths())
	_, err = trees.Predict(before, []string{"set /sys:system/name = b", "delete /sys:none"})
	var wrong *Wrong
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, 2, wrong.Number)
	_, err = trees.Wanted(before, Want{Lines: lines("/sys:system/name = b", "/sys:system/name = c")})
	assert.ErrorContains(t, err, "cannot be so together")
	for why, w := range map[string]Want{
		"write PATH = VALUE":         {Lines: lines("name a")},
		"a tree has no sections":     {Lines: []Line{{Text: "/a:b", Under: lines("c")}}},
		"a path, without a value":    {Gone: lines("/a:b = c")},
		"is wanted, and shall be go": {Lines: lines("/a:b/c = 1"), Gone: lines("/a:b")},
		"it is no path of a tree":    {NoOther: []string{"lan *"}},
	} {
		assert.Contains(t, strings.Join(trees.Refuses(w), "; "), why)
	}
	assert.Empty(t, trees.Refuses(Want{Lines: lines("/a:b/c = 1"), Gone: lines("/a:d"), NoOther: []string{"/a:*"}}))
}

// Any text is read as lines of a tree without harm, and what is found leads there.
func FuzzTree(f *testing.F) {
	f.Add("/a:b = c\n/a:l[k='v']\n", "/a:l[k='v']/x = 1\n", "delete /a:l[k='v']")
	f.Fuzz(func(t *testing.T, from, to, line string) {
		a, b := Parse(from, treeStyle), Parse(to, treeStyle)
		_, _ = trees.Predict(a, strings.Split(line, "\n"))
		lines, err := trees.Lead(a, b)
		if err != nil {
			return
		}
		after, err := trees.Predict(a, lines)
		if err != nil || !Equal(b, after) {
			t.Fatalf("%q does not lead from %q to %q", lines, from, to)
		}
	})
}

// Of a tree only what sets or deletes can be taken back.
func TestWhatOfATreeLeadsBack(t *testing.T) {
	l := &Language{Tree: true}
	assert.NoError(t, l.LeadsBack([]string{"set /a/b = c", "delete /a/b"}))
	err := l.LeadsBack([]string{"set /a/b = c", "call /a/reset"})
	var wrong *Wrong
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, 2, wrong.Number)
}
