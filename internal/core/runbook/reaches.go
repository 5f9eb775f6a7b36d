package runbook

import (
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/types"
)

// A condition may ask whether an address answers: reaches "<<log_host>>" from the device itself,
// from here, which is the machine that runs the night, or from another device of the fleet. It
// holds where one answer came back; without loss, where all of them did.

// Here is the machine that runs the night, as that from which an address is reached.
const Here = "here"

// ReachAsk is an address that is to answer, and from where.
type ReachAsk struct {
	To   string `json:"to"`
	From string `json:"from,omitempty"` // "" is the device itself, [Here], or the name of another device
}

// String says it as it is written.
func (a ReachAsk) String() string {
	if a.From == "" {
		return a.To
	}
	return a.To + " from " + a.From
}

// Reached is what came of it.
type Reached struct {
	Sent     int           `json:"sent,omitempty"`
	Answered int           `json:"answered"`
	Took     time.Duration `json:"took,omitempty"` // until the first answer; 0 where that is not told
	Not      string        `json:"not,omitempty"`  // why nobody knows; "" where it was looked at
}

// String says it in a few words.
func (r Reached) String() string {
	switch {
	case r.Not != "":
		return "not known: " + r.Not
	case r.Answered == 0 && r.Sent == 0:
		return "nothing came back"
	case r.Sent == 0:
		return fmt.Sprintf("%d came back", r.Answered)
	}
	return fmt.Sprintf("%d of %d came back", r.Answered, r.Sent)
}

// Whole tells that every answer came back that was asked for.
func (r Reached) Whole() bool { return r.Not == "" && r.Answered > 0 && r.Answered >= r.Sent }

// reachesName is what our own form reaches "…" becomes inside an expression.
const reachesName = "reaches_address"

var reachesForm = regexp.MustCompile(
	`\breaches\s+("(?:[^"\\]|\\.)*")(?:\s+from\s+("(?:[^"\\]|\\.)*"|[A-Za-z0-9._-]+))?(\s+without\s+loss\b)?`)

// reachesOf finds the forms of a condition.
func reachesOf(source string) (out []form) {
	for _, m := range reachesForm.FindAllStringSubmatchIndex(source, -1) {
		if inQuotes(source, m[0]) {
			continue
		}
		f := form{from: m[0], to: m[1], reach: &reachForm{to: filled(source[m[2]:m[3]]), from: `""`}}
		if m[4] >= 0 {
			if f.reach.from = source[m[4]:m[5]]; strings.HasPrefix(f.reach.from, `"`) {
				f.reach.from = filled(f.reach.from)
			} else {
				f.reach.from = quote(f.reach.from)
			}
		}
		f.text = fmt.Sprintf("%s(%s, %s, %t)", reachesName, f.reach.to, f.reach.from, m[6] >= 0)
		out = append(out, f)
	}
	return out
}

// reachForm is the form with its texts as expressions.
type reachForm struct{ to, from string }

// inQuotes tells whether a place of a condition stands in a text.
func inQuotes(source string, at int) bool {
	for i, part := range splitQuotes(source) {
		if at < len(part) {
			return i%2 == 1
		}
		at -= len(part)
	}
	return false
}

var reachesCall = regexp.MustCompile(`\b` + reachesName + `\(("(?:[^"\\]|\\.)*"), "([^"]*)", (true|false)\)`)

// writtenReaches puts the form back, as people wrote it.
func writtenReaches(source string) string {
	source = reachesCall.ReplaceAllStringFunc(source, func(call string) string {
		m := reachesCall.FindStringSubmatch(call)
		out := "reaches " + m[1]
		if m[2] != "" {
			out += " from " + m[2]
		}
		if m[3] == "true" {
			out += " without loss"
		}
		return out
	})
	return strings.ReplaceAll(source, reachesName+"(", "reaches (")
}

// withReaches adds the type of what asks whether an address answers.
func withReaches(env types.Map) {
	env[reachesName] = types.TypeOf(func(string, string, bool) (bool, error) { return true, nil })
}

// Reaches lists the addresses that the condition asks for, as far as they can be told from the
// environment.
func (c *Cond) Reaches(env Env) (out []ReachAsk) {
	text := func(source string) (string, bool) {
		prog, err := expr.Compile(source, expr.Env(map[string]any(env)))
		if err != nil {
			return "", false
		}
		v, err := expr.Run(prog, map[string]any(env))
		return fmt.Sprint(v), err == nil
	}
	for _, f := range reachesOf(c.text()) {
		to, told := text(f.reach.to)
		from, told2 := text(f.reach.from)
		if ask := (ReachAsk{to, from}); told && told2 && !slices.Contains(out, ask) {
			out = append(out, ask)
		}
	}
	return out
}

