package nights

import (
	"os"
	"testing"
	"time"
)

// TestMain puts every night into one zone, so that the times in stories are the same
// everywhere.
func TestMain(m *testing.M) {
	time.Local = time.UTC
	os.Exit(m.Run())
}
