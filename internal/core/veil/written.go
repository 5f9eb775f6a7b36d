package veil

import (
	"encoding/base64"
	"encoding/hex"
	"html"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// A text may have to be read in one way, or in one way after another, before a secret is seen
// in it: JSON in JSON, an address in a header. So it is read in each way that its signs allow,
// up to three deep, and what was found is taken out of the text as it stands.

// deepest is how many ways of writing are unwound, one after the other.
const deepest = 3

// read is a text as it was read, with the places where its bytes stand in the text that came.
type read struct {
	text string
	at   []int // one more than bytes: where each begins, and where the last one ends
}

// way reads one sign at a place of a text: what it stands for, and how many bytes it takes;
// 0 where it stands for itself.
type way struct {
	signs string // what a text holds at least one of, where it is written so
	read  func(s string, i int) (sign string, n int)
}

var (
	backslashed = way{`\`, backslash}
	percented   = way{`%`, percent}
	inForms     = way{`%+`, form}
	entities    = way{`&`, entity}
)

// doubled are the signs that may stand twice where one is meant: each is a way of its own.
const doubled = `'"%$`

// spans are the places in a text where a value stands, however it is written.
func spans(text string, values []string, ways []way) (out [][2]int) {
	unwind(read{text: text}, values, ways, deepest, &out)
	return out
}

func unwind(r read, values []string, ways []way, left int, out *[][2]int) {
	if r.at != nil { // else it was looked through as it stands
		for _, v := range values {
			for from := 0; ; {
				i := strings.Index(r.text[from:], v)
				if i < 0 {
					break
				}
				*out = append(*out, [2]int{r.at[from+i], r.at[from+i+len(v)]})
				from += i + len(v)
			}
		}
	}
	if left == 0 {
		return
	}
	for _, w := range ways {
		if !strings.ContainsAny(r.text, w.signs) {
			continue
		}
		if next, is := r.readBy(w); is {
			unwind(next, values, ways, left-1, out)
		}
	}
}

// readBy reads it in one more way; false where nothing is written so.
func (r read) readBy(w way) (next read, is bool) {
	first := -1
	for i := 0; i < len(r.text); i++ {
		if strings.IndexByte(w.signs, r.text[i]) < 0 {
			continue
		}
		if _, n := w.read(r.text, i); n > 0 {
			first = i
			break
		}
	}
	if first < 0 {
		return r, false
	}
	place := func(i int) int {
		if r.at == nil {
			return i
		}
		return r.at[i]
	}
	var b strings.Builder
	next.at = make([]int, 0, len(r.text)+1)
	for i := 0; i < len(r.text); {
		sign, n := "", 0
		if i >= first && strings.IndexByte(w.signs, r.text[i]) >= 0 {
			sign, n = w.read(r.text, i)
		}
		if n == 0 {
			sign, n = r.text[i:i+1], 1
		}
		for range len(sign) {
			next.at = append(next.at, place(i))
		}
		b.WriteString(sign)
		i += n
	}
	next.text, next.at = b.String(), append(next.at, place(len(r.text)))
	return next, true
}

// backslash reads the escapes of JSON (RFC 8259, section 7), Go and C.
func backslash(s string, i int) (string, int) {
	if i+1 >= len(s) || s[i] != '\\' {
		return "", 0
	}
	number := func(from, n, base int) (rune, bool) {
		if from+n > len(s) {
			return 0, false
		}
		v, err := strconv.ParseUint(s[from:from+n], base, 32)
		return rune(v), err == nil
	}
	switch c := s[i+1]; c {
	case 'u':
		if strings.HasPrefix(s[i+2:], "{") {
			if end := strings.IndexByte(s[i+2:], '}'); end > 1 && end < 9 {
				if v, ok := number(i+3, end-1, 16); ok {
					return string(v), end + 3
				}
			}
		}
		v, ok := number(i+2, 4, 16)
		if !ok {
			break
		}
		if utf16.IsSurrogate(v) && strings.HasPrefix(s[i+6:], `\u`) {
			if low, ok := number(i+8, 4, 16); ok {
				return string(utf16.DecodeRune(v, low)), 12
			}
		}
		return string(v), 6
	case 'U':
		if v, ok := number(i+2, 8, 16); ok {
			return string(v), 10
		}
	case 'x':
		if v, ok := number(i+2, 2, 16); ok {
			return string([]byte{byte(v)}), 4
		}
	case 'n', 'r', 't':
		return map[byte]string{'n': "\n", 'r': "\r", 't': "\t"}[c], 2
	}
	if v, ok := number(i+1, 3, 8); ok && v < 256 {
		return string([]byte{byte(v)}), 4
	}
	_, n := utf8.DecodeRuneInString(s[i+1:])
	return s[i+1 : i+1+n], 1 + n
}

// form reads what forms of the web have, where a blank is a plus.
func form(s string, i int) (string, int) {
	if s[i] == '+' {
		return " ", 1
	}
	return percent(s, i)
}

// percent reads what addresses of the web have (RFC 3986, section 2.1).
func percent(s string, i int) (string, int) {
	if i+3 > len(s) || s[i] != '%' {
		return "", 0
	}
	v, err := strconv.ParseUint(s[i+1:i+3], 16, 8)
	if err != nil {
		return "", 0
	}
	return string([]byte{byte(v)}), 3
}

// entity reads what XML and HTML have.
func entity(s string, i int) (string, int) {
	end := strings.IndexByte(s[i:min(len(s), i+12)], ';')
	if end < 0 {
		return "", 0
	}
	if sign := html.UnescapeString(s[i : i+end+1]); sign != s[i:i+end+1] {
		return sign, end + 1
	}
	return "", 0
}

// double reads signs that stand twice where one is meant, and what a shell has for an
// apostrophe.
func double(s string, i int) (string, int) {
	if strings.HasPrefix(s[i:], `'\''`) {
		return "'", 4
	}
	if i+1 < len(s) && s[i] == s[i+1] {
		return s[i : i+1], 2
	}
	return "", 0
}

// A login stands in a header as the base64 of its user, a colon and its password (RFC 7617),
// and octets are printed in hex. Such a word is taken out whole.

// words finds the words of a text that hold a value in base64 or in hex.
func words(text string, values []string, least int) (out [][2]int) {
	holds := func(b []byte) bool {
		return slices.ContainsFunc(values, func(v string) bool { return len(v) >= leastCoded && strings.Contains(string(b), v) })
	}
	for i := 0; i < len(text); {
		if !isCode(text[i]) {
			i++
			continue
		}
		end := i + 1
		for end < len(text) && isCode(text[end]) {
			end++
		}
		word := text[i:end]
		for end < len(text) && text[end] == '=' {
			end++
		}
		if len(word) >= least && holds(fromBase64(word)) || len(word) >= 2*leastCoded && holds(fromHex(word)) {
			out = append(out, [2]int{i, end})
		}
		i = end
	}
	return append(out, octets(text, holds)...)
}

// leastCoded is the length of the shortest value that is looked for in such words.
const leastCoded = 4

func isCode(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '+' || c == '/' || c == '-' || c == '_'
}

func fromBase64(word string) []byte {
	word = strings.NewReplacer("-", "+", "_", "/").Replace(word)
	if len(word)%4 == 1 {
		word = word[:len(word)-1]
	}
	out, _ := base64.RawStdEncoding.DecodeString(word)
	return out
}

func fromHex(word string) []byte {
	out, _ := hex.DecodeString(word)
	return out
}

// octets finds rows of octets in hex, such as 6b 33 6c 70 or 6b:33:6c:70.
func octets(text string, holds func([]byte) bool) (out [][2]int) {
	digit := func(i int) bool {
		return i < len(text) && (text[i] >= '0' && text[i] <= '9' || text[i]|0x20 >= 'a' && text[i]|0x20 <= 'f')
	}
	for i := 0; i < len(text); i++ {
		if !digit(i) || !digit(i+1) || digit(i+2) || i > 0 && isCode(text[i-1]) && text[i-1] != '-' {
			continue
		}
		row, end := text[i:i+2], i+2
		for end < len(text) && strings.IndexByte(" :-", text[end]) >= 0 && digit(end+1) && digit(end+2) && !digit(end+3) {
			row, end = row+text[end+1:end+3], end+3
		}
		if len(row) >= 2*leastCoded && holds(fromHex(row)) {
			out = append(out, [2]int{i, end})
		}
		i = end - 1
	}
	return out
}
