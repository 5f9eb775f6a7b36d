package workspace

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func env(vars ...string) func(string) string {
	return func(name string) string {
		for _, v := range vars {
			if k, val, _ := strings.Cut(v, "="); k == name {
				return val
			}
		}
		return ""
	}
}

func TestLogins(t *testing.T) {
	need := map[string][]string{"night-crew": {"password", "operator"}}
	got, err := Logins(context.Background(), need, env("METABASIS_NIGHT_CREW_PASSWORD=a b", "METABASIS_NIGHT_CREW_OPERATOR=op", "METABASIS_NIGHT_CREW_USER=ada"), nil)
	require.NoError(t, err)
	assert.Equal(t, "ada", got["night-crew"].User)
	assert.Equal(t, "a b", got["night-crew"].Password)
	assert.Equal(t, "op", got["night-crew"].Secrets["operator"])

	var asked []string
	got, err = Logins(context.Background(), need, env("METABASIS_NIGHT_CREW_PASSWORD=x"), func(p string) (string, error) { asked = append(asked, p); return "told", nil })
	require.NoError(t, err)
	assert.Equal(t, []string{"operator of login night-crew: "}, asked, "only what is not known is asked")
	assert.Equal(t, "told", got["night-crew"].Secrets["operator"])
	assert.Equal(t, "night-crew", got["night-crew"].User)

	_, err = Logins(context.Background(), need, env(), nil)
	assert.ErrorContains(t, err, "set METABASIS_NIGHT_CREW_PASSWORD")
	_, err = Logins(context.Background(), map[string][]string{"": {"password"}}, env(), nil)
	assert.ErrorContains(t, err, "have no login in the fleet file")
}

func TestOwnProfilesComeFirstAndTheirMistakesAreNamed(t *testing.T) {
	dir := t.TempDir()
	shipped, err := os.ReadFile("../../profiles/tern.yaml")
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "profiles"), 0o700))
	own := filepath.Join(dir, "profiles", "tern.yaml")
	require.NoError(t, os.WriteFile(own, []byte(strings.Replace(string(shipped), "boot: 20s", "boot: 45s", 1)), 0o600))
	ws, err := Open(dir)
	require.NoError(t, err)
	assert.Equal(t, "45s", ws.Profiles["tern"].Timer.Boot.String())
	require.NoError(t, os.WriteFile(own, []byte("platform: tern\ncolour: red\n"), 0o600))
	_, err = Open(dir)
	assert.ErrorContains(t, err, own+":2")
}

func TestFleetFiles(t *testing.T) {
	dir := t.TempDir()
	ws, err := Open(dir)
	require.NoError(t, err)
	_, err = ws.Fleet("")
	assert.ErrorIs(t, err, ErrNoFleet)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fleet.txt"), []byte("platform tern\n192.0.2.1\n"), 0o600))
	f, err := ws.Fleet("")
	require.NoError(t, err)
	assert.Len(t, f.Devices, 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fleet.csv"), []byte("name,address,platform\na,192.0.2.1,tern\nb,192.0.2.2,tern\n"), 0o600))
	f, err = ws.Fleet("")
	require.NoError(t, err)
	assert.Len(t, f.Devices, 2, "fleet.csv comes first")
	_, err = ws.Fleet(filepath.Join(dir, "nowhere.csv"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestSecretsOfARunbookStayOutOfTheJournal(t *testing.T) {
	ws, err := Open(t.TempDir())
	require.NoError(t, err)
	assert.Equal(t, "step \"a | b\"\n  send\n    | login ferry secret ▒▒▒▒\n    | log host 192.0.2.1",
		ws.maskRunbook("step \"a | b\"\n  send\n    | login ferry secret k3lp\n    | log host 192.0.2.1"))
}
