package snmp

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"github.com/gosnmp/gosnmp"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/tree"
)

// Dial opens a connection to an address.
type Dial func(ctx context.Context, network, addr string) (net.Conn, error)

var (
	auths = map[string]gosnmp.SnmpV3AuthProtocol{
		"SHA":     gosnmp.SHA,
		"SHA-256": gosnmp.SHA256,
		"SHA-384": gosnmp.SHA384,
		"SHA-512": gosnmp.SHA512,
	}
	privacies = map[string]gosnmp.SnmpV3PrivProtocol{"AES": gosnmp.AES, "AES-192": gosnmp.AES192, "AES-256": gosnmp.AES256}
)

// Start begins to talk to a device: there is no session before something was asked, so its
// name is. The error is a [reach.Failure].
func Start(ctx context.Context, p *profile.Profile, dial Dial, addr string, opt profile.Options) (*Session, error) {
	s := &Session{Confided: profile.NewConfided(p, opt.Secrets), p: p, log: opt.Log}
	fail := func(stage reach.Stage, cause, remedy string, err error) error {
		if s.g != nil && s.g.Conn != nil {
			s.g.Conn.Close()
		}
		f := &reach.Failure{Stage: stage, Cause: s.Mask(cause), Remedy: remedy, Err: err}
		s.log.Note(f.Error())
		return f
	}
	at := func(stage reach.Stage) {
		if opt.Watch != nil {
			opt.Watch(stage)
		}
	}
	at(reach.Route)
	conn, err := dial(ctx, "udp", addr)
	if err != nil {
		return nil, fail(reach.Route, err.Error(), "see whether its address is right", err)
	}
	if s.g, err = client(p, opt); err != nil {
		conn.Close()
		return nil, fail(reach.Login, err.Error(), "see snmp: in its profile", err)
	}
	s.g.Conn = conn
	at(reach.Login)
	first := p.Snmp.Name
	if first == "" {
		first = p.Snmp.Backup[0]
	}
	v, err := s.read(ctx, []string{first})
	var refused *driver.Refused
	var odd *driver.Unclear
	switch {
	case errors.Is(err, driver.ErrDenied):
		return nil, fail(
			reach.Login,
			"login is denied: "+err.Error(),
			"check user, password and the secret "+profile.Privacy+"; it was tried once",
			err,
		)
	case errors.As(err, &refused), errors.As(err, &odd):
		return nil, fail(reach.Prompt, "it answers, and "+first+" cannot be read: "+err.Error(), "see snmp: objects: in its profile", err)
	case err != nil && p.Snmp.Version == "2c":
		return nil, fail(reach.Login, err.Error(), "it is out of reach, or the community is another: SNMP 2c answers neither", err)
	case err != nil:
		return nil, fail(
			reach.Login,
			err.Error(),
			"it is out of reach, takes no SNMP on this port, or a secret is wrong: SNMP says the same to all three",
			err,
		)
	}
	at(reach.Prompt)
	if p.Snmp.Name != "" {
		if s.host, err = tree.Read(v.by[first]); err != nil || s.host == "" {
			return nil, fail(reach.Prompt, "it tells no name as "+first, "see snmp: name: in its profile", err)
		}
	}
	s.log.Note("SNMP answers")
	return s, nil
}

// client is the library's, ready but for its connection.
func client(p *profile.Profile, opt profile.Options) (*gosnmp.GoSNMP, error) {
	retries := 2
	if p.Snmp.Retries != nil {
		retries = *p.Snmp.Retries
	}
	g := &gosnmp.GoSNMP{Target: "127.0.0.1", Port: 9, Transport: "udp", Retries: retries,
		Timeout: p.Within() / time.Duration(retries+1), MaxOids: p.Snmp.Most}
	if p.Snmp.Version == "2c" {
		g.Version, g.Community = gosnmp.Version2c, opt.Secrets["password"]
	} else {
		g.Version, g.SecurityModel, g.MsgFlags = gosnmp.Version3, gosnmp.UserSecurityModel, gosnmp.AuthPriv
		g.SecurityParameters = &gosnmp.UsmSecurityParameters{UserName: opt.User,
			AuthenticationProtocol: auths[p.Snmp.Auth], AuthenticationPassphrase: opt.Secrets["password"],
			PrivacyProtocol: privacies[p.Snmp.Privacy], PrivacyPassphrase: opt.Secrets[profile.Privacy]}
	}
	// The library opens sockets by itself, past our dialer. This one is opened to nobody and
	// thrown away; what matters is what else it gets ready.
	if err := g.Connect(); err != nil {
		return nil, fmt.Errorf("getting ready: %w", err)
	}
	return g, g.Conn.Close()
}
