// Package kind says what a value may be: an address, a number within a range, one of a few
// words. Values that are asked for have a kind, and so have the columns of the fleet and of
// the tables beside it. It is said in the same words everywhere:
//
//	address · prefix · number 2..4094 · text · choice up, down · switch · port · time · size
//
// and, for columns, list of any of these. What does not fit its kind is told before anything
// connects.
package kind

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"metabasis/internal/core/problem"
)

// Type is the first word of a kind.
type Type string

// The types there are.
const (
	Address Type = "address"
	// Prefix is a range of addresses, such as 192.0.2.0/24.
	Prefix Type = "prefix"
	Number Type = "number"
	Text   Type = "text"
	Choice Type = "choice"
	// Switch is yes or no.
	Switch Type = "switch"
	// Port is the name of a port, as the device calls it: one word.
	Port Type = "port"
	// Time is a length of time such as 90s; to conditions and in lines it is seconds.
	Time Type = "time"
	// Size is a number of bytes such as 20 MB; to conditions and in lines it is bytes.
	Size Type = "size"
	// Secret is never shown, written or given on a command line. Columns have none.
	Secret Type = "secret"
)

// Types are those that a column can have.
var Types = []Type{Address, Prefix, Number, Text, Choice, Switch, Port, Time, Size}

// Kind is what a value may be.
type Kind struct {
	Type     Type
	Min, Max int // of a number, when Bounded
	Bounded  bool
	Choices  []string // of a choice
	List     bool     // several of them
}

// Column is a column with its kind.
type Column struct {
	Name string
	Kind Kind
}

// String is the kind as it is written.
func (k Kind) String() string {
	s := string(k.Type)
	if k.Bounded {
		s += fmt.Sprintf(" %d..%d", k.Min, k.Max)
	}
	if len(k.Choices) > 0 {
		s += " " + strings.Join(k.Choices, ", ")
	}
	if k.List {
		s = "list of " + s
	}
	return s
}

// Equal tells whether two kinds take the same values.
func (k Kind) Equal(other Kind) bool { return k.String() == other.String() }

// Parse reads a kind as it is written, such as "number 2..4094" or "list of address".
func Parse(text string) (Kind, error) {
	var k Kind
	text = strings.TrimSpace(text)
	if rest, ok := strings.CutPrefix(text, "list of "); ok {
		k.List, text = true, strings.TrimSpace(rest)
	}
	word, rest, _ := strings.Cut(text, " ")
	k.Type, rest = Type(word), strings.TrimSpace(rest)
	switch {
	case !slices.Contains(Types, k.Type):
		return k, fmt.Errorf("unknown kind of value %q%s", text, problem.Write(word, words()))
	case k.Type == Choice:
		for c := range strings.SplitSeq(rest, ",") {
			if c = strings.TrimSpace(c); c != "" && !slices.Contains(k.Choices, c) {
				k.Choices = append(k.Choices, c)
			}
		}
		if len(k.Choices) == 0 {
			return k, errors.New("a choice of nothing; write: choice up, down")
		}
	case k.Type == Number && rest != "":
		a, b, _ := strings.Cut(rest, "..")
		var err1, err2 error
		k.Min, err1 = strconv.Atoi(a)
		k.Max, err2 = strconv.Atoi(b)
		if k.Bounded = true; err1 != nil || err2 != nil || k.Min > k.Max {
			return k, fmt.Errorf("%q is not a range from a lower to a higher number; write: number 2..4094", rest)
		}
	case rest != "":
		return k, fmt.Errorf("%q cannot stand behind %s", rest, k.Type)
	}
	return k, nil
}

func words() (out []string) {
	for _, t := range Types {
		out = append(out, string(t))
	}
	return append(out, "list of "+string(Number))
}

// LeastSecret is the length of the shortest secret that can be masked by value.
const LeastSecret = 4

// Check tells whether a text is a value of the kind. The error does not name whose it is.
func (k Kind) Check(text string) error {
	if k.List {
		for _, item := range Items(text) {
			if err := k.item().Check(item); err != nil {
				return err
			}
		}
		return nil
	}
	if k.Type == Secret && len(text) < LeastSecret {
		return fmt.Errorf(
			"a secret of fewer than %d characters cannot be told from other text, so it could not be kept out of what is shown",
			LeastSecret,
		)
	}
	if strings.ContainsFunc(text, func(r rune) bool { return unicode.IsControl(r) || r == utf8.RuneError }) {
		if k.Type == Secret {
			return errors.New("the secret has a control character")
		}
		return errors.New("it has a control character")
	}
	return k.fits(text)
}

