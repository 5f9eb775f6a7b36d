// Package scope selects devices of a fleet by a condition, by name, or by a
// selection that was saved, and says of each device that is left out why.
package scope

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
)

// Scope is what was selected.
type Scope struct {
	Source  string // as it was written; "" is the whole fleet
	Devices []fleet.Device
	LeftOut []LeftOut
	// Condition tells that Source is a condition, and no names.
	Condition bool
}

// LeftOut is a device that was not selected.
type LeftOut struct {
	Device string
	Why    string
	// Rule is the reason without the device's own value; "" where there is none.
	Rule string `json:",omitempty"`
	// Open tells that what is done to the others would have to be done to it, too.
	Open bool `json:",omitempty"`
}

// Outside says why a device is not in scope; "" is in scope.
type Outside struct {
	Why, Rule string
	Open      bool
}

// Selection is a saved selection: a condition, or a list of names.
type Selection struct {
	Where   string   `yaml:"where,omitempty"`
	Devices []string `yaml:"devices,omitempty"`
}

// Select selects the devices that the words of a command line mean: a condition
// as a runbook's scope has it, or names of devices and @names of saved
// selections. No words mean the whole fleet. It is an error to select nothing.
func Select(f *fleet.Fleet, words []string, saved map[string]Selection) (*Scope, error) {
	s := &Scope{Source: strings.Join(words, " ")}
	for _, r := range f.Retired {
		s.LeftOut = append(s.LeftOut, LeftOut{r.Name, "retired: " + r.Why, "", false})
	}
	if len(words) == 0 {
		s.Devices = f.Devices
		return s, nil
	}
	s.Condition = slices.ContainsFunc(words, func(w string) bool { return !isName(f, w) })
	why, err := chooser(f, words, saved)
	if err != nil {
		return nil, err
	}
	for _, d := range f.Devices {
		if o := why(d); o.Why != "" {
			s.LeftOut = append(s.LeftOut, LeftOut{d.Name, o.Why, o.Rule, o.Open})
		} else {
			s.Devices = append(s.Devices, d)
		}
	}
	if len(s.Devices) == 0 {
		return nil, fmt.Errorf("the scope %s selects no device: %s", s.Source, Reasons(s.LeftOut))
	}
	return s, nil
}

// chooser makes a function that says why a device is left out, "" if it is not.
func chooser(f *fleet.Fleet, words []string, saved map[string]Selection) (func(fleet.Device) Outside, error) {
	if !slices.ContainsFunc(words, func(w string) bool { return !isName(f, w) }) {
		return byName(f, words, saved)
	}
	source := strings.Join(words, " ")
	// Words without anything of a condition are meant as names.
	if !slices.ContainsFunc(words, func(w string) bool { return !looksLikeName(w) }) && !slices.Contains(columns(f), source) {
		for _, w := range words {
			if why := retired(f, w); why != "" {
				return nil, fmt.Errorf("%s is retired: %s", w, why)
			}
			if !isName(f, w) {
				return nil, fmt.Errorf("there is no device %q%s", w, nearest(w, f))
			}
		}
	}
	return byCondition(f, source)
}

// looksLikeName tells a word that may be a name from a part of a condition.
func looksLikeName(w string) bool {
	return !strings.ContainsAny(w, " =<>\"'()[]!") &&
		!slices.Contains([]string{"and", "or", "not", "in", "true", "false", "matches", "contains"}, w)
}

func isName(f *fleet.Fleet, w string) bool {
	_, ok := f.Get(w)
	return ok || strings.HasPrefix(w, "@")
}

// retired says why a device is worked on no more; "" where it is none of those.
func retired(f *fleet.Fleet, name string) string {
	for _, r := range f.Retired {
		if r.Name == name {
			return r.Why
		}
	}
	return ""
}

func nearest(w string, f *fleet.Fleet) string {
	var names []string
	for _, d := range f.Devices {
		names = append(names, d.Name)
	}
	if n := problem.Nearest(w, names); n != "" {
		return "; did you mean " + n + "?"
	}
	return `; write names of devices, or a condition such as site == "ALD"`
}

