package secrets

import (
	"crypto/ed25519"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

func phrase(s string) Key { return Key{Passphrase: func() (string, error) { return s, nil }} }

func newFile(t *testing.T) *File {
	f := New(filepath.Join(t.TempDir(), "secrets.age"), "three grey herons")
	f.work = 10 // a test need not be slow to guess
	require.NoError(t, f.Set(ID{"crew", "password"}, "harbour-lamp"))
	require.NoError(t, f.Set(ID{"crew", "operator"}, "deep-fathom"))
	require.NoError(t, f.Save())
	return f
}

func TestPassphrase(t *testing.T) {
	f := newFile(t)
	data, err := os.ReadFile(f.path)
	require.NoError(t, err)
	assert.NotContains(t, string(data), "harbour-lamp")
	assert.NotContains(t, string(data), "crew", "not even the names of logins can be read")
	info, err := os.Stat(f.path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	again, err := Open(f.path, phrase("three grey herons"))
	require.NoError(t, err)
	v, ok := again.Get(ID{"crew", "password"})
	assert.True(t, ok)
	assert.Equal(t, "harbour-lamp", v)
	assert.Equal(t, []ID{{"crew", "operator"}, {"crew", "password"}}, again.List())
	assert.True(t, again.Remove(ID{"crew", "operator"}))
	assert.False(t, again.Remove(ID{"crew", "operator"}))

	_, err = Open(f.path, phrase("two grey herons"))
	assert.ErrorContains(t, err, "passphrase of "+f.path+" is wrong")
	_, err = Open(f.path, Key{})
	assert.ErrorContains(t, err, "nobody can be asked")
	_, err = Open(f.path+"x", phrase(""))
	assert.ErrorIs(t, err, ErrNone)
}

func TestKeysOpenIt(t *testing.T) {
	dir := t.TempDir()
	x, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	ageFile := filepath.Join(dir, "age.key")
	require.NoError(t, os.WriteFile(ageFile, []byte(x.String()+"\n"), 0o600))
	pub, priv, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(priv, "")
	require.NoError(t, err)
	sshFile := filepath.Join(dir, "id")
	require.NoError(t, os.WriteFile(sshFile, pem.EncodeToMemory(block), 0o600))
	sshPub, err := ssh.NewPublicKey(pub)
	require.NoError(t, err)

	f := newFile(t)
	list := "# the night crew\n" + x.Recipient().String() + "\n" + string(ssh.MarshalAuthorizedKey(sshPub))
	require.NoError(t, f.Rekey([]byte(list), ""))
	for _, id := range []string{ageFile, sshFile} {
		again, err := Open(f.path, Key{Identity: id})
		require.NoError(t, err)
		require.NoError(t, again.Set(ID{"gates", "password"}, "tide-table"))
		require.NoError(t, again.Save(), "whoever can open it can write it for all")
	}
	_, err = Open(f.path, Key{})
	assert.ErrorContains(t, err, "name yours in the setting identity")

	again, err := Open(f.path, Key{Identity: ageFile})
	require.NoError(t, err)
	again.work = 10
	require.NoError(t, again.Rekey(nil, "a new one"))
	_, err = Open(f.path, phrase("a new one"))
	require.NoError(t, err)
	assert.ErrorContains(t, again.Rekey([]byte("age1nonsense\n"), ""), "recipients:1: not a recipient")
}

func TestBadFiles(t *testing.T) {
	f := newFile(t)
	assert.Error(t, f.Set(ID{"../etc", "x"}, "v"))
	assert.Error(t, f.Set(ID{"crew", "x"}, ""))
	require.NoError(t, os.WriteFile(f.path, []byte("not age at all"), 0o600))
	_, err := Open(f.path, Key{Identity: "/nowhere"})
	assert.Error(t, err)
	require.NoError(t, f.Save())
	data, err := os.ReadFile(f.path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(f.path, data[:len(data)-3], 0o600))
	_, err = Open(f.path, phrase("three grey herons"))
	assert.Error(t, err)
	assert.False(t, strings.Contains(err.Error(), "heron"))
}

func TestWhatIsSealedIsOpenedByItsHolders(t *testing.T) {
	dir := t.TempDir()
	s := Seal{Recipients: filepath.Join(dir, "secrets.recipients")}
	_, err := s.Shut([]byte("x"))
	assert.ErrorContains(t, err, "there is no")
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.Recipients, []byte(id.Recipient().String()+"\n"), 0o600))
	data, err := s.Shut([]byte("lan 10\n"))
	require.NoError(t, err)
	assert.NotContains(t, string(data), "lan 10")
	_, err = s.Open(data)
	assert.ErrorIs(t, err, ErrNoIdentity)
	s.Identity = filepath.Join(dir, "key")
	require.NoError(t, os.WriteFile(s.Identity, []byte(id.String()+"\n"), 0o600))
	back, err := s.Open(data)
	require.NoError(t, err)
	assert.Equal(t, "lan 10\n", string(back))
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.Identity, []byte(other.String()+"\n"), 0o600))
	_, err = s.Open(data)
	assert.Error(t, err)
	data[len(data)-1] ^= 1
	require.NoError(t, os.WriteFile(s.Identity, []byte(id.String()+"\n"), 0o600))
	_, err = s.Open(data)
	assert.Error(t, err, "what was changed does not open")
}
