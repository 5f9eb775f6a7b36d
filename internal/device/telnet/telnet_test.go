package telnet

import (
	"bytes"
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/sim/pipe"
)

// pair is a buffered connection.
func pair(t testing.TB) (client, server net.Conn) {
	client, server = pipe.New(64 << 10)
	t.Cleanup(func() { client.Close(); server.Close() })
	return client, server
}

// answer is what a client sends back for what it is sent.
func answer(cfg Config, in ...byte) []byte {
	c := &Conn{cfg: cfg}
	_, reply := c.take(in)
	return reply
}

func TestNegotiation(t *testing.T) {
	client := Client(250, 60)
	for name, c := range map[string]struct{ in, want []byte }{
		"a server that echoes may":              {[]byte{iac, will, Echo}, []byte{iac, do, Echo}},
		"an option nobody knows is refused":     {[]byte{iac, will, 99, iac, do, 98}, []byte{iac, dont, 99, iac, wont, 98}},
		"we do not echo":                        {[]byte{iac, do, Echo}, []byte{iac, wont, Echo}},
		"a refusal of what is off is silent":    {[]byte{iac, wont, Echo, iac, dont, SuppressGA}, nil},
		"the same offer twice is answered once": {[]byte{iac, will, Echo, iac, will, Echo}, []byte{iac, do, Echo}},
		"off again":                             {[]byte{iac, will, Echo, iac, wont, Echo}, []byte{iac, do, Echo, iac, dont, Echo}},
		"window size":                           {[]byte{iac, do, WindowSize}, []byte{iac, will, WindowSize, iac, sb, WindowSize, 0, 250, 0, 60, iac, se}},
		"terminal type": {[]byte{iac, do, TerminalType, iac, sb, TerminalType, 1, iac, se},
			[]byte{iac, will, TerminalType, iac, sb, TerminalType, 0, 'D', 'U', 'M', 'B', iac, se}},
		"terminal type unasked":     {[]byte{iac, sb, TerminalType, 1, iac, se}, nil},
		"commands of no importance": {[]byte{iac, 241, iac, 249, iac, 246}, nil},
		"empty subnegotiation":      {[]byte{iac, sb, iac, se, iac, iac, se}, nil},
	} {
		assert.Equal(t, c.want, answer(client, c.in...), name)
	}
	wide := Client(255, 60)
	assert.Contains(t, string(answer(wide, iac, do, WindowSize)), string([]byte{0, iac, iac, 0, 60}), "255 is doubled")
}

func TestPlainBytes(t *testing.T) {
	c, s := pair(t)
	tc, err := New(c, Client(80, 24))
	require.NoError(t, err)
	_, err = tc.Write([]byte("a\nb\rc\xff"))
	require.NoError(t, err)
	buf := make([]byte, 64)
	n, err := s.Read(buf)
	require.NoError(t, err)
	assert.Equal(t, "a\r\nb\r\x00c\xff\xff", string(buf[:n]))
	_, err = s.Write([]byte("x\r\x00y\r\n\xff\xffz"))
	require.NoError(t, err)
	n, err = tc.Read(buf)
	require.NoError(t, err)
	assert.Equal(t, "x\ry\r\n\xffz", string(buf[:n]))
	cr := Client(80, 24)
	cr.Enter = "\r"
	tc, err = New(c, cr)
	require.NoError(t, err)
	_, err = tc.Write([]byte("a\n"))
	require.NoError(t, err)
	n, _ = s.Read(buf)
	assert.Equal(t, "a\r\x00", string(buf[:n]))
}

func TestBothEndsAgree(t *testing.T) {
	c, s := pair(t)
	client, err := New(c, Client(132, 40))
	require.NoError(t, err)
	server, err := New(s, Config{Ours: []byte{Echo, SuppressGA}, Theirs: []byte{WindowSize}, Offer: []byte{Echo, SuppressGA}, Ask: []byte{WindowSize}})
	require.NoError(t, err)
	got := make(chan string)
	go func() {
		b := make([]byte, 16)
		n, _ := server.Read(b)
		got <- string(b[:n])
	}()
	go func() { _, _ = io.Copy(io.Discard, client) }()
	assert.Eventually(t, func() bool { return client.Echoes() && client.Performs(WindowSize) }, waitFor, tick)
	_, err = client.Write([]byte("hello"))
	require.NoError(t, err)
	assert.Equal(t, "hello", <-got)
	require.NoError(t, client.Resize(200, 50))
}

