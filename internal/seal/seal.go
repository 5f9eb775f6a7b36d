// Package seal makes a plan into what can be approved: everything that a night will do, as
// it was rehearsed, in one file that is the same byte by byte whoever writes it (canonical
// JSON, RFC 8785), with its SHA-256 and, where asked, an SSH signature that ssh-keygen -Y
// verify checks. A night that is run with a seal does what stands in it, or says what is
// different and does not begin.
package seal

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/gowebpki/jcs"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/work"
	"metabasis/internal/store"
)

// Plan is a sealed plan. No secret is in it.
type Plan struct {
	What    string            `json:"what"` // always what
	Version int               `json:"version"`
	Title   string            `json:"title"`
	Change  string            `json:"change,omitempty"`
	Runbook string            `json:"runbook"` // its text
	Window  Window            `json:"window"`
	Soak    string            `json:"soak"`
	Timer   string            `json:"timer"`
	Rules   []string          `json:"rules"`
	Checks  []string          `json:"prechecks"`
	Waivers []string          `json:"waivers"`
	Values  map[string]string `json:"values"`
	Devices []Device          `json:"devices"`
	LeftOut map[string]string `json:"left_out"`
	// Only is the part of the scope that it is for; "" is all of it.
	Only string `json:"only,omitempty"`
	// Profiles are the fingerprints of the profiles, by platform.
	Profiles map[string]string `json:"profiles"`
	// Rehearsed says when and by whom, and Sealed the same.
	Rehearsed Mark `json:"rehearsed"`
	Sealed    Mark `json:"sealed"`
}

const (
	what    = "metabasis sealed plan"
	version = 1
)

// Mark is when something was done, and by whom.
type Mark struct {
	At time.Time `json:"at"`
	By string    `json:"by"`
}

// Window is when the night may be. Of one that opens with the run, and of none, there are
// no times.
type Window struct {
	Opens   string `json:"opens"`
	Closes  string `json:"closes"`
	Reserve string `json:"reserve"`
}

// Device is a device with all that will be done to it.
type Device struct {
	Name     string               `json:"name"`
	Address  string               `json:"address"`
	Platform string               `json:"platform"`
	Batch    int                  `json:"batch"`
	Why      string               `json:"why"`
	Blocked  string               `json:"blocked,omitempty"`
	Already  bool                 `json:"already,omitempty"`
	Steps    []work.RehearsedStep `json:"steps"`
	Differs  []string             `json:"differs"`
	// Configuration is the fingerprint of the configuration that this was computed from.
	Configuration string `json:"configuration"`
}

// Make seals a plan as it was rehearsed. Profiles are their fingerprints.
func Make(p *plan.Plan, text string, r *store.Rehearsal, profiles map[string]string, sealed Mark) (*Plan, error) {
	s := planned(p, text, profiles)
	s.Rehearsed, s.Sealed = Mark{r.Ended.UTC(), r.By}, sealed
	if why := r.Stale(text, p.Values); why != "" {
		return nil, fmt.Errorf("%s: rehearse it again, and seal what was found", why)
	}
	for i := range s.Devices {
		d := &s.Devices[i]
		found := r.Of(d.Name)
		switch {
		case found == nil:
			return nil, fmt.Errorf("%s was not rehearsed: rehearse it again", d.Name)
		case found.Fingerprint == "" || found.Steps == nil: // nothing can be approved for it: it is not changed
			d.Blocked, d.Steps, d.Differs = found.Blocked, []work.RehearsedStep{}, []string{}
			continue
		}
		d.Blocked, d.Already, d.Steps, d.Differs, d.Configuration = found.Blocked, found.Already, found.Steps, list(
			found.Differs,
		), found.Fingerprint
	}
	return s, nil
}

// sameText compares runbooks but for spaces at the ends of lines, which no file keeps well.
func sameText(a, b string) bool { return strings.TrimSpace(a) == strings.TrimSpace(b) }

