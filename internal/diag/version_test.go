package diag

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Only what was built from a tag, and from nothing else, calls itself by it.
func TestVersion(t *testing.T) {
	for built, want := range map[string]string{
		"v0.2.0": "0.2.0", "v1.0.0-rc.1": "1.0.0-rc.1",
		"v0.2.0+dirty": unreleased, "v0.0.0-20261130135733-65a825f405ee": unreleased,
		"v0.2.1-0.20261130135733-65a825f405ee": unreleased, "(devel)": unreleased, "": unreleased,
	} {
		assert.Equal(t, want, released(built), built)
	}
}
