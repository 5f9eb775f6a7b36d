// Package reach says how far we came with a device, and why no further.
//
// Reaching a device goes through stages: its name, the route to it, its port,
// the handshake of the protocol, its host key, the login, the first prompt, the
// privileged mode, the pager, and who it says it is. A [Failure] names the stage, the likely cause
// and the remedy; a [Board] folds what many devices report into a picture that
// can be drawn. Nothing here talks to a network.
package reach

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/identity"
)

// Stage is a step on the way to a device that is ready to be worked on.
type Stage int

// The stages, in order. A platform without a privileged mode, a host key or a
// pager has nothing to do at that stage.
const (
	Name       Stage = iota // its name becomes an address
	Route                   // packets find a way to it, over its jump hosts
	Port                    // something listens on its port
	Handshake               // both ends agree on how to talk
	HostKey                 // the key it shows is the one we know
	Login                   // it lets us in
	Prompt                  // its first prompt stands there
	Privileged              // the mode in which it can be read in full
	Pager                   // output comes without stopping
	Identity                // it is the one that is meant
	stages
)

var stageNames = [...]string{"name", "route", "port", "handshake", "host key", "login", "prompt", "privileged", "pager", "identity"}

func (s Stage) String() string {
	if s < 0 || s >= stages {
		return fmt.Sprintf("stage %d", int(s))
	}
	return stageNames[s]
}

// Noun is the stage as something one can be at.
func (s Stage) Noun() string {
	if s == Privileged {
		return "privileged mode"
	}
	return s.String()
}

// MarshalText writes the stage as its word.
func (s Stage) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads the word.
func (s *Stage) UnmarshalText(b []byte) error {
	i := slices.Index(stageNames[:], string(b))
	if i < 0 {
		return fmt.Errorf("%q is not a stage of reaching a device", b)
	}
	*s = Stage(i)
	return nil
}

// Stages lists all stages in order.
func Stages() []Stage {
	out := make([]Stage, stages)
	for i := range out {
		out[i] = Stage(i)
	}
	return out
}

// Failure says at which stage a device could not be reached, the likely cause,
// and what to do about it.
type Failure struct {
	Stage  Stage
	Cause  string // what happened, as the second half of a sentence about the device
	Kind   string // the cause without what is this device's own, such as a fingerprint; "" when nothing is
	Remedy string // what to do; "" when the cause says it all
	Last   string // what the device printed last, cleaned and masked
	Err    error  // what was met
}

func (f *Failure) Error() string {
	s := f.Cause
	if f.Last != "" {
		s += fmt.Sprintf("; last: %q", f.Last)
	}
	if f.Remedy != "" {
		s += ": " + f.Remedy
	}
	return s
}

func (f *Failure) Unwrap() error { return f.Err }

// Common is the cause as it can be said of several devices at once.
func (f *Failure) Common() string { return cmp.Or(f.Kind, f.Cause) }

// shared is what can be said of two failures of the same kind.
func (f *Failure) shared(other *Failure) *Failure {
	if f.Cause == other.Cause && f.Last == other.Last {
		return f
	}
	s := &Failure{Stage: f.Stage, Kind: f.Kind, Cause: f.Cause, Remedy: f.Remedy}
	if f.Cause != other.Cause {
		s.Cause = f.Common()
	}
	if f.Last == other.Last {
		s.Last = f.Last
	}
	return s
}

// MarshalJSON leaves out the error itself: its text is in the cause.
func (f *Failure) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		Stage  Stage  `json:"stage"`
		Cause  string `json:"cause"`
		Remedy string `json:"remedy,omitempty"`
		Last   string `json:"last,omitempty"`
	}{f.Stage, f.Cause, f.Remedy, f.Last})
}

// Passed is a stage that was passed, and how long it took.
type Passed struct {
	Stage Stage         `json:"stage"`
	Took  time.Duration `json:"took_ns"`
}

// Result is what reaching one device came to.
type Result struct {
	Device   string        `json:"device"`
	Address  string        `json:"address"` // where it was looked for, with the port
	Protocol string        `json:"protocol"`
	Through  []string      `json:"through,omitempty"` // jump hosts, nearest first
	Host     string        `json:"host,omitempty"`    // its own name, as it says
	Passed   []Passed      `json:"passed"`
	Failure  *Failure      `json:"failure,omitempty"`
	Warnings []string      `json:"warnings,omitempty"`
	Took     time.Duration `json:"took_ns"`
	Seen     identity.Seen `json:"seen,omitzero"` // who it says it is
}

// OtherName is the name the device calls itself by when that is not the one we
// know it by, else "". A domain that only one of them has does not count.
func (r *Result) OtherName() string {
	if r.Host == "" || identity.SameName(r.Host, r.Device) {
		return ""
	}
	return r.Host
}

// OK tells whether the device is ready to be worked on.
func (r *Result) OK() bool { return r.Failure == nil }

// AsFailure makes a failure of any error; one that names no stage is of the
// first.
func AsFailure(err error) *Failure {
	var f *Failure
	if errors.As(err, &f) {
		return f
	}
	return &Failure{Stage: Name, Cause: err.Error(), Err: err}
}
