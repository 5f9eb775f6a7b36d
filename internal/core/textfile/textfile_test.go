package textfile

import (
	"metabasis/internal/core/problem"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wide writes text as UTF-16, little end first, behind its mark.
func wide(text string) []byte {
	out := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(text)) {
		out = append(out, byte(u), byte(u>>8))
	}
	return out
}

func narrowEnd(b []byte) []byte {
	out := make([]byte, len(b))
	for i := 0; i+1 < len(b); i += 2 {
		out[i], out[i+1] = b[i+1], b[i]
	}
	return out
}

func TestTextIsTakenAsItIsMeant(t *testing.T) {
	const want = "name,ålder\nquay ⚓\n"
	for name, data := range map[string][]byte{
		"plain":       []byte(want),
		"mark":        []byte("\xef\xbb\xbf" + want),
		"crlf":        []byte(strings.ReplaceAll(want, "\n", "\r\n")),
		"mark, crlf":  []byte("\xef\xbb\xbf" + strings.ReplaceAll(want, "\n", "\r\n")),
		"cr":          []byte(strings.ReplaceAll(want, "\n", "\r")),
		"utf-16":      wide(want),
		"utf-16 crlf": wide(strings.ReplaceAll(want, "\n", "\r\n")),
		"utf-16 be":   narrowEnd(wide(want)),
	} {
		got, err := Decode("x", data)
		require.NoError(t, err, name)
		assert.Equal(t, want, string(got), name)
	}
}

func TestWhatIsNoTextIsOneError(t *testing.T) {
	for data, want := range map[string]string{
		"a\x00b":           "this is no text: byte 2 is zero",
		"ok\nbad\xff\n":    "x:2: this is not UTF-8 text",
		"\xff\xfea":        "half a character at its end",
		"\x7fELF\x02\x00a": "this is no text",
	} {
		_, err := Decode("x", []byte(data))
		require.ErrorContains(t, err, want)
		assert.Len(t, strings.Split(err.Error(), "\n"), 1)
	}
}

func TestNothingIsReadWithoutABound(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "big")
	require.NoError(t, os.WriteFile(path, make([]byte, Small+1), 0o600))
	_, err := Read(path, Small)
	assert.ErrorContains(t, err, "this file is larger than 1 MB")
	_, err = Read("/dev/zero", Small)
	assert.ErrorContains(t, err, "this file is larger than 1 MB")
	_, err = Read(dir, Small)
	assert.ErrorContains(t, err, "this is a directory")
	_, err = Read(filepath.Join(dir, "none"), Small)
	assert.ErrorIs(t, err, os.ErrNotExist)
	pipe := filepath.Join(dir, "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	got, err := Read(pipe, Small) // nobody writes: it must not wait
	assert.NoError(t, err)
	assert.Empty(t, got)
}

func TestYAMLIsBounded(t *testing.T) {
	bomb := "a: &a [x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c <= 'j'; c++ {
		bomb += strings.ReplaceAll(string(c)+": &"+string(c)+" [*P,*P,*P,*P,*P,*P,*P,*P,*P]\n", "P", string(c-1))
	}
	for name, c := range map[string]struct{ data, want string }{
		"bomb":     {bomb, "x.yaml:1:4: anchors and aliases are not taken"},
		"merge":    {"a: 1\nb:\n  <<: {c: 1}\n", "anchors and aliases are not taken"},
		"brackets": {strings.Repeat("[", 5000) + strings.Repeat("]", 5000), "5000 levels on one line"},
		"dashes":   {strings.Repeat("- ", 5000) + "a", "5000 levels on one line"},
		"line":     {"a: " + strings.Repeat("x", maxLine), "a line of"},
		"levels":   {stairs(50), "more than 32 levels"},
		"broken":   {"a: [", "x.yaml"},
		"unknown":  {"b: 1", "unknown field"},
	} {
		var v struct{ A any }
		_, err := YAML("x.yaml", []byte(c.data), &v, false)
		assert.ErrorContains(t, err, c.want, name)
	}
	var v struct{ A int }
	_, err := YAML("x.yaml", []byte("a: 3\n"), &v, false)
	require.NoError(t, err)
	assert.Equal(t, 3, v.A)
	_, err = YAML("x.yaml", []byte("a: 4\nb: 1\n"), &v, true)
	require.NoError(t, err)
	assert.Equal(t, 4, v.A)
}

// A name that is one letter off is told as the one that was meant; any other, as what
// there is to choose from, at the level where it stands.
func TestANameThatIsNotThereIsToldWithThoseThatAre(t *testing.T) {
	type part struct {
		Match string `yaml:"match"`
		Times int    `yaml:"times"`
	}
	type Shared struct {
		Port int `yaml:"port"`
	}
	type file struct {
		Shared `yaml:",inline"`
		Name   string            `yaml:"name"`
		Parts  []*part           `yaml:"parts"`
		By     map[string][]part `yaml:"by"`
		Never  string            `yaml:"-"`
	}
	for given, want := range map[string]string{
		"nme: x":                               "name",
		"role: x":                              "one of port, name, parts, by",
		"parts:\n  - match: x\n    tims: 3":    "times",
		"parts: [{match: x}, {kind: drops}]":   "one of match, times",
		"by:\n  quays:\n    - {kind: drops}":   "one of match, times",
		"port: 1\nparts: []\nby: {}\nother: 1": "one of port, name, parts, by",
	} {
		var v file
		_, err := YAML("x.yaml", []byte(given), &v, false)
		var list problem.List
		require.ErrorAs(t, err, &list, given)
		assert.Equal(t, want, list[0].Hint, given)
	}
}

func stairs(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	return b.String()
}

func FuzzYAML(f *testing.F) {
	f.Add([]byte("a: 1\n"))
	f.Add([]byte("- - - {a: [b, *c]}\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		text, err := Decode("f", data)
		if err != nil {
			return
		}
		var v any
		_, _ = YAML("f", text, &v, true)
	})
}
