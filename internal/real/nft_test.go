//go:build real

package real

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The same firewall by the profile that ships: its rules are edited line by line, handed
// over as a whole, checked by nft itself and put in place at once; its own job puts back
// what is saved.
func TestAFirewallOfWholeRulesets(t *testing.T) {
	l := newLab(t)
	ward(t, l)
	home := l.path("users/mb-ward")
	require.NoError(t, os.WriteFile(home+"/.profile", []byte("export NFT_SAVED=/etc/ward/saved.nft\n"), 0o644))
	key := l.path("home/.ssh/ward")
	l.write("ws/metabasis.yaml", "logins:\n  - {platform: nft, login: ward, user: mb-ward, key: "+key+"}\n")
	l.fleet("name,address,platform,site,role,calls itself", "ward,"+wardAddr+",nft,OPS,firewall,"+l.machine())

	t.Run("every line of the profile fits", func(t *testing.T) {
		code, out, _ := l.metabasis("ward\n", "profile", "try", "--change", "../../profiles/nft.yaml", "ward")
		assert.Zero(t, code, out)
	})

	t.Run("a good change is kept", func(t *testing.T) {
		code, out := l.wardNight(`step "Time"
  on nft
    want
      | table inet ward
      |   chain input
      |     udp dport 123 accept
`)
		assert.Zero(t, code, out)
		assert.Contains(t, out, "kept and saved; as predicted")
		assert.Contains(t, l.wardRuns(), "tcp dport 22 accept\n\t\tudp dport 123 accept\n")
		saved, err := os.ReadFile("/etc/ward/saved.nft")
		require.NoError(t, err)
		assert.Contains(t, string(saved), "udp dport 123 accept")
	})

	t.Run("what its own checker refuses is never put in place", func(t *testing.T) {
		before := l.wardRuns()
		_, out := l.wardNight(`step "Log"
  on nft
    want
      | table inet ward
      |   chain input
      |     udp dport 123456 accept
`)
		assert.Contains(t, out, "its own check")
		assert.Contains(t, out, "1 reverted")
		assert.Equal(t, before, l.wardRuns())
		assert.NoFileExists(t, "/etc/ward/saved.nft.staged", "what was handed over is taken away")
	})

	t.Run("a rule that locks us out is taken back by the box itself", func(t *testing.T) {
		before := l.wardRuns()
		began := time.Now()
		code, out := l.wardNight(`step "Close"
  on nft
    want
      | table inet ward
      |   chain input
      |     tcp dport 22 drop
    gone
      | table inet ward
      |   chain input
      |     tcp dport 22 accept
`)
		assert.NotZero(t, code)
		assert.Contains(t, out, "dark")
		assert.Contains(t, out, "puts back at")
		assert.Contains(t, out, "1 reverted")
		assert.Contains(t, out, "came back with its saved configuration, equal to the backup")
		assert.Equal(t, before, l.wardRuns())
		assert.Greater(t, time.Since(began), 15*time.Second, "its job did it")
	})
}