// planned is what of a plan is known before any device is read.
func planned(p *plan.Plan, text string, profiles map[string]string) *Plan {
	s := &Plan{
		What:    what,
		Version: version,
		Title:   p.Title,
		Change:  p.Change,
		Runbook: text,
		Window:  windowOf(p.Window),
		Soak:    runbook.FormatDuration(p.Soak),
		Timer: timerOf(
			p.Timer,
		),
		Rules:    list(p.Rules.Lines()),
		Checks:   []string{},
		Waivers:  []string{},
		Values:   map[string]string{},
		LeftOut:  map[string]string{},
		Profiles: map[string]string{},
		Only:     p.Only,
	}
	for _, pc := range p.Prechecks {
		s.Checks = append(s.Checks, pc.String())
	}
	for _, w := range p.Waivers {
		s.Waivers = append(s.Waivers, fmt.Sprintf("%s on %s: %s", w.Check, w.Device, w.Reason))
	}
	for _, v := range p.Values {
		s.Values[v.Name] = v.Value
	}
	for _, l := range p.LeftOut {
		s.LeftOut[l.Device] = l.Why
	}
	for _, t := range p.Targets() {
		s.Devices = append(
			s.Devices,
			Device{Name: t.Device.Name, Address: t.Device.Address, Platform: t.Device.Platform, Batch: t.Batch + 1, Why: t.Why},
		)
		s.Profiles[t.Device.Platform] = profiles[t.Device.Platform]
	}
	return s
}

func windowOf(w plan.Window) Window {
	out := Window{Reserve: runbook.FormatDuration(w.Reserve)}
	switch {
	case w.None:
		out.Opens = "none"
	case w.Now:
		out.Opens, out.Closes = "when the run begins", "after "+runbook.FormatDuration(w.Close.Sub(w.Open))
	default:
		out.Opens, out.Closes = w.Open.Format(time.RFC3339), w.Close.Format(time.RFC3339)
	}
	return out
}

func timerOf(t runbook.Timer) string {
	if t.None {
		return "none"
	}
	out := runbook.FormatDuration(t.For)
	for _, of := range t.Of {
		out += fmt.Sprintf("; %s on %s", runbook.FormatDuration(of.For), of.Platform)
	}
	if len(t.NoneOn) > 0 {
		out += "; none on " + strings.Join(t.NoneOn, ", ")
	}
	return out
}

// Bytes is the plan as canonical JSON (RFC 8785).
func (s *Plan) Bytes() ([]byte, error) {
	text, err := json.Marshal(s)
	if err != nil {
		return nil, fmt.Errorf("sealing: %w", err)
	}
	out, err := jcs.Transform(text)
	if err != nil {
		return nil, fmt.Errorf("sealing: %w", err)
	}
	return out, nil
}

