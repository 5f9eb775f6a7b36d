package workspace

import (
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"metabasis/internal/core/fleet"
	devssh "metabasis/internal/device/ssh"
	"metabasis/internal/person"
	"metabasis/internal/store/secrets"
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

// access opens a workspace with one login and finds what it needs.
func access(t *testing.T, dir, fleetCSV string, getenv func(string) string, ask person.Person) (*Access, error) {
	ws, err := OpenWith(dir, map[string]string{"agent": "no", "ssh_config": "none", "known_hosts": "/nowhere"})
	require.NoError(t, err)
	f, err := fleet.Read("fleet.csv", []byte(fleetCSV), ws.Profiles.Platforms())
	require.NoError(t, err)
	a, err := ws.Access(context.Background(), f, f.Devices, ws.Finder(getenv, ask))
	if err == nil {
		t.Cleanup(func() { a.Close() })
	}
	return a, err
}

const oneTern = "name,address,platform,login\na,192.0.2.1,tern,night-crew\n"

func TestLogins(t *testing.T) {
	dir := t.TempDir()
	a, err := access(t, dir, oneTern, env("METABASIS_NIGHT_CREW_PASSWORD=a b", "METABASIS_NIGHT_CREW_OPERATOR=op", "METABASIS_NIGHT_CREW_USER=ada"), nil)
	require.NoError(t, err)
	assert.Equal(t, "ada", a.Logins["night-crew"].User)
	assert.Equal(t, "a b", a.Logins["night-crew"].Password)
	assert.Equal(t, "op", a.Logins["night-crew"].Secrets["operator"])

	var asked []string
	a, err = access(t, dir, oneTern, env("METABASIS_NIGHT_CREW_PASSWORD=x"), person.Func(func(_ context.Context, f person.Form) ([]string, error) {
		asked = append(asked, f.Questions[0].Text)
		return []string{"told"}, nil
	}))
	require.NoError(t, err)
	assert.Equal(t, []string{"operator of login night-crew"}, asked, "only what is not known is asked")
	assert.Equal(t, "told", a.Logins["night-crew"].Secrets["operator"])
	assert.Equal(t, "night-crew", a.Logins["night-crew"].User)

	_, err = access(t, dir, oneTern, env(), nil)
	assert.ErrorContains(t, err, "set METABASIS_NIGHT_CREW_PASSWORD")
	_, err = access(t, dir, "name,address,platform\na,192.0.2.1,tern\n", env(), nil)
	assert.ErrorContains(t, err, "a: no login: name one in the fleet's login column")
}

func TestAKeyMakesAPasswordOptional(t *testing.T) {
	dir := t.TempDir()
	key := filepath.Join(dir, "id")
	require.NoError(t, os.WriteFile(key, []byte("a key"), 0o600))
	a, err := access(t, dir, oneTern, env("METABASIS_NIGHT_CREW_KEY="+key, "METABASIS_NIGHT_CREW_OPERATOR=op"), nil)
	require.NoError(t, err)
	assert.Equal(t, []string{key}, a.Logins["night-crew"].Keys)
	assert.Empty(t, a.Logins["night-crew"].Password)
}

// Where a login is also for devices that know nothing but a password, a key does not take its
// place; what encrypts SNMP is asked for, too.
func TestAKeyIsNotEnoughForSNMP(t *testing.T) {
	dir := t.TempDir()
	key := filepath.Join(dir, "id")
	require.NoError(t, os.WriteFile(key, []byte("a key"), 0o600))
	signs := oneTern + "b,192.0.2.2,bittern,night-crew\n"
	_, err := access(t, dir, signs, env("METABASIS_NIGHT_CREW_KEY="+key, "METABASIS_NIGHT_CREW_OPERATOR=op", "METABASIS_NIGHT_CREW_PRIVACY=tide"), nil)
	assert.ErrorContains(t, err, "set METABASIS_NIGHT_CREW_PASSWORD")
	_, err = access(t, dir, signs, env("METABASIS_NIGHT_CREW_PASSWORD=x", "METABASIS_NIGHT_CREW_OPERATOR=op"), nil)
	assert.ErrorContains(t, err, "set METABASIS_NIGHT_CREW_PRIVACY")
	a, err := access(t, dir, signs, env("METABASIS_NIGHT_CREW_PASSWORD=x", "METABASIS_NIGHT_CREW_OPERATOR=op", "METABASIS_NIGHT_CREW_PRIVACY=tide"), nil)
	require.NoError(t, err)
	assert.Equal(t, "tide", a.Logins["night-crew"].Secrets["privacy"])
}

// A person with a key of the usual name is asked for a password, and may take
// the key instead; with nobody there, the key is taken.
func TestTheUsualKeys(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	_, priv, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(priv, "")
	require.NoError(t, err)
	key := filepath.Join(home, ".ssh", "id_ed25519")
	require.NoError(t, os.MkdirAll(filepath.Dir(key), 0o700))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(block), 0o600))
	vars := env("METABASIS_NIGHT_CREW_OPERATOR=op")
	for answer, keys := range map[string][]string{"": {key}, "typed": nil} {
		a, err := access(t, t.TempDir(), oneTern, vars, person.Func(func(context.Context, person.Form) ([]string, error) { return []string{answer}, nil }))
		require.NoError(t, err)
		assert.Equal(t, keys, a.Logins["night-crew"].Keys)
		assert.Equal(t, answer, a.Logins["night-crew"].Password)
	}
	a, err := access(t, t.TempDir(), oneTern, vars, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{key}, a.Logins["night-crew"].Keys)
	a, err = access(t, t.TempDir(), oneTern, env("METABASIS_NIGHT_CREW_OPERATOR=op", "METABASIS_NIGHT_CREW_PASSWORD=x"), nil)
	require.NoError(t, err)
	assert.Empty(t, a.Logins["night-crew"].Keys, "a password that is known comes first")
}

