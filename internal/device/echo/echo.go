// Package echo asks an address for an answer from this machine: by echo requests of ICMP (RFC 792)
// or ICMPv6 (RFC 4443), or, where a port is given, by opening a connection of TCP.
//
//	r, err := echo.Reach(ctx, "198.51.100.14")      // three requests
//	r, err := echo.Reach(ctx, "198.51.100.14:514")  // one connection, closed at once
//
// Echo requests need no privilege where the system lets this user's group send them; else they
// need that of raw sockets. An error says that nothing was found out; an address from which
// nothing comes back is none.
package echo

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"syscall"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"metabasis/internal/core/runbook"
)

// How an address is asked.
const (
	requests = 3
	apart    = 200 * time.Millisecond
	patience = 2 * time.Second // for the last answer
)

// ErrNotAllowed says that this machine lets us send no echo requests.
var ErrNotAllowed = errors.New("this machine lets us send no echo requests: ask for a port, as in \"198.51.100.14:22\", or have net.ipv4.ping_group_range cover the group of this user")

// Reach asks an address, with or without a port, for answers.
func Reach(ctx context.Context, address string) (runbook.Reached, error) {
	if _, err := netip.ParseAddr(address); err != nil {
		if _, _, err := net.SplitHostPort(address); err == nil {
			return connect(ctx, address)
		}
	}
	ip, err := resolve(ctx, address)
	if err != nil {
		return runbook.Reached{}, err
	}
	c, raw, err := listen(ip)
	if err != nil {
		return runbook.Reached{}, err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { _ = c.Close() })
	defer stop()
	r, err := ask(c, ip, raw)
	if ctx.Err() != nil {
		return r, ctx.Err()
	}
	return r, err
}

// connect opens a connection and closes it.
func connect(ctx context.Context, address string) (runbook.Reached, error) {
	ctx, cancel := context.WithTimeout(ctx, requests*patience)
	defer cancel()
	began := time.Now()
	c, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	var unknown *net.DNSError
	switch {
	case errors.As(err, &unknown):
		return runbook.Reached{}, fmt.Errorf("the name of %s: %w", address, err)
	case errors.Is(err, context.Canceled):
		return runbook.Reached{}, err
	case err != nil:
		return runbook.Reached{Sent: 1}, nil
	}
	return runbook.Reached{Sent: 1, Answered: 1, Took: time.Since(began)}, c.Close()
}

func resolve(ctx context.Context, host string) (netip.Addr, error) {
	if ip, err := netip.ParseAddr(host); err == nil {
		return ip, nil
	}
	all, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil || len(all) == 0 {
		return netip.Addr{}, fmt.Errorf("the name of %s: %w", host, err)
	}
	return all[0].Unmap(), nil
}

// listen opens a socket for echo requests: one that needs no privilege, else a raw one.
func listen(ip netip.Addr) (c *icmp.PacketConn, raw bool, err error) {
	easy, hard, any := "udp4", "ip4:icmp", "0.0.0.0"
	if ip.Is6() {
		easy, hard, any = "udp6", "ip6:ipv6-icmp", "::"
	}
	if c, err = icmp.ListenPacket(easy, any); err == nil {
		return c, false, nil
	}
	if c, err = icmp.ListenPacket(hard, any); err == nil {
		return c, true, nil
	}
	if errors.Is(err, os.ErrPermission) {
		return nil, false, ErrNotAllowed
	}
	return nil, false, fmt.Errorf("echo requests to %s: %w", ip, err)
}

// socket is what sends requests and receives what comes.
type socket interface {
	WriteTo(data []byte, to net.Addr) (int, error)
	ReadFrom(buf []byte) (int, net.Addr, error)
	SetReadDeadline(t time.Time) error
}

// ask sends the requests and waits for their answers.
func ask(c socket, ip netip.Addr, raw bool) (r runbook.Reached, err error) {
	id := os.Getpid() & 0xffff
	mark := []byte(fmt.Sprintf("metabasis %d %d", os.Getpid(), time.Now().UnixNano()))
	sent := make([]time.Time, requests)
	came := make([]bool, requests)
	for seq := range requests {
		if sent[seq], err = send(c, ip, raw, id, seq, mark); err != nil {
			if unreachable(err) { // no way leads there: that is what was asked
				r.Sent++
				continue
			}
			return r, fmt.Errorf("asking %s: %w", ip, err)
		}
		r.Sent++
		wait := apart
		if seq == requests-1 {
			wait = patience
		}
		for by := time.Now().Add(wait); r.Answered < r.Sent; {
			n, at, err := receive(c, ip, id, raw, mark, by)
			if errors.Is(err, os.ErrDeadlineExceeded) {
				break
			}
			if err != nil {
				return r, fmt.Errorf("asking %s: %w", ip, err)
			}
			if n < 0 || n > seq || came[n] {
				continue
			}
			came[n] = true
			if r.Answered++; r.Answered == 1 {
				r.Took = at.Sub(sent[n])
			}
		}
	}
	return r, nil
}

func unreachable(err error) bool {
	return slices.ContainsFunc([]error{syscall.ENETUNREACH, syscall.EHOSTUNREACH, syscall.ENETDOWN, syscall.EHOSTDOWN},
		func(e error) bool { return errors.Is(err, e) })
}

func send(c socket, ip netip.Addr, raw bool, id, seq int, mark []byte) (time.Time, error) {
	m := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: id, Seq: seq, Data: mark}}
	if ip.Is6() {
		m.Type = ipv6.ICMPTypeEchoRequest
	}
	data, err := m.Marshal(nil)
	if err != nil {
		return time.Time{}, err
	}
	var to net.Addr = &net.UDPAddr{IP: ip.AsSlice(), Zone: ip.Zone()}
	if raw {
		to = &net.IPAddr{IP: ip.AsSlice(), Zone: ip.Zone()}
	}
	at := time.Now()
	_, err = c.WriteTo(data, to)
	return at, err
}

// receive waits for one message and returns the number of the request that it answers, or -1 for
// one that is none of ours.
func receive(c socket, ip netip.Addr, id int, raw bool, mark []byte, by time.Time) (seq int, at time.Time, err error) {
	if err := c.SetReadDeadline(by); err != nil {
		return -1, at, err
	}
	buf := make([]byte, 1500)
	n, from, err := c.ReadFrom(buf)
	if err != nil {
		return -1, at, err
	}
	at = time.Now()
	proto, reply := 1, icmp.Type(ipv4.ICMPTypeEchoReply)
	if ip.Is6() {
		proto, reply = 58, ipv6.ICMPTypeEchoReply
	}
	m, err := icmp.ParseMessage(proto, buf[:n])
	if err != nil || m.Type != reply {
		return -1, at, nil
	}
	echo, is := m.Body.(*icmp.Echo)
	if !is || raw && echo.ID != id || !slices.Equal(echo.Data, mark) || addressOf(from) != ip.WithZone("") {
		return -1, at, nil
	}
	return echo.Seq, at, nil
}

func addressOf(a net.Addr) netip.Addr {
	var ip net.IP
	switch a := a.(type) {
	case *net.UDPAddr:
		ip = a.IP
	case *net.IPAddr:
		ip = a.IP
	}
	out, _ := netip.AddrFromSlice(ip)
	return out.Unmap()
}
