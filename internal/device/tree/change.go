package tree

import (
	"fmt"
	"strings"
)

// Change is one line of a change to a tree:
//
//	set PATH = VALUE
//	set PATH            an entry of a list, or a node without a value
//	delete PATH         with all that is below it
type Change struct {
	Delete bool
	Path   Path
	Value  string
	Has    bool // there is a value
}

// ParseChange reads a line of a change. The error says what to write instead.
func ParseChange(line string) (c Change, err error) {
	verb, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
	switch verb {
	case "set":
	case "delete":
		c.Delete = true
	default:
		return c, fmt.Errorf("%q is no change; write set PATH = VALUE or delete PATH", line)
	}
	if c.Path, c.Value, c.Has, err = ParseLine(strings.TrimSpace(rest)); err != nil {
		return c, err
	}
	if c.Delete && c.Has {
		return c, fmt.Errorf("what is deleted has no value; write delete %s", c.Path)
	}
	return c, nil
}

// String writes the line.
func (c Change) String() string {
	switch {
	case c.Delete:
		return "delete " + c.Path.String()
	case c.Has:
		return "set " + c.Path.String() + " = " + Shown(c.Value)
	}
	return "set " + c.Path.String()
}

// Said is a short text of a device's in one line, without what a terminal would obey.
func Said(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && r < 0xa0 || r == 0xfffd {
			return -1
		}
		return r
	}, text)
	if r := []rune(text); len(r) > 300 {
		return string(r[:300]) + "…"
	}
	return text
}