func (k Kind) fits(text string) error {
	//exhaustive:enforce
	switch k.Type {
	case Address:
		if _, err := netip.ParseAddr(text); err != nil {
			return fmt.Errorf("%q is not an IP address", text)
		}
	case Prefix:
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return fmt.Errorf("%q is not a range of addresses, such as 192.0.2.0/24", text)
		}
		if p.Masked() != p {
			return fmt.Errorf("%s is an address within the range %s", text, p.Masked())
		}
	case Switch:
		if text != "yes" && text != "no" {
			return fmt.Errorf("%q is neither yes nor no", text)
		}
	case Number:
		n, err := strconv.Atoi(text)
		if err != nil {
			return fmt.Errorf("%q is not a whole number", text)
		}
		if strconv.Itoa(n) != text { // 007 would stand in a line as 7
			return fmt.Errorf("%q is not written as a number is: write %d, or call it text", text, n)
		}
		if k.Bounded && (n < k.Min || n > k.Max) {
			return fmt.Errorf("%d is not from %d to %d", n, k.Min, k.Max)
		}
	case Choice:
		if !slices.Contains(k.Choices, text) {
			return fmt.Errorf("%q is not one of %s", text, strings.Join(k.Choices, ", "))
		}
	case Port:
		if text == "" || strings.ContainsAny(text, " \t") {
			return fmt.Errorf("%q is not the name of a port, which is one word", text)
		}
	case Time:
		if d, err := ParseTime(text); err != nil || d < 0 {
			return fmt.Errorf("%q is not a length of time, such as 90s or 2h30m", text)
		}
	case Size:
		if _, err := ParseSize(text); err != nil {
			return err
		}
	case Text, Secret:
	}
	return nil
}

// Value is what conditions and lines are given of a text that fits: an int for a number, a
// time (seconds) and a size (bytes), a bool for a switch, a []any for a list, else the text. Of
// an empty text it is nil, where the kind has no empty value.
func (k Kind) Value(text string) any {
	switch {
	case k.List:
		out := []any{}
		for _, item := range Items(text) {
			out = append(out, k.item().Value(item))
		}
		return out
	case k.IsNumber():
		n, err := k.number(text)
		if err != nil {
			return nil
		}
		return n
	case k.Type == Switch:
		if text == "" {
			return nil
		}
		return text == "yes"
	}
	return text
}

func (k Kind) number(text string) (int, error) {
	switch k.Type {
	case Time:
		d, err := ParseTime(text)
		return int(d / time.Second), err
	case Size:
		n, err := ParseSize(text)
		return int(n), err
	default:
		return strconv.Atoi(text)
	}
}

// IsNumber tells whether a value of the kind is a number to conditions.
func (k Kind) IsNumber() bool {
	return !k.List && (k.Type == Number || k.Type == Time || k.Type == Size)
}

func (k Kind) item() Kind {
	k.List = false
	return k
}

// Items are the items of a list as it stands in one cell: between commas, where there is one,
// else between blanks.
func Items(text string) (out []string) {
	if !strings.Contains(text, ",") {
		return strings.Fields(text)
	}
	for item := range strings.SplitSeq(text, ",") {
		if item = strings.TrimSpace(item); item != "" {
			out = append(out, item)
		}
	}
	return out
}

// ParseTime reads a length of time in whole hours, minutes and seconds, such as 2h45m.
func ParseTime(text string) (time.Duration, error) {
	d, err := time.ParseDuration(text)
	if err != nil || d%time.Second != 0 || strings.ContainsAny(text, ".-+µn") {
		return 0, fmt.Errorf("%q is not a time such as 90s, 10m or 2h45m", text)
	}
	return d, nil
}

// ParseSize reads a number of bytes, such as 20 MB; without a unit it is bytes.
func ParseSize(text string) (int64, error) {
	number := strings.TrimRight(text, "KMGTBkmgtb ")
	unit, known := units[strings.ToUpper(strings.TrimSpace(text[len(number):]))]
	n, err := strconv.ParseInt(number, 10, 64)
	if err != nil || !known || n < 0 || n > 1<<62/unit {
		return 0, fmt.Errorf("%q is not a size, such as 20 MB", text)
	}
	return n * unit, nil
}

// units are powers of ten, as sizes are written everywhere else here.
var units = map[string]int64{"": 1, "B": 1, "KB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12}

// Guess is the kind of a column of which nobody says it: number where all that stands in it
// are whole numbers as they would be written, else text. 007 may be the name of something, and
// 1.10 a version.
func Guess(values []string) Kind {
	some := false
	for _, v := range values {
		n, err := strconv.Atoi(v)
		if v != "" && (err != nil || strconv.Itoa(n) != v) {
			return Kind{Type: Text}
		}
		some = some || v != ""
	}
	if some {
		return Kind{Type: Number}
	}
	return Kind{Type: Text}
}
