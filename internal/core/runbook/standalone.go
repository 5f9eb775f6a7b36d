package runbook

import (
	"strings"

	"metabasis/internal/core/problem"
)

// ParseScope reads and compiles a condition that stands outside a runbook, over
// the columns of a fleet: a scope on the command line. The error is a
// problem.List that names where as its file.
func ParseScope(where, source string, s Schema) (*Cond, error) {
	if strings.TrimSpace(source) == "" {
		return nil, problem.List{{File: where, Msg: "the scope is empty", Hint: `site == "ALD"`}}
	}
	rb := &Runbook{File: where, lines: map[int]string{1: source}}
	cond := &Cond{Source: strings.TrimSpace(source), at: span{line: 1, col: 1}}
	rb.Scope = []*Cond{cond}
	return cond, rb.Compile(s)
}
