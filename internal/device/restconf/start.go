package restconf

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"sync/atomic"

	gossh "golang.org/x/crypto/ssh"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/ssh"
	"metabasis/internal/device/tree"
)

// Server is how a server is reached and known.
type Server struct {
	Addr string // host:port
	Dial func(ctx context.Context, network, addr string) (net.Conn, error)
	Keys ssh.HostKeys // which key is whose
	Cert string       // a file with our certificate and its key, where that is the login
}

// Start connects to a server, sees that it is the one it should be, and reads the device's
// name. The error is a [reach.Failure].
func Start(ctx context.Context, p *profile.Profile, server Server, opt profile.Options) (*Session, error) {
	s := &Session{Confided: profile.NewConfided(p, opt.Secrets), p: p, schema: p.Schema(), log: opt.Log, kinds: tree.Kinds{}, key: opt.Key}
	for _, path := range p.Restconf.Literals {
		s.kinds[path] = tree.Literal
	}
	var stage atomic.Int32 // a connection is made beside the request that waits for it
	var begun atomic.Bool
	at := func(next reach.Stage) {
		if stage.Store(int32(next)); opt.Watch != nil && !begun.Load() {
			opt.Watch(next)
		}
	}
	defer begun.Store(true)
	fail := func(f *reach.Failure) error {
		if s.c != nil {
			s.c.http.CloseIdleConnections()
		}
		f.Cause = s.Mask(f.Cause)
		s.log.Note(f.Error())
		return f
	}
	cfg := &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12} // whose key it is, we look ourselves
	if p.Restconf.Login == profile.ByCertificate {
		cert, err := certificate(server.Cert)
		if err != nil {
			return nil, fail(
				&reach.Failure{
					Stage:  reach.Login,
					Cause:  err.Error(),
					Remedy: "name a file with the certificate and its key as the login's key",
					Err:    err,
				},
			)
		}
		cfg.Certificates = []tls.Certificate{cert}
	}
	s.c = &client{base: "https://" + server.Addr, root: p.Restconf.Root, user: opt.User, within: p.Within()}
	if p.Restconf.Login == profile.ByPassword {
		s.c.word = opt.Secrets["password"]
	}
	dial := func(ctx context.Context) (net.Conn, error) {
		at(reach.Route)
		conn, err := server.Dial(ctx, "tcp", server.Addr)
		if err == nil {
			at(reach.Port)
			at(reach.Handshake)
		}
		return conn, err
	}
	known := func(conn net.Conn, state *tls.ConnectionState) error {
		at(reach.HostKey)
		if err := check(server, conn, state); err != nil {
			return err
		}
		at(reach.Login)
		return nil
	}
	s.c.http = &http.Client{Transport: transport(dial, cfg, known),
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	s.log.Note("RESTCONF at " + s.c.base + s.c.root)
	if err := s.first(ctx, at); err != nil {
		return nil, fail(s.explain(reach.Stage(stage.Load()), err, server.Addr))
	}
	return s, nil
}

// first asks for the first time: for the device's name, or whether there is a datastore.
func (s *Session) first(ctx context.Context, at func(reach.Stage)) error {
	if s.p.Models.Name == "" {
		_, _, err := s.c.request(ctx, http.MethodHead, s.c.root+"/data", "", nil)
		if err == nil {
			at(reach.Prompt)
		}
		return err
	}
	path, err := tree.ParsePath(s.p.Models.Name)
	if err != nil {
		return err
	}
	root, err := s.get(ctx, path, "all")
	if err != nil {
		return err
	}
	at(reach.Prompt)
	found := path.Find(root)
	if len(found) != 1 {
		return &driver.Unclear{Asked: path.String(), Got: fmt.Sprintf("it is there %d times", len(found))}
	}
	name := []rune(tree.Said(found[0].Value))
	s.host = string(name[:min(len(name), 64)])
	return nil
}

// explain says at which stage it failed, and what that means.
func (s *Session) explain(stage reach.Stage, err error, addr string) *reach.Failure {
	var f *reach.Failure
	var no *Error
	var refused *driver.Refused
	var odd *driver.Unclear
	if errors.As(err, &f) {
		return f
	}
	_, port, _ := net.SplitHostPort(addr)
	errors.As(err, &no)
	switch {
	case errors.Is(err, driver.ErrDenied), no != nil && (no.Status == http.StatusUnauthorized || no.Status == http.StatusForbidden):
		return &reach.Failure{
			Stage:  reach.Login,
			Cause:  "login is denied",
			Remedy: "check user and password; it was tried once",
			Err:    errors.Join(driver.ErrDenied, err),
		}
	case errors.As(err, &refused), errors.As(err, &odd), no != nil:
		return &reach.Failure{
			Stage:  reach.Prompt,
			Cause:  "logged in, then no RESTCONF: " + err.Error(),
			Remedy: "see restconf: root: and models: name: in its profile",
			Err:    err,
		}
	case stage == reach.Route:
		return ssh.ExplainDial(port, "RESTCONF", s.p.Within().String(), err)
	case stage == reach.Handshake:
		return &reach.Failure{
			Stage:  stage,
			Cause:  "speaks no TLS that we take: " + err.Error(),
			Remedy: "see whether its RESTCONF listens on this port",
			Err:    err,
		}
	}
	return &reach.Failure{Stage: stage, Cause: err.Error(), Remedy: "see whether its RESTCONF listens on this port", Err: err}
}

// check sees whether the key of a server's certificate is its own.
func check(server Server, conn net.Conn, state *tls.ConnectionState) error {
	cert, err := leaf(state)
	if err != nil {
		return err
	}
	key, err := gossh.NewPublicKey(cert.PublicKey)
	if err != nil {
		return fmt.Errorf("a certificate with a key that is not known: %w", err)
	}
	return server.Keys.Check(server.Addr, conn.RemoteAddr(), key)
}

// certificate reads our own certificate with its key, from one file.
func certificate(file string) (tls.Certificate, error) {
	if file == "" {
		return tls.Certificate{}, errors.New("its profile says that a certificate is the login, and the login has none")
	}
	pem, err := os.ReadFile(file)
	if err != nil {
		return tls.Certificate{}, fmt.Errorf("our certificate: %w", err)
	}
	cert, err := tls.X509KeyPair(pem, pem)
	if err != nil {
		return cert, fmt.Errorf("our certificate in %s: %w", file, err)
	}
	return cert, nil
}
