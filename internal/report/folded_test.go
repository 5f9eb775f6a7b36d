package report

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFolded(t *testing.T) {
	assert.Equal(t, []string{
		"+ lan 310",
		"+   title gates",
		"+ log host 198.51.100.14",
		"- log host 198.51.100.9",
		"  port 7",
		"-   lan 20",
		"+   lan 310",
		"  port 8",
		"-   shut",
	}, Folded([]string{"- log host 198.51.100.9", "- port 7 > lan 20", "- port 8 > shut", "+ lan 310", "+ lan 310 > title gates", "+ log host 198.51.100.14", "+ port 7 > lan 310"}))
	assert.Equal(t, []string{"predicted, and not there: x"}, Folded([]string{"predicted, and not there: x"}))
	assert.Empty(t, Folded(nil))
}
