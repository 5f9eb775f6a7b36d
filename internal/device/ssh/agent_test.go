package ssh

import (
	"crypto/ed25519"
	"crypto/rand"
	"net"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh/agent"
)

// keyring is an agent with a key, behind a socket; stop ends it and all that talk to it.
func keyring(t *testing.T) (at string, stop func()) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	ring := agent.NewKeyring()
	require.NoError(t, ring.Add(agent.AddedKey{PrivateKey: key}))
	at = filepath.Join(t.TempDir(), "agent")
	l, err := net.Listen("unix", at)
	require.NoError(t, err)
	var mu sync.Mutex
	var conns []net.Conn
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			conns = append(conns, c)
			mu.Unlock()
			go func() { _ = agent.ServeAgent(ring, c) }()
		}
	}()
	stop = sync.OnceFunc(func() {
		_ = l.Close()
		mu.Lock()
		defer mu.Unlock()
		for _, c := range conns {
			_ = c.Close()
		}
	})
	t.Cleanup(stop)
	return at, stop
}

// An agent that was forwarded ends with its login: another one takes its place once it does not
// answer, and not before.
func TestAnotherAgentTakesThePlaceOfOneThatIsGone(t *testing.T) {
	first, end := keyring(t)
	second, _ := keyring(t)
	k := &Keys{}
	assert.False(t, k.Offer(second), "no agent is asked at all")
	require.NoError(t, k.UseAgent(first))
	held, err := k.held("")
	require.NoError(t, err)
	require.Len(t, held, 1)
	own := held[0].PublicKey()
	assert.False(t, k.Offer(second), "the first answers")
	end()
	_, err = k.held("")
	require.Error(t, err)
	assert.False(t, k.Offer(filepath.Join(t.TempDir(), "none")), "nothing answers there")
	assert.False(t, k.Offer(first))
	assert.True(t, k.Offer(second))
	held, err = k.held("")
	require.NoError(t, err)
	require.Len(t, held, 1)
	assert.False(t, same(own, held[0].PublicKey()))
	require.NoError(t, k.Close())
}