func columns(f *fleet.Fleet) []string { return slices.Concat(f.Columns, runbook.DeviceFields) }

func byCondition(f *fleet.Fleet, source string) (func(fleet.Device) Outside, error) {
	cond, err := runbook.ParseScope("scope", source, runbook.Schema{Fields: f.Further(), Beside: f.Beside()})
	if err != nil {
		return nil, err
	}
	rb := &runbook.Runbook{}
	return func(d fleet.Device) Outside {
		return Why(cond, rb.DeviceEnv(f.Fields(d), nil))
	}, nil
}

// Why says why a condition does not hold for a device.
func Why(cond *runbook.Cond, env runbook.Env) Outside {
	ok, err := cond.Eval(env)
	switch {
	case err != nil:
		return Outside{Why: err.Error()}
	case ok:
		return Outside{}
	}
	if why := cond.Explain(env); why != "" {
		return Outside{Why: why, Rule: cond.Rule(env)}
	}
	return Outside{Why: "not " + cond.Source}
}

func byName(f *fleet.Fleet, words []string, saved map[string]Selection) (func(fleet.Device) Outside, error) {
	var any []func(fleet.Device) Outside
	for _, w := range words {
		name, isSaved := strings.CutPrefix(w, "@")
		if !isSaved {
			any = append(any, named([]string{w}))
			continue
		}
		sel, ok := saved[name]
		if !ok {
			return nil, fmt.Errorf("there is no selection @%s%s", name, problem.Write(name, slices.Sorted(maps.Keys(saved))))
		}
		if sel.Where != "" {
			c, err := byCondition(f, sel.Where)
			if err != nil {
				return nil, err
			}
			any = append(any, c)
		}
		for _, d := range sel.Devices {
			if _, ok := f.Get(d); !ok {
				return nil, fmt.Errorf("selection @%s names %s, which is not in the fleet%s", name, d, nearest(d, f))
			}
		}
		any = append(any, named(sel.Devices))
	}
	return func(d fleet.Device) Outside {
		for _, c := range any {
			if c(d).Why == "" {
				return Outside{}
			}
		}
		return Outside{Why: "not named"}
	}, nil
}

func named(names []string) func(fleet.Device) Outside {
	return func(d fleet.Device) Outside {
		if slices.Contains(names, d.Name) {
			return Outside{}
		}
		return Outside{Why: "not named"}
	}
}

// Group is the devices that are left out for one reason.
type Group struct {
	Why     string
	Devices []string
}

// folded is how many reasons under one rule are told each by itself.
const folded = 8

// Groups groups those left out by the reason, the most common first. Where one rule
// has many reasons, a site each, say, they are told together: "site is not ALD, but
// one of 499 others"; of names, which each device has one of its own of, the rule says enough.
func Groups(out []LeftOut) []Group {
	reasons := map[string]map[string]bool{} // by rule
	for _, l := range out {
		if reasons[l.Rule] == nil {
			reasons[l.Rule] = map[string]bool{}
		}
		reasons[l.Rule][l.Why] = true
	}
	devices := map[string]int{}
	for _, l := range out {
		devices[l.Rule]++
	}
	var groups []Group
	at := map[string]int{}
	for _, l := range out {
		why := l.Why
		if n := len(reasons[l.Rule]); l.Rule != "" && n > folded {
			if why = l.Rule; n < devices[l.Rule] || !strings.HasPrefix(l.Rule, "name ") {
				why = fmt.Sprintf("%s, but one of %d others", l.Rule, n)
			}
		}
		i, ok := at[why]
		if !ok {
			i = len(groups)
			at[why] = i
			groups = append(groups, Group{Why: why})
		}
		groups[i].Devices = append(groups[i].Devices, l.Device)
	}
	slices.SortStableFunc(groups, func(a, b Group) int { return len(b.Devices) - len(a.Devices) })
	return groups
}

// Reasons sums up why devices are left out.
func Reasons(out []LeftOut) string {
	var parts []string
	for _, g := range Groups(out) {
		parts = append(parts, fmt.Sprintf("%d because %s", len(g.Devices), g.Why))
	}
	return strings.Join(parts[:min(len(parts), 5)], "; ")
}
