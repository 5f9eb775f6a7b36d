// Package scope selects devices of a fleet by a condition, by name, or by a
// selection that was saved, and says of each device that is left out why.
package scope

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
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
	// Told is what it goes by of what devices told when they were last read.
	Told Looks
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

// From is where words of a scope are looked up that the fleet itself does not know.
type From struct {
	Saved map[string]Selection
	// File gives the names that stand in a file; nil reads none.
	File func(path string) ([]string, error)
	// NotKept gives the devices that a night did not keep; nil knows of none.
	NotKept func(night string) ([]string, error)
	// Schema is what can be read of devices, and Told what they told when that was done last;
	// nil knows of nothing.
	Schema runbook.Schema
	Told   runbook.Teller
}

// Condition is a selection as a condition: by its own, or by the names in it.
func (s Selection) Condition() string {
	var parts []string
	if s.Where != "" {
		parts = append(parts, "("+s.Where+")")
	}
	if len(s.Devices) > 0 {
		quoted := make([]string, len(s.Devices))
		for i, d := range s.Devices {
			quoted[i] = strconv.Quote(d)
		}
		parts = append(parts, "name in ["+strings.Join(quoted, ", ")+"]")
	}
	return strings.Join(parts, " or ")
}

// Select selects the devices that the words of a command line mean: a condition
// as a runbook's scope has it, or names of devices, patterns of names such as
// ald-quay-*, @names of saved selections, files of names such as ./tonight.txt, or what a
// night did not keep: not kept in night 21. No words mean the whole fleet. It is an error to
// select nothing.
func Select(f *fleet.Fleet, words []string, from From) (*Scope, error) {
	s := &Scope{Source: strings.Join(words, " ")}
	words, err := from.plain(f, words)
	if err != nil {
		return nil, err
	}
	for _, r := range f.Retired {
		s.LeftOut = append(s.LeftOut, LeftOut{r.Name, "retired: " + r.Why, "", false})
	}
	if len(words) == 0 {
		s.Devices = f.Devices
		return s, nil
	}
	s.Condition = slices.ContainsFunc(words, func(w string) bool { return !isName(f, w) })
	why, err := s.chooser(f, words, from)
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
		why := append([]string{Reasons(s.LeftOut)}, s.Told.Says()...)
		return nil, fmt.Errorf("the scope %s selects no device: %s", s.Source, strings.Join(why, "; "))
	}
	return s, nil
}

// chooser makes a function that says why a device is left out, "" if it is not.
func (s *Scope) chooser(f *fleet.Fleet, words []string, from From) (func(fleet.Device) Outside, error) {
	if !slices.ContainsFunc(words, func(w string) bool { return !isName(f, w) }) {
		return s.byName(f, words, from)
	}
	source := strings.Join(words, " ")
	// Words without anything of a condition are meant as names.
	table, _, dotted := strings.Cut(source, ".")
	_, read := from.Schema.Tables[table]
	condition := slices.Contains(columns(f), source) || dotted && read
	if !slices.ContainsFunc(words, func(w string) bool { return !looksLikeName(w) }) && !condition {
		for _, w := range words {
			if why := retired(f, w); why != "" {
				return nil, fmt.Errorf("%s is retired: %s", w, why)
			}
			if !isName(f, w) {
				return nil, fmt.Errorf("there is no device %q%s", w, nearest(w, f))
			}
		}
	}
	return s.byCondition(f, source, from)
}

// looksLikeName tells a word that may be a name from a part of a condition.
func looksLikeName(w string) bool {
	return !strings.ContainsAny(w, " =<>\"'()[]!") &&
		!slices.Contains([]string{"and", "or", "not", "in", "true", "false", "matches", "contains", "within"}, w)
}

func isName(f *fleet.Fleet, w string) bool {
	_, ok := f.Get(w)
	return ok || strings.HasPrefix(w, "@") || isPattern(w)
}

// isPattern tells a pattern of names, such as ald-quay-*.
func isPattern(w string) bool { return namePattern.MatchString(w) && strings.Contains(w, "*") }

var (
	namePattern = regexp.MustCompile(`^[A-Za-z0-9._*-]+$`)
	listed      = regexp.MustCompile(`^@?[A-Za-z0-9._*-]+(,@?[A-Za-z0-9._*-]+)+,?$`)
	notKept     = regexp.MustCompile(`^not kept in night (\d+|newest)$`)
)

// isFile tells a file of names from a name.
func isFile(f *fleet.Fleet, w string) bool {
	if _, device := f.Get(w); device {
		return false
	}
	return isFileName(w)
}

func isFileName(w string) bool {
	return !strings.ContainsAny(w, " =<>\"'()[]!") &&
		(strings.Contains(w, "/") || strings.HasSuffix(w, ".txt") || strings.HasSuffix(w, ".csv"))
}

