package software

import (
	"fmt"
	"slices"
	"strings"
)

// State is what a device says of its software.
type State struct {
	Runs  string   // the version that runs; "" where it is none of those installed, such as a rescue system
	Next  string   // what it starts with next
	Has   []string // versions that are installed
	Trial bool     // what runs is on trial: unless it is kept, it goes back by itself
}

// Installed tells whether a version is installed.
func (s State) Installed(version string) bool { return slices.Contains(s.Has, version) }

// Running is what runs, in words.
func (s State) Running() string {
	if s.Runs == "" {
		return "none of what is installed"
	}
	return s.Runs
}

// String says it in a few words.
func (s State) String() string {
	text := "runs " + s.Running()
	if s.Trial {
		text += " on trial"
	}
	if s.Next != s.Runs {
		text += ", starts " + s.Next + " next"
	}
	return fmt.Sprintf("%s, has %s", text, strings.Join(s.Has, ", "))
}

// Stands tells whether a device runs a version and stays with it.
func (s State) Stands(version string) bool { return s.Runs == version && s.Next == version && !s.Trial }
