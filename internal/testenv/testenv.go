// Package testenv keeps what a person has set in their shell out of tests.
package testenv

import (
	"os"
	"strings"
)

// Clear unsets every variable of ours.
func Clear() {
	for _, v := range os.Environ() {
		if name, _, _ := strings.Cut(v, "="); strings.HasPrefix(name, "METABASIS_") {
			os.Unsetenv(name)
		}
	}
}
