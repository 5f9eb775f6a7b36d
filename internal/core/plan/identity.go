package plan

import (
	"fmt"
	"slices"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/runbook"
)

// IdentityCheck is the precheck that holds who a device says it is against who is meant. It
// is always on: a runbook cannot switch it off, and a person can waive it for a device.
const IdentityCheck = "identity"

// withIdentity puts the check of identity right behind that of reach.
func withIdentity(checks []runbook.Precheck) []runbook.Precheck {
	checks = slices.DeleteFunc(slices.Clone(checks), func(p runbook.Precheck) bool { return p.Name == IdentityCheck })
	at := slices.IndexFunc(checks, func(p runbook.Precheck) bool { return p.Name == "reachable" }) + 1
	return slices.Insert(checks, at, runbook.Precheck{Name: IdentityCheck})
}

// Tells tells whether the device says in any way who it is.
func (t *Target) Tells() bool {
	return t.Traits.TellsName || t.Traits.TellsSerial || t.Traits.ShowsKey && !t.ClearText
}

// Known is the plan with what is known of who its devices are: those that are one device
// are never in change side by side, and it is said which these are.
func (p *Plan) Known(last func(device string) identity.Last) *Plan {
	known := *p
	known.Warnings = slices.Clone(p.Warnings)
	at := map[string][]*Target{} // by what tells devices apart
	seen := map[*Target]identity.Seen{}
	for _, t := range p.Targets() {
		s := last(t.Device.Name).Seen
		if t.Device.Serial != "" {
			s.Serial = t.Device.Serial
		}
		t.place.twins, seen[t] = nil, s
		for _, claim := range s.Claims() {
			for _, other := range at[claim] {
				if identity.One(s, seen[other]) && !slices.Contains(t.place.twins, other.place.n) {
					t.place.twins = append(t.place.twins, other.place.n)
					other.place.twins = append(other.place.twins, t.place.n)
					known.Warnings = append(known.Warnings, fmt.Sprintf("%s and %s are one device (%s): they are never changed side by side", other.Device.Name, t.Device.Name, claim))
				}
			}
			at[claim] = append(at[claim], t)
		}
	}
	return &known
}

// untold says of which devices nothing tells who they are.
func untold(p *Plan) []string {
	var names []string
	for _, t := range p.Targets() {
		if !t.Tells() {
			names = append(names, t.Device.Name)
		}
	}
	if names == nil {
		return nil
	}
	return []string{fmt.Sprintf("nothing tells who %s: no name in a prompt, no serial number, no key; another device at that address would be changed as if it were the one that is meant",
		are(names))}
}

// are is some devices and the verb: "ald-gate-1 is", "ald-gate-1 and 3 more are".
func are(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return some(names) + " are"
}
