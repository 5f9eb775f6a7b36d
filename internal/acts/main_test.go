package acts

import (
	"os"
	"testing"

	"metabasis/internal/testenv"
)

func TestMain(m *testing.M) {
	testenv.Clear()
	os.Exit(m.Run())
}
