package lines

import (
	"fmt"
	"regexp"
	"strings"

	"metabasis/internal/device/profile"
)

// words sends words that no device knows, and looks how it refuses them, whether
// it says them back, and what its line editor does with some keys.
func (e *explorer) words() error {
	lines, row, err := e.send(profile.Nonsense)
	if err != nil {
		return err
	}
	if row != e.here {
		return fmt.Errorf("its prompt changed from %q to %q for no reason that can be seen: write the profile by hand, see docs/profiles.md", e.here, row)
	}
	e.seen.Echo = profile.EchoNo
	if e.echoed() {
		e.seen.Echo = profile.EchoYes
	}
	for _, l := range lines {
		if strings.TrimSpace(l) != "" {
			e.seen.Refused = append(e.seen.Refused, refusalLike(l))
			break
		}
	}
	e.seen.Silent = len(e.seen.Refused) == 0
	e.tell(map[string]string{profile.EchoYes: "it says each line back", profile.EchoNo: "it does not say lines back: what its line editor does is not seen"}[e.seen.Echo], e.seen.Echo == profile.EchoYes)
	if e.seen.Silent {
		e.tell("a word that it does not know is answered by nothing: a line that it refuses would go unnoticed", false)
	} else {
		e.tell(fmt.Sprintf("a word that it does not know is answered by %q", last(lines)), true)
	}
	for _, key := range []string{"?", "\t"} {
		if err := e.key(key); err != nil {
			return err
		}
	}
	return e.continued()
}

// refusalLike is the pattern of a refusal: its first words, up to a sign such as a
// colon, since what follows is about this one word; else what stands before the
// word, or behind it.
func refusalLike(l string) string {
	before, after, found := strings.Cut(l, profile.Nonsense)
	if m := firstSign.FindString(before); m != "" {
		return "^" + literal(m)
	}
	switch before = strings.TrimRight(before, ` "'`+"`"); {
	case found && before != "":
		return "^" + literal(before)
	case found && strings.TrimSpace(after) != "":
		return literal(after) + "$"
	case found:
		return "^" + literal(l) + "$"
	}
	return "^" + literal(before)
}

var firstSign = regexp.MustCompile(`^.*?[:,!?%] +`)

// key finds out whether a character arrives, and whether ^V before it makes it.
func (e *explorer) key(key string) error {
	if e.seen.Echo != profile.EchoYes {
		return nil // nothing would tell
	}
	if _, _, err := e.send(profile.Nonsense + key + "x"); err != nil || e.echoed() {
		return err
	}
	e.seen.Keys += key
	if _, err := e.quietly(); err != nil {
		return err
	}
	e.s.out.reset()
	e.s.echo = newEcho(profile.Nonsense+key+"x", e.here, false)
	if err := e.s.write(profile.Nonsense + "\x16" + key + "x" + e.s.enterKey); err != nil {
		return err
	}
	if _, _, err := e.look(); err != nil {
		return err
	}
	name := map[string]string{"?": "?", "\t": "the tab"}[key]
	if e.echoed() {
		e.seen.QuoteKey = "^V"
		e.tell(name+" is a key of its line editor; ^V before it makes it a character", true)
	} else {
		e.tell(name+" is a key of its line editor, and cannot be sent", true)
	}
	_, err := e.quietly()
	return err
}

// quietly sees to it that the known prompt stands there.
func (e *explorer) quietly() (string, error) {
	for range 3 {
		_, row, err := e.send("")
		if err != nil || row == e.here {
			return row, err
		}
	}
	return "", fmt.Errorf("its prompt %q does not come back", e.here)
}

// continued finds out what it shows behind a quote that is not closed.
func (e *explorer) continued() error {
	_, row, err := e.send(profile.Nonsense + ` "`)
	if err != nil || row == e.here || strings.TrimSpace(row) == "" {
		return err
	}
	e.s.out.reset()
	if err := e.s.write("\x03"); err != nil {
		return err
	}
	_, back, err := e.look()
	if err != nil {
		return err
	}
	if back != e.here {
		if _, err := e.quietly(); err != nil {
			return fmt.Errorf("behind a quote that is not closed it shows %q, and ^C does not call that off: %w", row, err)
		}
		return nil
	}
	e.seen.Continued = row
	e.tell(fmt.Sprintf("behind a quote that is not closed it shows %q, and ^C calls that off", row), true)
	return nil
}