// plain makes of words what needs nothing but the fleet and selections: files and nights become
// the names in them, and lists of names their parts.
func (from From) plain(f *fleet.Fleet, words []string) (out []string, err error) {
	if m := notKept.FindStringSubmatch(strings.Join(words, " ")); m != nil {
		if from.NotKept == nil {
			return nil, errors.New("there are no nights here")
		}
		names, err := from.NotKept(m[1])
		if err == nil && len(names) == 0 {
			err = fmt.Errorf("night %s kept all its devices", m[1])
		}
		return names, err
	}
	for _, w := range words {
		switch {
		case isFile(f, w):
			if from.File == nil {
				return nil, fmt.Errorf("no file of names can be read here: %s", w)
			}
			names, err := from.File(w)
			if err != nil {
				return nil, err
			}
			for _, n := range names {
				if !isName(f, n) {
					return nil, fmt.Errorf("%s names %s, which is not in the fleet%s", w, n, nearest(n, f))
				}
			}
			out = append(out, names...)
		case listed.MatchString(w):
			for part := range strings.SplitSeq(strings.Trim(w, ","), ",") {
				out = append(out, part)
			}
		default:
			out = append(out, w)
		}
	}
	return out, nil
}

// NamesIn are the names in a file of names: one a line, or the first of the values of each
// line, below a head that is called name.
func NamesIn(data []byte) (out []string) {
	for l := range strings.Lines(string(data)) {
		l, _, _ = strings.Cut(l, "#")
		name, _, _ := strings.Cut(strings.NewReplacer(";", ",", "\t", ",").Replace(strings.TrimSpace(l)), ",")
		name = strings.Trim(strings.TrimSpace(name), `"`)
		if name != "" && !(len(out) == 0 && (name == "name" || name == "device")) {
			out = append(out, name)
		}
	}
	return out
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
	if near := f.Near(w); near != "" {
		return near
	}
	return `; write names of devices, or a condition such as site == "ALD"`
}

func columns(f *fleet.Fleet) []string { return slices.Concat(f.Columns, runbook.DeviceFields) }

func (s *Scope) byCondition(f *fleet.Fleet, source string, from From) (func(fleet.Device) Outside, error) {
	schema := from.Schema
	schema.Fields, schema.Beside = f.Further(), f.Beside()
	cond, err := runbook.ParseScope("scope", source, schema)
	if err != nil {
		return nil, err
	}
	rb := &runbook.Runbook{}
	return func(d fleet.Device) Outside {
		env := rb.DeviceEnv(f.Fields(d), nil)
		return Why(cond, s.Told.Add(d, cond, env, from.Told))
	}, nil
}

// Why says why a condition does not hold for a device.
func Why(cond *runbook.Cond, env runbook.Env) Outside {
	ok, err := cond.Eval(env)
	switch not := cond.NotTold(env); {
	case err != nil && not != "":
		return Outside{Why: not}
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

func (s *Scope) byName(f *fleet.Fleet, words []string, from From) (func(fleet.Device) Outside, error) {
	var any []func(fleet.Device) Outside
	for _, w := range words {
		name, isSaved := strings.CutPrefix(w, "@")
		if !isSaved && isPattern(w) {
			fits := like(w)
			if !slices.ContainsFunc(f.Devices, func(d fleet.Device) bool { return fits(d).Why == "" }) {
				return nil, fmt.Errorf("no device has a name like %s", w)
			}
			any = append(any, fits)
			continue
		}
		if !isSaved {
			any = append(any, named([]string{w}))
			continue
		}
		sel, ok := from.Saved[name]
		if !ok {
			return nil, fmt.Errorf("there is no selection @%s%s", name, problem.Write(name, slices.Sorted(maps.Keys(from.Saved))))
		}
		if sel.Where != "" {
			c, err := s.byCondition(f, sel.Where, from)
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

// like chooses by a pattern of names.
func like(pattern string) func(fleet.Device) Outside {
	re := regexp.MustCompile("^" + strings.ReplaceAll(regexp.QuoteMeta(pattern), `\*`, ".*") + "$")
	return func(d fleet.Device) Outside {
		if re.MatchString(d.Name) {
			return Outside{}
		}
		return Outside{Why: "not named"}
	}
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

// NotChosen is why a device is left out of tonight's part of a scope.
const NotChosen = "not chosen tonight"

// Part is a part of a scope that is chosen for one night.
type Part struct {
	Source string
	// Told is what it goes by of what devices told when they were last read.
	Told   Looks
	chosen map[string]bool
	named  []string // devices that are named one by one
}

// Only are the words that several choices make together: names add up, and a condition stands
// alone.
func Only(choices []string) ([]string, error) {
	for _, c := range choices {
		if len(choices) > 1 && !looksLikeName(c) && !isFileName(c) {
			return nil, fmt.Errorf("%s stands beside other choices: a condition stands alone, with and, or between its parts", c)
		}
	}
	return choices, nil
}

// Choose chooses a part by words, as [Select] takes them; no words choose all, which is nil.
func Choose(f *fleet.Fleet, words []string, from From) (*Part, error) {
	words, err := Only(words)
	if len(words) == 0 || err != nil {
		return nil, err
	}
	s, err := Select(f, words, from)
	if err != nil {
		return nil, err
	}
	p := &Part{Source: s.Source, Told: s.Told, chosen: map[string]bool{}}
	for _, d := range s.Devices {
		p.chosen[d.Name] = true
	}
	for _, w := range words {
		for n := range strings.SplitSeq(w, ",") {
			if _, device := f.Get(n); device {
				p.named = append(p.named, n)
			}
		}
	}
	return p, nil
}

// Has tells whether a device is of the part.
func (p *Part) Has(device string) bool { return p == nil || p.chosen[device] }

// Named tells whether a device was chosen by its own name.
func (p *Part) Named(device string) bool { return p != nil && slices.Contains(p.named, device) }
