package seal

import (
	"crypto/ed25519"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

func keyOf(t *testing.T, seed byte) (ssh.PublicKey, string) {
	key := ed25519.NewKeyFromSeed([]byte(strings.Repeat(string(rune('a'+seed)), 32)))
	pub, err := ssh.NewPublicKey(key.Public())
	require.NoError(t, err)
	return pub, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(pub)))
}

func TestAllowedSigners(t *testing.T) {
	ada, adaLine := keyOf(t, 0)
	ben, benLine := keyOf(t, 1)
	cy, cyLine := keyOf(t, 2)
	old, oldLine := keyOf(t, 3)
	other, _ := keyOf(t, 4)
	s, err := ReadSigners("signers", []byte(strings.Join([]string{"# who may", "", "ada@example.org " + adaLine + " a remark",
		`ben namespaces="git,plan@*" ` + benLine, `cy namespaces="git" ` + cyLine, `"old hand" valid-after="20200101",valid-before="202601010000Z" ` + oldLine}, "\n")))
	require.NoError(t, err)
	at := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	for want, key := range map[string]ssh.PublicKey{"ada@example.org": ada, "ben": ben} {
		who, err := s.Who(key, at)
		require.NoError(t, err)
		assert.Equal(t, want, who)
	}
	_, err = s.Who(cy, at)
	assert.ErrorContains(t, err, "it is signed by cy, who may not sign plans")
	_, err = s.Who(old, at)
	assert.ErrorContains(t, err, "it is signed by old hand, whose key signers does not take at this time")
	who, err := s.Who(old, at.AddDate(-2, 0, 0))
	require.NoError(t, err)
	assert.Equal(t, "old hand", who)
	_, err = s.Who(other, at)
	assert.ErrorContains(t, err, "which is none of the keys in signers")
}

func TestSignersThatCannotBeRead(t *testing.T) {
	_, line := keyOf(t, 0)
	for text, want := range map[string]string{
		"ada":                            "signers:1: there is no key behind the principals",
		"ada ssh-ed25519 nonsense":       "signers:1: the key cannot be read",
		"\n\"ada " + line:                "signers:2: the quote of the principals has no end",
		"ada cert-authority " + line:     "the option cert-authority is not taken",
		`ada valid-after="x" ` + line:    `"x" is no time`,
		`ada valid-after="2026" ` + line: `"2026" is no time`,
	} {
		_, err := ReadSigners("signers", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

func FuzzReadSigners(f *testing.F) {
	f.Add([]byte(`ada namespaces="git" ssh-ed25519 AAAA`))
	f.Fuzz(func(t *testing.T, data []byte) {
		s, err := ReadSigners("f", data)
		require.True(t, (s == nil) == (err != nil))
	})
}
