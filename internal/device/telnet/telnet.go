// Package telnet speaks the Telnet protocol (RFC 854) over a connection, as
// either end of it.
//
// A [Conn] reads and writes the plain bytes of the session; what belongs to the
// protocol is dealt with on the way. Options are negotiated by the Q method of
// RFC 1143, which cannot loop. Those known are echo (RFC 857), suppress go-ahead
// (RFC 858), terminal type (RFC 1091) and window size (RFC 1073); any other is
// refused. Nothing is encrypted: whoever stands between sees every word.
package telnet

import (
	"net"
	"sync"
)

// Commands (RFC 854, "TELNET COMMANDS").
const (
	se   = 240
	sb   = 250
	will = 251
	wont = 252
	do   = 253
	dont = 254
	iac  = 255
)

// Options.
const (
	Echo         = 1
	SuppressGA   = 3
	TerminalType = 24
	WindowSize   = 31
)

// Config is what this end is ready for.
type Config struct {
	Ours     []byte // options we perform when the other end wants us to
	Theirs   []byte // options we let the other end perform
	Offer    []byte // of Ours: those we offer at once
	Ask      []byte // of Theirs: those we ask for at once
	Terminal string // for TerminalType
	Columns  int    // for WindowSize
	Rows     int
	// Enter is what a line feed that is written becomes: CR LF by RFC 854, or
	// CR alone for devices that take it as two.
	Enter string
}

// Client is the usual client: it lets the other end echo, and tells the size and
// type of its terminal when asked.
func Client(columns, rows int) Config {
	return Config{
		Ours: []byte{SuppressGA, TerminalType, WindowSize}, Theirs: []byte{Echo, SuppressGA},
		Terminal: "DUMB", Columns: columns, Rows: rows, Enter: "\r\n",
	}
}

// Conn is a Telnet connection. Reads and writes may go on at the same time.
type Conn struct {
	net.Conn
	cfg     Config
	in      decoder
	pending []byte // read and not yet handed on
	buf     [4096]byte

	mu   sync.Mutex // writing
	opts options
	err  error
}

// New starts Telnet on a connection, and sends what cfg offers and asks for.
func New(conn net.Conn, cfg Config) (*Conn, error) {
	if cfg.Enter == "" {
		cfg.Enter = "\r\n"
	}
	c := &Conn{Conn: conn, cfg: cfg}
	var out []byte
	for _, o := range cfg.Offer {
		out = append(out, c.opts.want(&c.opts.us[o], will, o)...)
	}
	for _, o := range cfg.Ask {
		out = append(out, c.opts.want(&c.opts.them[o], do, o)...)
	}
	if len(out) > 0 {
		if _, err := conn.Write(out); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// Echoes tells whether the other end echoes what we send.
func (c *Conn) Echoes() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.opts.them[Echo].state == yes
}

// Performs tells whether we perform an option.
func (c *Conn) Performs(option byte) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.opts.us[option].state == yes
}

// Read reads what the other end says, without the protocol's own bytes.
func (c *Conn) Read(b []byte) (int, error) {
	if len(b) == 0 {
		return 0, nil
	}
	for len(c.pending) == 0 {
		if c.err != nil {
			return 0, c.err
		}
		n, err := c.Conn.Read(c.buf[:])
		c.err = err
		var reply []byte
		c.pending, reply = c.take(c.buf[:n])
		if len(reply) > 0 {
			// An end that says why it has no session for us and closes cannot be
			// answered any more; what it said is still to be read.
			_ = c.raw(reply)
		}
	}
	n := copy(b, c.pending)
	c.pending = c.pending[n:]
	return n, nil
}

// take splits what arrived into plain bytes and our answers to commands.
func (c *Conn) take(b []byte) (plain, reply []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	plain = make([]byte, 0, len(b))
	for _, x := range b {
		ev := c.in.put(x)
		switch ev.kind {
		case data:
			plain = append(plain, ev.b)
		case negotiation:
			reply = append(reply, c.negotiate(ev.verb, ev.b)...)
		case subnegotiation:
			reply = append(reply, c.sub(ev.b, ev.body)...)
		}
	}
	return plain, reply
}

// negotiate answers one command of the other end. The caller holds c.mu.
func (c *Conn) negotiate(verb, option byte) []byte {
	reply := c.opts.receive(verb, option, c.cfg)
	if option == WindowSize && verb == do && c.opts.us[WindowSize].state == yes {
		reply = append(reply, c.size()...)
	}
	return reply
}

// sub answers a subnegotiation: SEND for the terminal type (RFC 1091).
func (c *Conn) sub(option byte, body []byte) []byte {
	if option == TerminalType && len(body) == 1 && body[0] == 1 && c.opts.us[TerminalType].state == yes {
		return frame(TerminalType, append([]byte{0}, c.cfg.Terminal...))
	}
	return nil
}

func (c *Conn) size() []byte {
	w, h := c.cfg.Columns, c.cfg.Rows
	return frame(WindowSize, []byte{byte(w >> 8), byte(w), byte(h >> 8), byte(h)})
}

// frame makes a subnegotiation; 255 is doubled inside.
func frame(option byte, body []byte) []byte {
	out := []byte{iac, sb, option}
	for _, b := range body {
		out = append(out, b)
		if b == iac {
			out = append(out, iac)
		}
	}
	return append(out, iac, se)
}

// Resize tells the other end that the window has another size now.
func (c *Conn) Resize(columns, rows int) error {
	c.mu.Lock()
	c.cfg.Columns, c.cfg.Rows = columns, rows
	tell := c.opts.us[WindowSize].state == yes
	size := c.size()
	c.mu.Unlock()
	if !tell {
		return nil
	}
	return c.raw(size)
}

func (c *Conn) raw(b []byte) error {
	_, err := c.Conn.Write(b)
	return err
}

// Write sends plain bytes: 255 is doubled, a line feed becomes the end of a line
// as the network virtual terminal has it, and a lone carriage return is followed
// by NUL (RFC 854, "CR").
func (c *Conn) Write(b []byte) (int, error) {
	out := make([]byte, 0, len(b)+8)
	for i, x := range b {
		switch {
		case x == iac:
			out = append(out, iac, iac)
		case x == '\n' && (i == 0 || b[i-1] != '\r'):
			out = append(out, c.cfg.Enter...)
			if c.cfg.Enter == "\r" {
				out = append(out, 0)
			}
		case x == '\r' && (i+1 == len(b) || b[i+1] != '\n'):
			out = append(out, '\r', 0)
		default:
			out = append(out, x)
		}
	}
	if err := c.raw(out); err != nil {
		return 0, err
	}
	return len(b), nil
}

// Unread puts a byte back, to be read again.
func (c *Conn) Unread(b byte) { c.pending = append([]byte{b}, c.pending...) }
