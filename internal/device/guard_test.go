package device

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/device/ssh"
)

// deny has a device deny a login; it is false where the login was not sent to it.
func deny(t *testing.T, g *Lockout, login, device string, v ssh.Verdict) bool {
	t.Helper()
	over, err := g.Try(t.Context(), login, device)
	if err != nil {
		var stopped *ssh.Stopped
		require.ErrorAs(t, err, &stopped)
		return false
	}
	over(v)
	return true
}

// What was refused is not sent again by itself: not to the device that refused it, and once
// three have, to nobody; and only devices that refused are counted.
func TestARefusedSecretIsNotSentAgain(t *testing.T) {
	g := &Lockout{}
	assert.True(t, deny(t, g, "crew", "d4", ssh.Denied))
	assert.False(t, deny(t, g, "crew", "d4", ssh.Denied), "it has refused it")
	assert.True(t, deny(t, g, "crew", "d3", ssh.Denied))
	assert.False(t, deny(t, g, "crew", "d4", ssh.Denied))
	g.Once()
	assert.False(t, deny(t, g, "crew", "d4", ssh.Denied), "nobody has ever taken it: it is wrong everywhere")
	assert.True(t, deny(t, g, "crew", "d2", ssh.Denied))
	_, err := g.Try(t.Context(), "crew", "d1")
	assert.ErrorContains(t, err, "refused by three devices in a row (d4, d3, d2)")
	g.Anew("crew")
	assert.True(t, deny(t, g, "crew", "d4", ssh.Let), "it was typed anew")
}

// A device that refuses what others take is asked once more when a person asks for that, and
// not by itself; it never stops the login for the others.
func TestOneDeviceRefusesWhatOthersTake(t *testing.T) {
	g := &Lockout{}
	assert.True(t, deny(t, g, "crew", "d1", ssh.Let))
	for range 5 {
		deny(t, g, "crew", "d2", ssh.Denied)
	}
	assert.True(t, deny(t, g, "crew", "d3", ssh.Let), "one device alone stops nobody")
	assert.False(t, deny(t, g, "crew", "d2", ssh.Denied))
	g.Once()
	assert.True(t, deny(t, g, "crew", "d2", ssh.Denied))
	assert.False(t, deny(t, g, "crew", "d2", ssh.Let))
}
