package profile

import (
	"fmt"
	"maps"
	"slices"
)

// proofs checks what is said of the lines of a change.
func (c *checker) proofs() {
	p := c.p
	for i, proof := range p.Lines {
		at := fmt.Sprintf("lines[%d]", i)
		if proof.Status.Send != "" && proof.Status.Good.Regexp == nil {
			c.fail(at+".status", "good: '^status 0$'", "nothing says which answer means that all is well")
		}
		if proof.Match.Regexp == nil && i < len(p.Lines)-1 {
			c.fail(at, "match: in it, or put it last", "it has no match and so is for all lines; those below it never count")
		}
	}
	switch m := p.More; {
	case m.Prompt.Regexp == nil && (m.Cancel != "" || m.Opens.Regexp != nil):
		c.fail("continued", "prompt: '^> $'", "nothing says what the device shows when it waits for the rest of a line")
	case m.Prompt.Regexp == nil:
	case m.Cancel == "":
		c.fail("continued", "cancel: ^C", "nothing says how a line is called off that is not complete")
	case m.Opens.Regexp != nil && m.Opens.SubexpIndex("end") < 0:
		c.fail("continued.opens", `(?P<end>\w+) in it`, "the pattern needs a group named end: the line that ends the text")
	}
	if p.Quote.Characters != "" && p.Quote.Key == "" {
		c.fail("quote", "key: ^V", "nothing says which key goes before these characters")
	}
	for i, page := range p.Pager.Pages() {
		if page.More.Regexp != nil && page.Next == "" {
			c.fail("pager", "next: ' '", "nothing says which key goes on at %s", []string{"more", "also"}[min(i, 1)])
		}
	}
}

// anything refuses patterns that decide about an answer and fit any line at all.
func (c *checker) anything() {
	p := c.p
	each := func(path string, ps ...Pattern) {
		for _, pattern := range ps {
			if pattern.Matches("") && pattern.Matches(Nonsense+" 1") {
				c.fail(path, "what only such a line has in it", "the pattern %q fits any line: it would decide about every answer", pattern.String())
			}
		}
	}
	each("refused", p.Refused...)
	each("harmless", p.Harmless...)
	each("configuration.volatile", p.Config.Volatile...)
	each("configuration.end", p.Config.End)
	each("configuration.text", p.Config.Text)
	each("timer.none", p.Timer.None)
	each("trial.none", p.Trial.None)
	each("restore.ready", p.Restore.Ready)
	for i, proof := range p.Lines {
		at := fmt.Sprintf("lines[%d]", i)
		each(at, append(append([]Pattern{proof.Done, proof.Status.Good}, proof.Refused...), proof.Harmless...)...)
	}
	for path, cmd := range map[string]Command{"configuration.running": p.Config.Running, "configuration.saved": p.Config.Saved,
		"save": p.Save, "restore": p.Restore.Command,
		"timer.arm": p.Timer.Arm, "timer.disarm": p.Timer.Disarm, "trial.check": p.Trial.Check, "trial.apply": p.Trial.Apply,
		"trial.confirm": p.Trial.Confirm, "trial.undo": p.Trial.Undo} {
		each(path, append(append([]Pattern{cmd.Done}, cmd.Refused...), cmd.Harmless...)...)
	}
	for _, name := range slices.Sorted(maps.Keys(p.Readers)) {
		each("readers."+name, append(p.Readers[name].Skip, p.Readers[name].None)...)
	}
}