func TestSecretsComeFromTheFileAfterTheEnvironment(t *testing.T) {
	dir := t.TempDir()
	ws, err := Open(dir)
	require.NoError(t, err)
	f := secrets.New(ws.SecretsPath(), "herons")
	require.NoError(t, f.Set(secrets.ID{Login: "night-crew", Part: "password"}, "from the file"))
	require.NoError(t, f.Set(secrets.ID{Login: "night-crew", Part: "operator"}, "from the file, too"))
	require.NoError(t, f.Save())
	a, err := access(t, dir, oneTern, env("METABASIS_SECRETS_PASSPHRASE=herons", "METABASIS_NIGHT_CREW_OPERATOR=op"), nil)
	require.NoError(t, err)
	assert.Equal(t, "from the file", a.Logins["night-crew"].Password)
	assert.Equal(t, "op", a.Logins["night-crew"].Secrets["operator"], "the environment comes first")
	_, err = access(t, dir, oneTern, env("METABASIS_SECRETS_PASSPHRASE=egrets"), nil)
	assert.ErrorContains(t, err, "passphrase")
}

func TestAClearTextLoginMustDiffer(t *testing.T) {
	const two = "name,address,platform,login\na,192.0.2.1,tern,crew\nb,192.0.2.2,plover,gates\n"
	vars := []string{"METABASIS_CREW_PASSWORD=x1", "METABASIS_CREW_OPERATOR=o", "METABASIS_GATES_MASTER=m"}
	a, err := access(t, t.TempDir(), two, env(append(vars, "METABASIS_GATES_PASSWORD=y1")...), nil)
	require.NoError(t, err)
	assert.False(t, a.usedOverSSH("gates", a.Logins["gates"]))
	assert.True(t, a.usedOverSSH("crew", a.Logins["crew"]))
	a, err = access(t, t.TempDir(), two, env(append(vars, "METABASIS_GATES_PASSWORD=x1")...), nil)
	require.NoError(t, err)
	assert.True(t, a.usedOverSSH("gates", a.Logins["gates"]), "the same password under another name")
}

func TestChildrenGetNoSecrets(t *testing.T) {
	assert.Equal(t, []string{"PATH=/bin"}, ChildEnv([]string{"METABASIS_CREW_PASSWORD=x", "PATH=/bin", "METABASIS_SECRETS_PASSPHRASE=y"}))
}

func TestOwnProfilesComeFirstAndTheirMistakesAreNamed(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "quays [2026]") // which is no pattern
	require.NoError(t, os.Mkdir(dir, 0o700))
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

