package plan

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
)

// Waiver lets one device, or those of a platform, pass one precheck that does not
// hold, for a reason.
type Waiver struct {
	Check  string `json:"check"`
	Device string `json:"device"` // or a platform
	Reason string `json:"reason"`
	By     string `json:"by,omitempty"`
}

// ParseWaiver reads a waiver as it is written on a command line: "clock on
// ald-quay-3: its battery is dead, to be replaced on Friday".
func ParseWaiver(text, by string) (Waiver, error) {
	m := waiverForm.FindStringSubmatch(text)
	if m == nil {
		return Waiver{}, fmt.Errorf(`waiver %q: write CHECK on DEVICE: REASON, for example "clock on ald-quay-3: its battery is dead"`, text)
	}
	w := Waiver{Check: m[1], Device: m[2], Reason: strings.TrimSpace(m[3]), By: by}
	if len(w.Reason) < 3 {
		return w, fmt.Errorf("waiver %q: its reason says nothing to whoever reads the journal; write why the check need not hold", text)
	}
	return w, nil
}

var waiverForm = regexp.MustCompile(`^\s*(\S.*?) on ([^\s:]+):(.*)$`)

// Waive adds waivers to the plan. Each must be of a precheck of the plan and a
// device in scope. What the laws ask for cannot be waived: a device that is not
// reached, and unsaved changes where a restart would bring back what is saved.
func (p *Plan) Waive(waivers []Waiver) error {
	if len(waivers) == 0 {
		return nil
	}
	checks, known := p.Checks(), []string(nil)
	back := map[string]bool{} // where a timer runs that brings back what is saved
	for _, t := range p.Targets() {
		known = append(known, t.Device.Name, t.Device.Platform)
		back[t.Device.Platform] = p.BringsBack(t)
	}
	for _, t := range p.Targets() { // a device may be called as a platform is
		back[t.Device.Name] = p.BringsBack(t)
	}
	for _, w := range waivers {
		switch {
		case w.Check == "reachable":
			return fmt.Errorf("a device that is not reached cannot be changed: reachable cannot be waived on %s", w.Device)
		case !slices.Contains(known, w.Device):
			return fmt.Errorf("waiver of %s: %q is not in scope%s", w.Check, w.Device, problem.Write(w.Device, known))
		case w.Check == SavedCheck && back[w.Device]:
			return fmt.Errorf("the timer of %s brings back what is saved: unsaved changes cannot be waived", w.Device)
		case w.Check == IdentityCheck && p.byName[w.Device] == nil:
			return fmt.Errorf("identity is waived for one device at a time, not for the platform %s", w.Device)
		case !slices.Contains(checks, w.Check):
			return fmt.Errorf("waiver on %s: there is no precheck %q here%s", w.Device, w.Check, problem.Write(w.Check, checks))
		}
		p.Waivers = append(p.Waivers, w)
		p.Warnings = append(p.Warnings, fmt.Sprintf("%s is waived on %s: %s", w.Check, w.Device, w.Reason))
	}
	return nil
}

// Waived finds the waiver of a precheck on a device.
func (p *Plan) Waived(check string, t *Target) (Waiver, bool) {
	i := slices.IndexFunc(p.Waivers, func(w Waiver) bool {
		return w.Check == check && (w.Device == t.Device.Name || w.Device == t.Device.Platform)
	})
	if i < 0 {
		return Waiver{}, false
	}
	return p.Waivers[i], true
}

// SavedCheck is the name of the precheck that all is saved.
const SavedCheck = "saved"

// LooksAtSaved tells whether it is looked at on a device that all is saved: where a timer runs
// that brings that back, always; where the device has such a timer that does not run in this
// night, unless that is switched off.
func (p *Plan) LooksAtSaved(t *Target) bool {
	return p.BringsBack(t) || p.Asks(SavedCheck) || t.Traits.Timer.BringsBack() && t.Touches() && !p.Off(SavedCheck)
}

// Checks are the names of all prechecks that are looked at on some device.
func (p *Plan) Checks() (out []string) {
	for _, pc := range p.Prechecks {
		if !pc.Off {
			out = append(out, pc.Name)
		}
	}
	if !slices.Contains(out, SavedCheck) && slices.ContainsFunc(p.Targets(), p.LooksAtSaved) {
		out = append(out, SavedCheck)
	}
	return out
}

// Asks tells whether the plan has a precheck that is not switched off.
func (p *Plan) Asks(check string) bool {
	return slices.ContainsFunc(p.Prechecks, func(pc runbook.Precheck) bool { return pc.Name == check && !pc.Off })
}

// Off tells whether a precheck is switched off.
func (p *Plan) Off(check string) bool {
	return slices.ContainsFunc(p.Prechecks, func(pc runbook.Precheck) bool { return pc.Name == check && pc.Off })
}
