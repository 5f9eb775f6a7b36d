package runbook

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/expr-lang/expr/types"

	"metabasis/internal/core/problem"
)

// Suits tells what of the runbook cannot be done on a platform that is in scope:
// conditions over tables that its profile does not read would fail only after
// lines were sent. Steps are the numbers, from 1, of those that are for devices
// of the platform; nil means that this is not known yet.
func (rb *Runbook) Suits(platform string, s Schema, steps []int) problem.List {
	var list problem.List
	for _, pc := range rb.Prechecks {
		if pc.Own() {
			list = append(list, rb.misfit(pc.Where, nil, platform, s)...)
		}
	}
	for i := range rb.Steps {
		if steps == nil || slices.Contains(steps, i+1) {
			list = append(list, rb.suits(&rb.Steps[i], platform, s)...)
		}
	}
	return list
}

// suits holds one step's conditions against a platform.
func (rb *Runbook) suits(s *Step, platform string, schema Schema) (list problem.List) {
	on, ok := s.LinesFor(platform)
	if !ok {
		return nil
	}
	if s.For != nil && s.For.Reads {
		if _, has := schema.Of[platform][s.For.Table]; !has {
			at := problem.Problem{File: rb.File, Line: s.For.Line, Text: rb.lines[s.For.Line], Hint: "it under a step of its own, for platforms that have the table"}
			at.Msg = fmt.Sprintf("the profile of %s reads no table %q to go through", platform, s.For.Table)
			return problem.List{at}
		}
	}
	for _, cond := range s.conds(on) {
		list = append(list, rb.misfit(cond, s.For, platform, schema)...)
	}
	return list
}

// conds are the conditions of a step with the lines of a platform.
func (s *Step) conds(on On) []*Cond {
	conds := []*Cond{s.When, s.Already, on.Already}
	if s.For != nil {
		conds = append(conds, s.For.Where)
	}
	if s.Wait != nil {
		conds = append(conds, s.Wait.Until)
	}
	for _, e := range slices.Concat(s.Expect, on.Expect) {
		conds = append(conds, e.Cond)
	}
	return slices.DeleteFunc(conds, func(c *Cond) bool { return c == nil })
}

// LinesFor finds the lines and conditions of a step for a platform. A step with
// lines for other platforms only is not for this one; a step without lines is
// for all.
func (s *Step) LinesFor(platform string) (On, bool) {
	for _, on := range s.On {
		if len(on.Platforms) == 0 || slices.Contains(on.Platforms, platform) {
			return on, true
		}
	}
	return On{}, len(s.On) == 0
}

// misfit says what a condition looks at that a platform does not read.
func (rb *Runbook) misfit(cond *Cond, loop *Loop, platform string, s Schema) problem.List {
	if cond.prog == nil {
		return nil // it is refused already
	}
	at := problem.Problem{File: rb.File, Line: cond.at.line, Col: cond.at.col, Text: rb.lines[cond.at.line]}
	tables := s.Of[platform]
	for _, name := range cond.names {
		_, some := s.Tables[name]
		if _, has := tables[name]; !some || has {
			continue
		}
		at.Msg = fmt.Sprintf("the profile of %s reads no table %q, so this can never be told on its devices", platform, name)
		at.Hint = "it under on PLATFORM, for platforms that have the table; " + platform + " reads " + orNothing(slices.Sorted(maps.Keys(tables)))
		return problem.List{at}
	}
	if cond.reachesItself() && !s.Reaches[platform] {
		at.Msg = fmt.Sprintf("the profile of %s does not say how it reaches an address", platform)
		at.Hint = "from here, or from the name of a device, behind the address; or reach: in the profile"
		return problem.List{at}
	}
	source, _ := rewrite(cond.Source)
	known := withTables(rb.fieldTypes(s), tables)
	known[sameName] = types.TypeOf(func(string, any, []any) bool { return true })
	if _, _, err := compileExpr(source, loop.looped(known, s), true); err != nil {
		at.Msg = fmt.Sprintf("this can never be told on devices of platform %s: %v", platform, err)
		at.Hint = "it under on PLATFORM, for platforms that can tell"
		return problem.List{at}
	}
	return nil
}

func orNothing(names []string) string {
	if len(names) == 0 {
		return "no table"
	}
	return strings.Join(names, ", ")
}
