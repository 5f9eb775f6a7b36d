package profile

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/runbook"
)

// Reach is how a device is asked whether an address answers it. In Send, <<address>> stands for
// the address.
type Reach struct {
	Command `yaml:",inline"`
	// Answered tells how many answers came back: by its group, or by how many lines fit it.
	Answered Pattern `yaml:"answered"`
	None     Pattern `yaml:"none"` // what says that none came
	Sent     Pattern `yaml:"sent"` // its group is how often the address was asked
	Took     Pattern `yaml:"took"` // its group is the time until the first answer, in milliseconds
	// Within is the longest that it takes.
	Within time.Duration `yaml:"within"`
}

// usualReach is the longest that it takes where the profile does not say.
const usualReach = 20 * time.Second

// Patience is the longest that it takes.
func (r Reach) Patience() time.Duration {
	if r.Within > 0 {
		return r.Within
	}
	return usualReach
}

// Parse reads what came back. Silence is no answer: what does not tell how many came is an error
// that shows it.
func (r Reach) Parse(lines []string) (out runbook.Reached, err error) {
	counted, fits := false, 0
	for _, l := range lines {
		m := r.Answered.Find(l)
		if m == nil {
			continue
		}
		fits++
		if len(m) > 1 {
			n, err := strconv.Atoi(m[1])
			if err != nil || counted {
				return out, fmt.Errorf("%q does not tell how many came back", l)
			}
			out.Answered, counted = n, true
		}
	}
	switch {
	case counted:
	case fits > 0:
		out.Answered = fits
	case IndexMatch(lines, r.None) < 0:
		return out, fmt.Errorf("nothing tells how many came back: %s", strings.Join(lines[:min(len(lines), 3)], " / "))
	}
	if at := IndexMatch(lines, r.Sent); at >= 0 {
		if out.Sent, err = strconv.Atoi(r.Sent.Find(lines[at])[1]); err != nil {
			return out, fmt.Errorf("%q does not tell how often it was asked", lines[at])
		}
	}
	if at := IndexMatch(lines, r.Took); at >= 0 {
		ms, err := strconv.ParseFloat(r.Took.Find(lines[at])[1], 64)
		if err != nil || ms < 0 {
			return out, fmt.Errorf("%q does not tell how long it took", lines[at])
		}
		out.Took = time.Duration(ms * float64(time.Millisecond))
	}
	if out.Sent > 0 && out.Answered > out.Sent {
		return out, fmt.Errorf("%d came back, and %d were sent", out.Answered, out.Sent)
	}
	return out, nil
}

// reach checks how a device is asked.
func (c *checker) reach() {
	r := c.p.Reach
	if !c.has("reach") {
		return
	}
	if !strings.Contains(r.Send, "<<address>>") {
		c.fail("reach.send", "probe <<address>>", "the address <<address>> is missing")
		return
	}
	c.command("reach", r.Command, true)
	if r.Answered.Regexp == nil {
		c.fail("reach.answered", `answered: '^(\d+) of \d+ came back'`, "what tells how many answers came back is missing")
		return
	}
	if n := r.Answered.NumSubexp(); n > 1 {
		c.fail("reach.answered", "one group, or none", "it has %d groups", n)
	}
	if r.Answered.NumSubexp() == 0 && r.None.Regexp == nil {
		c.fail("reach.none", "none: what a line looks like then", "what says that no answer came is missing: lines are counted, and silence is none")
	}
	for key, p := range map[string]Pattern{"sent": r.Sent, "took": r.Took} {
		if p.Regexp != nil && p.NumSubexp() != 1 {
			c.fail("reach."+key, "one group around the number", "it has %d groups", p.NumSubexp())
		}
	}
}
