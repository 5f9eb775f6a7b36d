package profile

import "regexp"

// Proof is how it is known that a line of a change did what it should, where
// that a device says nothing against it is not enough. The first one whose match
// fits the line counts. All that it names must be so.
type Proof struct {
	Match    Pattern   `yaml:"match"`  // the lines it is for; not given: all
	Status   Status    `yaml:"status"` // asked after the line
	Silent   bool      `yaml:"silent"` // a good line is answered by nothing
	Done     Pattern   `yaml:"done"`   // a good line is answered by such a line
	Refused  []Pattern `yaml:"refused"`
	Harmless []Pattern `yaml:"harmless"`
}

// Status is a question about how the line before it went.
type Status struct {
	Send string  `yaml:"send"`
	Good Pattern `yaml:"good"` // what a line of the answer looks like when all is well
}

// Continued is how a device shows that it waits for the rest of a line.
type Continued struct {
	Prompt Pattern `yaml:"prompt"`
	Cancel string  `yaml:"cancel"` // the key that calls the line off
	// Opens is a line that begins a text of several lines; its group "end" is the
	// line that ends it. Any other line that is not complete is called off.
	Opens Pattern `yaml:"opens"`
}

// Rules decide about one answer. For each of its lines the first pattern that fits
// counts, in this order: harmless and refused of the command or line itself, then
// harmless and refused of the platform. One refused line refuses. Then, of what is
// asked for, done must fit a line, and a silent answer must have none left.
type Rules struct {
	Harmless, Refused []Pattern
	Done              Pattern
	Silent            bool
}

// Rules are what decides about the answer to a command.
func (c Command) Rules() Rules {
	return Rules{Harmless: c.Harmless, Refused: c.Refused, Done: c.Done}
}

// Rules are what decides about the answer to a line.
func (p Proof) Rules() Rules {
	return Rules{Harmless: p.Harmless, Refused: p.Refused, Done: p.Done, Silent: p.Silent}
}

// ProofOf finds the proof of a line.
func (p *Profile) ProofOf(line string) Proof {
	for _, proof := range p.Lines {
		if proof.Match.Regexp == nil || proof.Match.Matches(line) {
			return proof
		}
	}
	return Proof{}
}

// IndexMatch is the first line that a pattern fits; -1 where none is.
func IndexMatch(lines []string, p Pattern) int {
	for i, l := range lines {
		if p.Matches(l) {
			return i
		}
	}
	return -1
}

type lineVerdict byte

const (
	openLine lineVerdict = iota
	HarmlessLine
	RefusedLine
)

// Verdict decides about one line of an answer; by is the pattern that did.
func (p *Profile) Verdict(l string, r Rules) (v lineVerdict, by *regexp.Regexp) {
	for _, step := range []struct {
		of []Pattern
		v  lineVerdict
	}{{r.Harmless, HarmlessLine}, {r.Refused, RefusedLine}, {p.Harmless, HarmlessLine}, {p.Refused, RefusedLine}} {
		for _, pattern := range step.of {
			if pattern.Matches(l) {
				return step.v, pattern.Regexp
			}
		}
	}
	return openLine, nil
}
