package sim

import (
	"context"
	"net"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A device that refuses connections has a port that nobody else can be given.
func TestADeviceThatRefusesKeepsItsPort(t *testing.T) {
	f, err := New(Scenario{Logins: map[string]string{"crew": "lamp"}, Config: strangerConfig,
		Devices: []Spec{{Name: "quay", Faults: []Fault{{Kind: Refuses}}}}})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	addrs, err := f.Listen(ctx, "127.0.0.1", 0)
	require.NoError(t, err)
	_, err = net.Dial("tcp", addrs["quay"])
	require.ErrorIs(t, err, syscall.ECONNREFUSED)
	_, err = net.Listen("tcp", addrs["quay"])
	require.ErrorIs(t, err, syscall.EADDRINUSE)
	cancel()
	f.Close()
	l, err := net.Listen("tcp", addrs["quay"])
	assert.NoError(t, err, "given back at the end")
	l.Close()
}

// Nobody can count who comes to a closed port of this machine: that is said, not ignored.
func TestAClosedPortCountsNobody(t *testing.T) {
	f, err := New(Scenario{Logins: map[string]string{"crew": "lamp"}, Config: strangerConfig,
		Devices: []Spec{{Name: "quay", Faults: []Fault{{Kind: Refuses, Times: 4}}}}})
	require.NoError(t, err)
	defer f.Close()
	_, err = f.Listen(context.Background(), "127.0.0.1", 0)
	assert.ErrorContains(t, err, `quay: nobody can count who comes to a closed port, so "refuses" takes no times and no after here; write "closes"`)
}
