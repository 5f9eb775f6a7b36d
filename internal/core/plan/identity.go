package plan

import (
	"fmt"
	"maps"
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
	all := p.Targets()
	seen := make([]identity.Seen, len(all))
	for i, t := range all {
		if seen[i] = last(t.Device.Name).Seen; t.Device.Serial != "" {
			seen[i].Serial = t.Device.Serial
		}
	}
	same := identity.Same(seen)
	twins := map[int][]string{}
	for i, t := range all {
		t.place.same = all[same[i]].place.n
		twins[same[i]] = append(twins[same[i]], t.Device.Name)
	}
	for _, first := range slices.Sorted(maps.Keys(twins)) {
		if names := twins[first]; len(names) > 1 {
			known.Warnings = append(
				known.Warnings,
				fmt.Sprintf("%s are one device (%s): they are never changed side by side", together(names), seen[first].Claims()[0]),
			)
		}
	}
	return &known
}

// together names some devices: two of them both, of more the first ones.
func together(names []string) string {
	if len(names) == 2 {
		return names[0] + " and " + names[1]
	}
	return some(names)
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
	return []string{
		fmt.Sprintf(
			"nothing tells who %s: no name in a prompt, no serial number, no key; another device at that address would be changed as if it were the one that is meant",
			are(names),
		),
	}
}

// are is some devices and the verb: "ald-gate-1 is", "ald-gate-1 and 3 more are".
func are(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return some(names) + " are"
}
