package lines

import (
	"os"
	"testing"

	"metabasis/internal/device/profile"

	"github.com/stretchr/testify/require"
)

func shipped(t testing.TB, name string) *profile.Profile {
	t.Helper()
	data, err := os.ReadFile("../../../profiles/" + name + ".yaml")
	require.NoError(t, err)
	p, err := profile.Load(name+".yaml", data)
	require.NoError(t, err)
	return p
}

func ternFile(t testing.TB) string {
	b, err := os.ReadFile("../../../profiles/tern.yaml")
	require.NoError(t, err)
	return string(b)
}

func tern(t testing.TB) *profile.Profile {
	p, err := profile.Load("tern.yaml", []byte(ternFile(t)))
	require.NoError(t, err)
	return p
}
