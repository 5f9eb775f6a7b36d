package veil

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"html"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// ways are how a value may be written.
var ways = map[string]func(string) string{
	"as it is":       func(s string) string { return s },
	"quoted":         strconv.Quote,
	"ASCII":          strconv.QuoteToASCII,
	"quoted twice":   func(s string) string { return strconv.Quote(strconv.Quote(s)) },
	"query":          url.QueryEscape,
	"path":           url.PathEscape,
	"query twice":    func(s string) string { return url.QueryEscape(url.QueryEscape(s)) },
	"every octet":    func(s string) string { return percents(s, "%%%02X") },
	"in lower case":  func(s string) string { return percents(s, "%%%02x") },
	"JSON":           func(s string) string { b, _ := json.Marshal(s); return string(b) },
	"JSON in JSON":   func(s string) string { b, _ := json.Marshal(s); b, _ = json.Marshal(string(b)); return string(b) },
	"HTML":           html.EscapeString,
	"XML":            func(s string) string { var b strings.Builder; _ = xml.EscapeText(&b, []byte(s)); return b.String() },
	"entities":       func(s string) string { return each(s, func(r rune) string { return fmt.Sprintf("&#%d;", r) }) },
	"hex entities":   func(s string) string { return each(s, func(r rune) string { return fmt.Sprintf("&#x%X;", r) }) },
	"doubled":        func(s string) string { return strings.ReplaceAll(s, `"`, `""`) },
	"doubled single": func(s string) string { return strings.ReplaceAll(s, `'`, `''`) },
	"shell":          func(s string) string { return "'" + strings.ReplaceAll(s, `'`, `'\''`) + "'" },
	"backslashes":    func(s string) string { return each(s, func(r rune) string { return `\` + string(r) }) },
	"a login":        func(s string) string { return base64.StdEncoding.EncodeToString([]byte("crew:" + s)) },
	"base64":         func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) },
	"for addresses":  func(s string) string { return base64.RawURLEncoding.EncodeToString([]byte("ab:" + s + "!")) },
	"hex":            func(s string) string { return hex.EncodeToString([]byte(s)) },
	"cut at the end": func(s string) string { return "login joe secret " + s[:len(s)-1] },
	"cut before":     func(s string) string { return s[1:] + " is no word" },
}

func percents(s, format string) string {
	var b strings.Builder
	for _, c := range []byte(s) {
		fmt.Fprintf(&b, format, c)
	}
	return b.String()
}

func each(s string, f func(rune) string) string {
	var b strings.Builder
	for _, r := range s {
		b.WriteString(f(r))
	}
	return b.String()
}

// However a value is written, four signs of it in a row are not found in what is left, nor
// in what that says once it is read as it was written.
func TestNoWayOfWritingShowsASecret(t *testing.T) {
	signs := rapid.SampledFrom([]rune("abcXYZ0189\"'\\&<>%+/=;:#$!? -_~{}[]()|@,.^*`äß€😀"))
	rapid.Check(t, func(t *rapid.T) {
		value := rapid.StringOfN(signs, 6, 24, -1).Draw(t, "value")
		name := rapid.SampledFrom(slices.Sorted(maps.Keys(ways))).Draw(t, "way")
		text := ways[name](value)
		// What surrounds it is no part of it.
		got := Of(value).Mask("refused: <" + text + "> at 3")
		if strings.HasPrefix(name, "cut") {
			got = Of(value).Mask(text)
		}
		if strings.TrimSpace(value) == "" || len(strings.TrimSpace(value)) < 6 && strings.HasPrefix(name, "cut") {
			return
		}
		if !strings.Contains(got, Mark) {
			t.Fatalf("%s: %q is written %q and left as %q", name, value, text, got)
		}
		for i := 0; i+4 <= len(text); i++ {
			if four := text[i : i+4]; strings.Contains(got, four) && strings.Contains(value, four) && !strings.Contains("refused: <> at 3login joe secret is no word", four) {
				t.Fatalf("%s: %q is written %q, and %q is left in %q", name, value, text, four, got)
			}
		}
	})
}

func TestWhatIsNoSecretStays(t *testing.T) {
	v := Of("harbour-lamp", "deep-fathom")
	for _, text := range []string{
		"", "Cold Harbour", "harbour", "site harbour", "lamp", "deep", "port 3 > lan 310", "https://192.0.2.1/a%20b?c=d&e=f", `a "quoted" \n line`,
		"U2FsdGVkX1+vupppZksvRf5pq5g5XjFRlipRkwB0K1Y=", "aa:bb:cc:dd:ee:ff",
	} {
		assert.Equal(t, text, v.Mask(text))
	}
	assert.Equal(t, "none", (*Veil)(nil).Mask("none"))
	assert.Equal(t, "none", Of("").Mask("none"))
	assert.Equal(t, "a "+Mark+" b", Of("ab", "abcd").Mask("a abcd b"), "the longer of two")
}

// What a line editor had shown of a typed line when it was interrupted is taken out, however
// little of the secret it was; and so is what came behind the interruption.
func TestAnInterruptedEcho(t *testing.T) {
	v := Of("plainhorse9")
	typed := "login joe secret plainhorse9"
	for came, want := range map[string]string{
		"ald-quay-1(work)# login joe secret plainhorse": "ald-quay-1(work)# login joe secret " + Mark,
		"ald-quay-1(work)# login joe secret pl":         "ald-quay-1(work)# login joe secret " + Mark,
		"login joe secret p":                            "login joe secret " + Mark,
		"login joe secret ":                             "login joe secret ",
		"se9":                                           Mark,
		"horse9":                                        Mark,
		"port 3 is up":                                  "port 3 is up",
		"login joe secret unlike":                       "login joe secret unlike",
	} {
		assert.Equal(t, want, v.Typed(typed, came), came)
	}
}

func BenchmarkMask(b *testing.B) {
	v := Of("harbour-lamp", "deep-fathom", "slow-turnstile")
	text := strings.Repeat("port 3\n  lan 310\n  label \"gate at 50 % & more\"\n", 200)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		v.Mask(text)
	}
}
