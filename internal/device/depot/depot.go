// Package depot hands files out to devices that fetch them: over HTTP, HTTPS and TFTP, for as long as one is
// fetched.
//
// A [Depot] has offers. An offer is one file for one device: it has an address of its own, with a word in it
// that nobody can guess, and is taken back as soon as the device has fetched it, or has failed to. Whoever asks
// for anything else gets nothing, and is told nothing of what there is; nothing is ever taken in. It listens
// where it is told to, from the first offer on to [Depot.Close].
package depot

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"path"
	"strings"
	"sync"
)

// Offer is a file that one device may fetch.
type Offer struct {
	Name string // a plain name: the last part of its address
	Data io.ReaderAt
	Size int64 // in bytes
	// Through is what is read of the file on its way, such as one that is throttled; nil is as fast as it goes.
	// Tell is told how many bytes were handed out, each time anew from where the device has it begin.
	Through func(io.Reader) io.Reader
	Tell    func(done int64)
}

// Depot hands out files. Make one with [Listen].
type Depot struct {
	scheme string
	host   string // as devices are told
	port   string
	close  func() error

	mu      sync.Mutex
	offers  map[string]*offered // by their words
	refused int
}

// offered is an offer that stands.
type offered struct {
	Offer
	mu   sync.Mutex
	sent int64 // the furthest byte that was handed out
}

// Place is where an offer is fetched.
type Place struct {
	URL  string // all of it
	Host string // the parts of it
	Port string
	File string // the path, without a slash before it

	d    *Depot
	word string
	o    *offered
}

// Schemes are the ways of handing out.
const (
	HTTP  = "http"
	HTTPS = "https"
	TFTP  = "tftp"
)

// Listen begins to hand out over a scheme, at a host and port such as 192.0.2.5:8069. Port 0 is any that is
// free. The address is the one by which devices reach this machine.
func Listen(scheme, address string) (*Depot, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("%q is not where to listen: write an address and a port, such as 192.0.2.5:8069", address)
	}
	if _, err := netip.ParseAddr(host); err != nil {
		return nil, fmt.Errorf("%q is not where to listen: devices are told that address, so it is one of this machine, and not a name or all of them", address)
	}
	d := &Depot{scheme: scheme, host: host, offers: map[string]*offered{}}
	switch scheme {
	case HTTP, HTTPS:
		err = d.serveHTTP(address)
	case TFTP:
		err = d.serveTFTP(address)
	default:
		err = fmt.Errorf("nothing is handed out by %q", scheme)
	}
	if err != nil {
		return nil, err
	}
	return d, nil
}

// Close ends all of it.
func (d *Depot) Close() error {
	d.mu.Lock()
	clear(d.offers)
	d.mu.Unlock()
	return d.close()
}

// Refused is how often somebody asked for what is not offered to them.
func (d *Depot) Refused() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.refused
}

// Offer offers a file. [Place.Withdraw] must be called.
func (d *Depot) Offer(o Offer) (*Place, error) {
	if o.Name != path.Base(path.Clean("/"+o.Name)) || o.Name == "/" || strings.ContainsAny(o.Name, "\x00\\?#% ") {
		return nil, fmt.Errorf("%q is no name of a file", o.Name)
	}
	word := make([]byte, 12)
	if _, err := rand.Read(word); err != nil {
		return nil, err
	}
	p := &Place{Host: d.host, Port: d.port, d: d, word: hex.EncodeToString(word), o: &offered{Offer: o}}
	p.File = p.word + "/" + o.Name
	p.URL = fmt.Sprintf("%s://%s/%s", d.scheme, net.JoinHostPort(d.host, d.port), p.File)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.offers[p.word] = p.o
	return p, nil
}

// Handed is how many bytes were handed out so far, from the beginning on, and how many there are.
func (p *Place) Handed() (n, of int64) {
	p.o.mu.Lock()
	defer p.o.mu.Unlock()
	return p.o.sent, p.o.Size
}

// Withdraw takes the offer back: its address holds no more. It says whether all of the file was handed out.
func (p *Place) Withdraw() (whole bool) {
	p.d.mu.Lock()
	delete(p.d.offers, p.word)
	p.d.mu.Unlock()
	p.o.mu.Lock()
	defer p.o.mu.Unlock()
	return p.o.sent == p.o.Size
}

var errNotOffered = errors.New("there is no such file")

// find is the offer that a path leads to. Who asks is told by the word in it alone: a device may come from any
// of its addresses.
func (d *Depot) find(file string) (*offered, error) {
	word, name, _ := strings.Cut(strings.TrimPrefix(file, "/"), "/")
	d.mu.Lock()
	defer d.mu.Unlock()
	o := d.offers[word]
	if o == nil || o.Name != name {
		d.refused++
		return nil, errNotOffered
	}
	return o, nil
}

// reader reads the offer's file from an offset on, as far as it may.
func (o *offered) reader(from, n int64) io.Reader {
	var r io.Reader = &counted{o: o, r: io.NewSectionReader(o.Data, from, n), at: from}
	if o.Through != nil {
		r = o.Through(r)
	}
	return r
}

// counted takes down how far a file was handed out.
type counted struct {
	o  *offered
	r  io.Reader
	at int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.at += int64(n)
	c.o.mu.Lock()
	c.o.sent = max(c.o.sent, c.at)
	c.o.mu.Unlock()
	if n > 0 && c.o.Tell != nil {
		c.o.Tell(c.at)
	}
	return n, err
}
