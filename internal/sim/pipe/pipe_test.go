package pipe

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/nettest"
	"pgregory.net/rapid"
)

// It is a net.Conn by the standard library's own measure.
func TestConn(t *testing.T) {
	for _, size := range []int{512, 64 << 10} {
		nettest.TestConn(t, func() (a, b net.Conn, stop func(), err error) {
			a, b = New(size)
			return a, b, func() { a.Close(); b.Close() }, nil
		})
	}
}

// Whatever is written in whatever pieces comes out whole and in order.
func TestNothingIsLost(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.IntRange(1, 300).Draw(t, "size")
		sent := rapid.SliceOfN(rapid.Byte(), 0, 2000).Draw(t, "sent")
		piece := rapid.IntRange(1, 700).Draw(t, "piece")
		a, b := New(size)
		go func() {
			for rest := sent; len(rest) > 0; {
				k := min(len(rest), 1+rand.IntN(piece))
				_, _ = a.Write(rest[:k])
				rest = rest[k:]
			}
			a.Close()
		}()
		got, err := io.ReadAll(b)
		if err != nil || !bytes.Equal(sent, got) {
			t.Fatalf("%d bytes of %d came: %v", len(got), len(sent), err)
		}
	})
}

// Both may write first, as in SSH; an end that is closed is read to its last byte; who waits
// longer than he may is told so, in virtual time, too.
func TestInVirtualTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := New(16)
		for _, e := range []net.Conn{a, b} {
			n, err := e.Write([]byte("hello"))
			require.NoError(t, err)
			assert.Equal(t, 5, n)
		}
		require.NoError(t, b.SetReadDeadline(time.Now().Add(time.Hour)))
		buf := make([]byte, 16)
		n, err := b.Read(buf)
		require.NoError(t, err)
		assert.Equal(t, "hello", string(buf[:n]))
		began := time.Now()
		_, err = b.Read(buf)
		assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
		assert.Equal(t, time.Hour, time.Since(began))
		require.NoError(t, b.SetReadDeadline(time.Time{}))

		require.NoError(t, a.SetWriteDeadline(time.Now().Add(time.Minute)))
		n, err = a.Write([]byte("sixteen bytes fit, and no more"))
		assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
		assert.Equal(t, 16, n)
		require.NoError(t, a.Close())
		all, err := io.ReadAll(b)
		require.NoError(t, err)
		assert.Equal(t, "sixteen bytes fi", string(all))
		_, err = b.Write([]byte("x"))
		assert.ErrorIs(t, err, io.ErrClosedPipe)
	})
}
