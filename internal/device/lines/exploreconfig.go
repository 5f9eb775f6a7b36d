package lines

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
)

// config looks at the configuration, at what ends a page, and at what changes by
// itself.
func (e *explorer) config() error {
	if err := e.ask("Which command turns its pager off?", "Enter alone: there is none; each page is gone on from", func(command string) error {
		e.seen.PagesOff = command
		return e.command(command)
	}); err != nil {
		return err
	}
	if err := e.ask("Which command prints the configuration that runs?", needed, func(command string) error {
		first, err := e.pages(command)
		if err != nil {
			return err
		}
		again, err := e.pages(command)
		if err != nil {
			return err
		}
		e.seen.Running = command
		e.readConfig(first, again)
		return nil
	}); err != nil {
		return err
	}
	return e.ask("Which command prints what it would start with?", "Enter alone: there is none; it is never known then whether a change outlives a restart", func(command string) error {
		_, err := e.pages(command)
		if err == nil {
			e.seen.Saved = command
		}
		return err
	})
}

// command sends a command that answers little, and refuses one that is refused.
func (e *explorer) command(command string) error {
	lines, row, err := e.send(command)
	if err != nil {
		return err
	}
	if e.refuses(lines) || row != e.here {
		e.seen.PagesOff = ""
		said := last(lines)
		if said == "" || row != e.here {
			said = fmt.Sprintf("%s %q", said, row)
		}
		return &driver.Refused{Line: command, Said: e.s.Mask(said)}
	}
	return nil
}

func (e *explorer) refuses(lines []string) bool {
	return slices.ContainsFunc(lines, func(l string) bool {
		return slices.ContainsFunc(e.seen.Refused, func(p string) bool { return regexp.MustCompile(p).MatchString(l) })
	})
}

// mostPages bounds how many pages one answer may have.
const mostPages = 2000

// pages sends a command and goes on from page to page.
func (e *explorer) pages(command string) ([]string, error) {
	lines, row, err := e.send(command)
	for n := 0; err == nil && row != e.here; n++ {
		if rest, ok := strings.CutSuffix(row, e.here); ok {
			e.seen.Unended = true
			lines = append(slices.Clone(lines), rest)
			break
		}
		if strings.TrimSpace(row) == "" || n > mostPages {
			return nil, fmt.Errorf("%q: it stops behind %q", command, e.s.Mask(last(lines)))
		}
		lines, row, err = e.turn(row)
	}
	switch {
	case err != nil:
		return nil, err
	case e.refuses(lines) && len(lines) < 3, len(lines) == 0:
		return nil, &driver.Refused{Line: command, Said: e.s.Mask(last(lines))}
	}
	return lines, nil
}

// turn goes on from what ends a page: with the key that did so before, else with
// the first that does.
func (e *explorer) turn(row string) ([]string, string, error) {
	for _, p := range e.seen.Pages {
		if p.More.String() == pageLike(row) {
			lines, after, _, err := e.press(p.Next)
			return lines, after, err
		}
	}
	for _, next := range []string{" ", "y", "n", "\r"} {
		lines, after, went, err := e.press(next)
		if err != nil {
			return nil, "", err
		}
		if went {
			e.seen.Pages = append(e.seen.Pages, profile.Page{More: profile.MustPattern(pageLike(row)), Next: next})
			e.tell(fmt.Sprintf("a page ends with %q, and %q goes on", row, next), true)
			return lines, after, nil
		}
	}
	return nil, "", fmt.Errorf("it stops with %q, and no usual key goes on from there", row)
}

// press presses a key where a page has ended. Where nothing comes of it, the row
// stands as before.
func (e *explorer) press(key string) (lines []string, after string, went bool, err error) {
	row, size := slices.Clone(e.s.out.cur), e.s.out.size
	e.s.out.cur = e.s.out.cur[:0]
	if err := e.s.write(key); err != nil {
		return nil, "", false, err
	}
	lines, after, err = e.within(explorePress)
	if went = e.s.out.size != size; !went {
		e.s.out.cur = append(e.s.out.cur[:0], row...)
		after = string(clean(row))
	}
	return lines, after, went, err
}

// pageLike is the pattern of the end of a page: numbers in it may be others.
func pageLike(row string) string {
	return "^" + numbers.ReplaceAllString(literal(row), `\d+`) + "$"
}

var numbers = regexp.MustCompile(`\d+`)

// readConfig takes from two readings how the configuration is written.
func (e *explorer) readConfig(first, again []string) {
	e.seen.Layout = "flat"
	for i, l := range first {
		if l != strings.TrimLeft(l, " \t") {
			e.seen.Layout = "indented"
		}
		if i < len(again) && len(again) == len(first) && l != again[i] {
			e.seen.Volatile = append(e.seen.Volatile, volatileLike(strings.TrimLeft(l, " "), strings.TrimLeft(again[i], " ")))
		}
		for _, m := range secretWord.FindAllStringSubmatch(l, -1) {
			if w := strings.ToLower(m[1]); !slices.Contains(e.seen.SecretWords, w) {
				e.seen.SecretWords = append(e.seen.SecretWords, w)
			}
		}
	}
	text := fmt.Sprintf("its configuration has %s, %s", profile.Plural(len(first), "line"), e.seen.Layout)
	if n := len(e.seen.Volatile); n > 0 {
		text += fmt.Sprintf("; %s changed by itself when it was read again", profile.Plural(n, "line"))
	}
	if len(again) != len(first) {
		text += fmt.Sprintf("; read again, it has %d", len(again))
	}
	e.tell(text, len(again) == len(first))
}

var secretWord = regexp.MustCompile(`(?i)\b(password|passphrase|secret|community|psk|key)\s+\S+`)

// volatileLike is the pattern of a line that was another when it was read again:
// its numbers may be others; else only what both begin with is the same.
func volatileLike(a, b string) string {
	p := "^" + numbers.ReplaceAllString(literal(a), `\d+`) + "$"
	if start := same(a, b); !regexp.MustCompile(p).MatchString(b) && strings.TrimSpace(start) != "" {
		return "^" + literal(start)
	}
	return p
}

// same is what two texts begin with alike.
func same(a, b string) string {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return a[:n]
}
