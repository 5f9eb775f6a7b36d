package config

import (
	"fmt"
	"strings"
)

// wrongTold is how many of several reasons are told one by one.
const wrongTold = 8

// reasons are several errors told in one line, since a line of a journal is one line.
type reasons []error

// because makes one error of several; nil of none.
func because(wrong []error) error {
	if len(wrong) == 0 {
		return nil
	}
	return reasons(wrong)
}

// Error implements error.
func (r reasons) Error() string {
	var out []string
	for _, err := range r[:min(len(r), wrongTold)] {
		out = append(out, err.Error())
	}
	if more := len(r) - wrongTold; more > 0 {
		out = append(out, fmt.Sprintf("and %d more such lines", more))
	}
	return strings.Join(out, "; ")
}

// Unwrap gives each of them to [errors.Is] and [errors.As].
func (r reasons) Unwrap() []error { return r }