// What stands in a file that a runbook names is kept with the runbook.
func TestTheTextOfFilesIsKept(t *testing.T) {
	dir := t.TempDir()
	ws, err := Open(dir)
	require.NoError(t, err)
	file := filepath.Join(dir, "x.runbook")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "gates.txt"), []byte("log host 192.0.2.1\r\nlogin ferry secret k3lp\r\n"), 0o600))
	require.NoError(t, os.WriteFile(file, []byte("runbook \"x\"\n  window    now for 1h\n\nscope\n  true\n\ntimer       5m\n\nstep \"x\"\n  send file \"gates.txt\"\n"), 0o600))
	rb, text, err := ws.Runbook(file, nil)
	require.NoError(t, err)
	assert.Len(t, rb.Steps[0].On[0].Send, 2)
	assert.Contains(t, ws.maskRunbook(text), "# gates.txt\n    | log host 192.0.2.1\n    | login ferry secret ▒▒▒▒\n")
}

func TestSecretsOfARunbookStayOutOfTheJournal(t *testing.T) {
	ws, err := Open(t.TempDir())
	require.NoError(t, err)
	assert.Equal(t, "step \"a | b\"\n  send\n    | login ferry secret ▒▒▒▒\n    | log host 192.0.2.1",
		ws.maskRunbook("step \"a | b\"\n  send\n    | login ferry secret k3lp\n    | log host 192.0.2.1"))
}

// An access that takes the place of another goes on guarding its accounts: only a secret
// that is another now is tried again after three denials.
func TestAnAccessThatFollowsGuardsOn(t *testing.T) {
	denied := func(a *Access, account string) {
		for i := range 3 {
			over, err := a.guard.Try(t.Context(), account, fmt.Sprintf("ald-quay-%d", i+1))
			require.NoError(t, err)
			over(devssh.Denied)
		}
	}
	tried := func(a *Access, account string) error {
		over, err := a.guard.Try(t.Context(), account, "ald-quay-1")
		if err == nil {
			over(devssh.Denied)
		}
		return err
	}
	dir := t.TempDir()
	with := func(password string) *Access {
		a, err := access(t, dir, oneTern, env("METABASIS_NIGHT_CREW_PASSWORD="+password, "METABASIS_NIGHT_CREW_OPERATOR=op"), nil)
		require.NoError(t, err)
		return a
	}
	one := with("x")
	denied(one, "night-crew")
	denied(one, "night-crew's operator")
	same := with("x")
	same.Follows(one)
	assert.Error(t, tried(same, "night-crew"), "the same secret is not tried again")
	other := with("y")
	other.Follows(same)
	assert.NoError(t, tried(other, "night-crew"))
	assert.Error(t, tried(other, "night-crew's operator"))
}

// A login that was typed anew counts from then on, in what is open and in what is opened
// later; what was left empty stays.
func TestALoginThatIsTypedAnew(t *testing.T) {
	ws, err := OpenWith(t.TempDir(), nil)
	require.NoError(t, err)
	find := ws.Finder(env("METABASIS_NIGHT_CREW_PASSWORD=wrong", "METABASIS_NIGHT_CREW_OPERATOR=op"), nil)
	f, err := fleet.Read("fleet.csv", []byte(oneTern), ws.Profiles.Platforms())
	require.NoError(t, err)
	open := func() *Access {
		a, err := ws.Access(t.Context(), f, f.Devices, find)
		require.NoError(t, err)
		return a
	}
	a := open()
	over, err := a.guard.Try(t.Context(), "night-crew", "ald-quay-1")
	require.NoError(t, err)
	over(devssh.Denied)
	_, err = a.guard.Try(t.Context(), "night-crew", "ald-quay-1")
	require.Error(t, err)
	user, parts := a.Parts("night-crew")
	assert.Equal(t, []string{"password", "operator"}, parts)
	a.Retype("night-crew", Typed{User: user, Parts: map[string]string{"password": "right"}}, find)
	for name, a := range map[string]*Access{"open": a, "opened later": open()} {
		l, err := a.Connector(nil).Login(t.Context(), "night-crew")
		require.NoError(t, err)
		assert.Equal(t, "right", l.Password, name)
		assert.Equal(t, "op", l.Secrets["operator"], name)
	}
	_, err = a.guard.Try(t.Context(), "night-crew", "ald-quay-1")
	assert.NoError(t, err, "it was typed anew")
	a.Retype("night-crew", Typed{User: "ada"}, find)
	l, err := open().Connector(nil).Login(t.Context(), "night-crew")
	require.NoError(t, err)
	assert.Equal(t, "ada", l.User)
}