// Sum is the SHA-256 of a sealed plan.
func Sum(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// Read reads a sealed plan. The error, if any, is a problem.List.
func Read(file string, data []byte) (*Plan, error) {
	wrong := func(format string, args ...any) (*Plan, error) {
		return nil, problem.List{{File: file, Msg: fmt.Sprintf(format, args...)}}
	}
	s := &Plan{}
	if err := json.Unmarshal(data, s); err != nil || s.What != what {
		return wrong("this is no sealed plan; metabasis plan RUNBOOK --seal FILE writes one")
	}
	if s.Version != version {
		return wrong("it was sealed by another version of Metabasis (%d, this one knows %d)", s.Version, version)
	}
	again, err := s.Bytes()
	if err != nil {
		return nil, err
	}
	if string(again) != string(data) {
		return wrong("it was changed after it was sealed, or written by something else: it is not the text that its contents have")
	}
	return s, nil
}

// Differs says in what a plan is not the sealed one, before any device is read; nothing
// when it is. What a device has, and the lines that follow, are held against it at night:
// see [Plan.For].
func (s *Plan) Differs(p *plan.Plan, text string, profiles map[string]string) (out []string) {
	now := planned(p, text, profiles)
	say := func(what, was, is string) {
		if was != is {
			out = append(out, fmt.Sprintf("%s: sealed %s, now %s", what, was, is))
		}
	}
	if !sameText(s.Runbook, now.Runbook) {
		out = append(out, "the runbook: "+firstDifference(s.Runbook, now.Runbook))
	}
	say("title", s.Title, now.Title)
	say("change", s.Change, now.Change)
	say("window opens", s.Window.Opens, now.Window.Opens)
	say("window closes", s.Window.Closes, now.Window.Closes)
	say("reserve", s.Window.Reserve, now.Window.Reserve)
	say("soak", s.Soak, now.Soak)
	say("timer", s.Timer, now.Timer)
	say("rules of the batches", strings.Join(s.Rules, "; "), strings.Join(now.Rules, "; "))
	say("prechecks", strings.Join(s.Checks, "; "), strings.Join(now.Checks, "; "))
	say("waivers", orNone(s.Waivers), orNone(now.Waivers))
	out = append(out, maps("value", s.Values, now.Values)...)
	out = append(out, maps("profile of", s.Profiles, now.Profiles)...)
	out = append(out, maps("left out", s.LeftOut, now.LeftOut)...)
	return append(out, s.devices(now)...)
}

func (s *Plan) devices(now *Plan) (out []string) {
	is := map[string]Device{}
	for _, d := range now.Devices {
		is[d.Name] = d
	}
	for _, was := range s.Devices {
		d, in := is[was.Name]
		switch {
		case !in:
			out = append(out, was.Name+": sealed, and not in scope now")
		case d.Address != was.Address:
			out = append(out, fmt.Sprintf("%s: sealed at %s, now at %s", d.Name, was.Address, d.Address))
		case d.Platform != was.Platform:
			out = append(out, fmt.Sprintf("%s: sealed as a %s, now a %s", d.Name, was.Platform, d.Platform))
		case d.Batch != was.Batch:
			out = append(out, fmt.Sprintf("%s: sealed in batch %d, now in batch %d", d.Name, was.Batch, d.Batch))
		}
		delete(is, was.Name)
	}
	for _, d := range now.Devices {
		if _, more := is[d.Name]; more {
			out = append(out, d.Name+": in scope now, and not sealed")
		}
	}
	return out
}

// maps says in what two sets of named values differ.
func maps(what string, was, is map[string]string) (out []string) {
	var names []string
	for n := range was {
		names = append(names, n)
	}
	for n := range is {
		if _, both := was[n]; !both {
			names = append(names, n)
		}
	}
	slices.Sort(names)
	for _, n := range names {
		a, in := was[n]
		b, still := is[n]
		switch {
		case !still:
			out = append(out, fmt.Sprintf("%s %s: sealed %s, now there is none", what, n, short(a)))
		case !in:
			out = append(out, fmt.Sprintf("%s %s: not sealed, now %s", what, n, short(b)))
		case a != b:
			out = append(out, fmt.Sprintf("%s %s: sealed %s, now %s", what, n, short(a), short(b)))
		}
	}
	return out
}

// short is a fingerprint that a person can compare; another value is as it is.
func short(v string) string {
	if len(v) == 64 && strings.Trim(v, "0123456789abcdef") == "" {
		return v[:12]
	}
	return v
}

// firstDifference says where two texts part.
func firstDifference(was, is string) string {
	a, b := strings.Split(strings.TrimSpace(was), "\n"), strings.Split(strings.TrimSpace(is), "\n")
	for i := range max(len(a), len(b)) {
		switch {
		case i >= len(a):
			return fmt.Sprintf("line %d was not sealed: %s", i+1, b[i])
		case i >= len(b):
			return fmt.Sprintf("line %d is not there any more: %s", i+1, a[i])
		case a[i] != b[i]:
			return fmt.Sprintf("line %d: sealed %q, now %q", i+1, strings.TrimSpace(a[i]), strings.TrimSpace(b[i]))
		}
	}
	return "it differs"
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, "; ")
}

func list(l []string) []string {
	if l == nil {
		return []string{}
	}
	return l
}

// For is what was sealed for a device; ok is false where it was not sealed.
func (s *Plan) For(device string) (work.Sealed, bool) {
	for _, d := range s.Devices {
		if d.Name == device {
			return work.Sealed{Configuration: d.Configuration, Steps: d.Steps}, true
		}
	}
	return work.Sealed{}, false
}