// Whatever two ends offer, ask and allow, they fall silent.
func TestNegotiationEnds(t *testing.T) {
	codes := rapid.SliceOfDistinct(rapid.SampledFrom([]byte{Echo, SuppressGA, TerminalType, WindowSize, 7}), func(b byte) byte { return b })
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) Config {
			return Config{Ours: codes.Draw(t, name+" ours"), Theirs: codes.Draw(t, name+" theirs"), Offer: codes.Draw(t, name+" offers"), Ask: codes.Draw(t, name+" asks"), Terminal: "T"}
		}
		ends := [2]*Conn{{cfg: draw("left")}, {cfg: draw("right")}}
		var wire [2][]byte // to each end
		for i, e := range ends {
			for _, o := range e.cfg.Offer {
				wire[1-i] = append(wire[1-i], e.opts.want(&e.opts.us[o], will, o)...)
			}
			for _, o := range e.cfg.Ask {
				wire[1-i] = append(wire[1-i], e.opts.want(&e.opts.them[o], do, o)...)
			}
		}
		for round := 0; len(wire[0])+len(wire[1]) > 0; round++ {
			if round > 20 {
				t.Fatalf("still talking: % x", wire)
			}
			for i, e := range ends {
				_, reply := e.take(wire[i])
				wire[i] = nil
				wire[1-i] = append(wire[1-i], reply...)
			}
		}
		for o := range 256 {
			l, r := ends[0].opts.us[o].state == yes, ends[1].opts.them[o].state == yes
			if l != r {
				t.Fatalf("option %d: one end says %v, the other %v", o, l, r)
			}
		}
	})
}

// Whatever a peer sends: no panic, answers no longer than what was sent plus
// what it may ask for, bounded memory, and the same bytes however they are cut.
func FuzzNegotiation(f *testing.F) {
	f.Add([]byte{iac, will, Echo, 'a', iac, sb, TerminalType, 1, iac, se}, 3)
	f.Add([]byte{iac, sb, 1, 2, 3, iac, will, 1, '\r', 0, iac, iac}, 1)
	f.Fuzz(func(t *testing.T, in []byte, cut int) {
		whole := &Conn{cfg: Client(255, 255)}
		plain, reply := whole.take(in)
		parts := &Conn{cfg: Client(255, 255)}
		var p2, r2 []byte
		cut = 1 + max(cut, -cut)%7
		for rest := in; len(rest) > 0; rest = rest[min(cut, len(rest)):] {
			p, r := parts.take(rest[:min(cut, len(rest))])
			p2, r2 = append(p2, p...), append(r2, r...)
		}
		require.True(t, bytes.Equal(plain, p2) && bytes.Equal(reply, r2), "cut into pieces it reads differently")
		require.LessOrEqual(t, len(plain), len(in))
		require.LessOrEqual(t, len(reply), 8*len(in)+16)
		require.LessOrEqual(t, len(whole.in.body), maxBody)
	})
}

const (
	waitFor = 5_000_000_000
	tick    = 1_000_000
)

// parting is an end that says something in pieces and has closed already.
type parting struct {
	net.Conn
	said [][]byte
}

func (p *parting) Read(b []byte) (int, error) {
	if len(p.said) == 0 {
		return 0, io.EOF
	}
	n := copy(b, p.said[0])
	p.said = p.said[1:]
	return n, nil
}

func (p *parting) Write([]byte) (int, error) { return 0, io.ErrClosedPipe }

// What an end says before it closes is read, though its offers can no longer be
// answered.
func TestLastWordsAreRead(t *testing.T) {
	c, err := New(&parting{said: [][]byte{{iac, will, Echo}, []byte("In use."), []byte(" Try later.")}}, Client(80, 24))
	require.NoError(t, err)
	all, err := io.ReadAll(c)
	require.NoError(t, err)
	assert.Equal(t, "In use. Try later.", string(all))
	_, err = c.Write([]byte("x"))
	assert.Error(t, err)
}
