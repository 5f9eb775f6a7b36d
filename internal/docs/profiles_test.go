package docs

import (
	"os"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/device/profile"
	"metabasis/internal/device/tree"
	"metabasis/profiles"
)

// What docs/profiles.md shows of a profile can be said in one.
func TestProfileSnippets(t *testing.T) {
	shipped, err := profiles.Sources()
	require.NoError(t, err)
	for kind, head := range map[string]string{"yaml-keys": "platform: x\nlike: tern\n", "yaml-lines": "platform: x\nlike: bird\n", "yaml-also": "platform: x\nlike: bird\n",
		"yaml-pager": "platform: x\nlike: tern\n", "yaml-like": "", "yaml-language": "platform: x\nlike: tern\n"} {
		for _, b := range blocks(t, "docs/profiles.md", kind) {
			p, err := profile.Sources{Shipped: shipped}.Load(profile.Source{File: "x.yaml", Data: []byte(head + b)})
			require.NoError(t, err, kind)
			switch kind {
			case "yaml-keys":
				assert.NotEmpty(t, p.Unsendable("a\x1ab"))
				assert.Empty(t, p.Unsendable("a?\tb"))
			case "yaml-language":
				assert.Len(t, p.Language().Rules, 9)
			case "yaml-also":
				assert.Len(t, p.Config.Also, 1)
			case "yaml-lines":
				assert.Len(t, p.Lines, 3)
			}
		}
	}
}

// Paths and lines of a change that are shown are those of a skerry.
func TestPathsShown(t *testing.T) {
	set, err := profiles.Shipped()
	require.NoError(t, err)
	p := set["skerry"]
	root, err := tree.Parse(blocks(t, "docs/profiles.md", "text-tree")[0], p.Schema())
	require.NoError(t, err)
	text, err := root.Text(p.Schema())
	require.NoError(t, err)
	assert.Equal(t, strings.TrimSpace(blocks(t, "docs/profiles.md", "text-tree")[0]), strings.TrimSpace(text))
	for line := range strings.Lines(blocks(t, "docs/profiles.md", "text-changes")[0]) {
		assert.Empty(t, p.Unsendable(strings.TrimSpace(line)), line)
	}
}

// What can be proven of a tern is what the table shows.
func TestClaimsShown(t *testing.T) {
	set, err := profiles.Shipped()
	require.NoError(t, err)
	shown := strings.Join(strings.Fields(blocks(t, "docs/profiles.md", "text-claims")[0]), " ")
	for _, c := range set["tern"].Claims() {
		assert.Contains(t, shown, c.What)
		assert.Contains(t, shown, c.How)
	}
}

// Every key that a profile can have is in the table, and no other.
func TestEveryKeyIsDocumented(t *testing.T) {
	doc, err := os.ReadFile(root + "docs/profiles.md")
	require.NoError(t, err)
	_, table, found := strings.Cut(string(doc), "## Every key")
	require.True(t, found)
	have := map[string]bool{}
	for line := range strings.Lines(table) {
		cells := strings.Split(line, "|")
		if len(cells) < 3 || !strings.HasPrefix(line, "| `") {
			continue
		}
		for _, key := range strings.Split(cells[1], ",") {
			have[strings.Trim(key, " `")] = true
		}
		assert.NotEmpty(t, strings.TrimSpace(cells[2]), line)
	}
	want := map[string]bool{}
	keysOf(reflect.TypeFor[profile.Profile](), "", want)
	assert.Greater(t, len(want), 70)
	for k := range want {
		assert.True(t, have[k], "%s is not documented", k)
	}
	for k := range have {
		assert.True(t, want[k] || k == "modes" || k == "readers" || k == "readers.*.columns", "%s is no key", k)
	}
}

// keysOf finds the keys below a type. A command is one key: what it has is the same
// everywhere.
func keysOf(t reflect.Type, path string, out map[string]bool) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, opts, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		at, ft := strings.TrimPrefix(path+"."+name, "."), f.Type
		switch {
		case name == "" && opts == "", name == "-":
			continue
		case opts == "inline" && ft != reflect.TypeFor[profile.Command]():
			keysOf(ft, path, out)
			continue
		case opts == "inline":
			continue
		}
		switch ft.Kind() {
		case reflect.Map:
			if ft = ft.Elem(); ft.Kind() != reflect.Struct { // its keys are names of the profile's own
				out[at] = true
				continue
			}
			at += ".*"
		case reflect.Slice:
			ft = ft.Elem()
			out[at] = true
			at += "[]"
		}
		switch {
		case ft.Kind() == reflect.Struct && ft != reflect.TypeFor[profile.Pattern]() && ft != reflect.TypeFor[profile.Command]():
			if at == "restore" || at == "restart" || at == "reach" || at == "lines[].status" {
				out[at] = true
			}
			keysOf(ft, at, out)
		case !strings.HasSuffix(at, "[]"):
			out[at] = true
		}
	}
}