// AsksReach tells whether the condition asks whether an address answers.
func (c *Cond) AsksReach() bool { return len(reachesOf(c.text())) > 0 }

// reachesItself tells whether the device itself must reach an address for the condition.
func (c *Cond) reachesItself() bool {
	return slices.ContainsFunc(reachesOf(c.text()), func(f form) bool { return f.reach.from == `""` })
}

// reachedKey is where an environment has what was reached, and askedKey where it takes down what a
// condition asked for.
const (
	reachedKey = "\x00reached"
	askedKey   = "\x00asked"
)

// WithReached returns a copy that lets conditions ask what was reached.
func (e Env) WithReached(all map[ReachAsk]Reached) Env { return e.With(reachedKey, maps.Clone(all)) }

// NotReached is a condition that cannot be told, since nobody knows whether an address answers.
type NotReached struct {
	Ask ReachAsk
	Why string
}

func (e *NotReached) Error() string {
	return fmt.Sprintf("whether %s answers is not known: %s", e.Ask, e.Why)
}

// reachesFunc is the function behind the form.
func (e Env) reachesFunc(vals map[string]any) func(string, string, bool) (bool, error) {
	return func(to, from string, whole bool) (bool, error) {
		ask := ReachAsk{to, from}
		all, _ := e[reachedKey].(map[ReachAsk]Reached)
		r, looked := all[ask]
		if !looked {
			r.Not = "it was not looked at"
		}
		if asked, is := vals[askedKey].(*[]ReachAsk); is && !slices.Contains(*asked, ask) {
			*asked = append(*asked, ask)
		}
		if r.Not != "" {
			return false, &NotReached{ask, r.Not}
		}
		return r.Answered > 0 && (!whole || r.Whole()), nil
	}
}

// explainReached says what came of what a part of a condition asked for; "" where it asked for
// no address.
func (p part) explainReached(vals map[string]any) string {
	if !p.reaches {
		return ""
	}
	var asked []ReachAsk
	vals[askedKey] = &asked
	defer delete(vals, askedKey)
	_, err := expr.Run(p.whole, vals)
	var not *NotReached
	if errors.As(err, &not) {
		return not.Error()
	}
	all, _ := vals[reachedKey].(map[ReachAsk]Reached)
	var out []string
	for _, a := range asked {
		out = append(out, fmt.Sprintf("%s: %s", a, all[a]))
	}
	return strings.Join(out, "; ")
}

var hostName = regexp.MustCompile(`^[A-Za-z0-9](?:[A-Za-z0-9.-]{0,251}[A-Za-z0-9])?$`)

// isHost tells an address of IP, or a name; one that ends in a number is an address that is
// mistyped. A zone may be anything: it is held to be a name, too.
func isHost(s string) bool {
	if ip, err := netip.ParseAddr(s); err == nil {
		return ip.Zone() == "" || hostName.MatchString(ip.Zone())
	}
	return hostName.MatchString(s) && !endsInNumber.MatchString(s)
}

var endsInNumber = regexp.MustCompile(`(?:^|\.)[0-9]+$`)

// nearReaches is what somebody wrote who meant whether an address answers.
var nearReaches = regexp.MustCompile(`\b(?:reach|reache[ds]|answers?)\s*\(?\s*"`)

// Check says what is wrong with what is asked for; nil is nothing. An address is one of IP, or a
// name; with a port it is asked for from here alone, by a connection.
func (a ReachAsk) Check() error {
	if isHost(a.To) {
		return nil
	}
	host, port, err := net.SplitHostPort(a.To)
	if n, err2 := strconv.ParseUint(port, 10, 16); err == nil && err2 == nil && n > 0 && isHost(host) {
		if a.From == Here {
			return nil
		}
		return fmt.Errorf("%q: with a port, an address is reached from here only", a.To)
	}
	return fmt.Errorf("%q is no address that can be reached", a.To)
}

// ReachesOf lists what the conditions of a platform's part of a step ask for, as far as it can be
// told from the environment.
func (s *Step) ReachesOf(platform string, env Env) (out []ReachAsk) {
	on, ok := s.LinesFor(platform)
	if !ok {
		return nil
	}
	for _, c := range s.conds(on) {
		out = append(out, c.Reaches(env)...)
	}
	return out
}
