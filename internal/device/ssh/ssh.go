// Package ssh opens an interactive shell on a device over SSH (RFC 4251–4254).
package ssh

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/crypto/ssh"
)

// Login is how to log in to a device.
type Login struct {
	User     string
	Password string
	Signers  []ssh.Signer
}

// Stage is how far reaching a device came.
type Stage string

// The stages of reaching a device, in order.
const (
	Port  Stage = "port"
	Key   Stage = "host key"
	Auth  Stage = "login"
	Shell Stage = "shell"
)

// Error says at which stage reaching a device failed, and what that means.
type Error struct {
	Stage Stage
	Err   error
}

func (e *Error) Error() string {
	switch {
	case errors.Is(e.Err, syscall.ECONNREFUSED):
		return "its SSH port is closed: the service may not be running"
	case errors.Is(e.Err, context.DeadlineExceeded):
		return fmt.Sprintf("no answer at the %s in time", e.Stage)
	case e.Stage == Auth:
		return "login denied: check user, password and key"
	}
	return fmt.Sprintf("%s: %v", e.Stage, e.Err)
}

func (e *Error) Unwrap() error { return e.Err }

// Dial opens a connection to the device; what it returns is used for one shell.
type Dial func(ctx context.Context) (net.Conn, error)

// Open dials, logs in and starts a shell on a terminal of 250 columns. It takes
// no longer than ctx allows.
func Open(ctx context.Context, dial Dial, addr string, login Login, hostKey ssh.HostKeyCallback) (io.ReadWriteCloser, error) {
	conn, err := dial(ctx)
	if err != nil {
		return nil, &Error{Port, err}
	}
	// Nothing in x/crypto/ssh takes a context: closing the connection is what
	// ends a handshake with a device that has gone silent.
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	sh, err := open(conn, addr, login, hostKey)
	if !stop() && err == nil {
		sh.Close()
		err = &Error{Shell, ctx.Err()}
	}
	if err != nil {
		conn.Close()
		if ctx.Err() != nil {
			return nil, &Error{stageOf(err), ctx.Err()}
		}
		return nil, err
	}
	return sh, nil
}

func stageOf(err error) Stage {
	var e *Error
	if errors.As(err, &e) {
		return e.Stage
	}
	return Port
}

func open(conn net.Conn, addr string, login Login, hostKey ssh.HostKeyCallback) (*shell, error) {
	cfg := &ssh.ClientConfig{User: login.User, HostKeyCallback: hostKey, ClientVersion: "SSH-2.0-Metabasis"}
	if len(login.Signers) > 0 {
		cfg.Auth = append(cfg.Auth, ssh.PublicKeys(login.Signers...))
	}
	if login.Password != "" {
		cfg.Auth = append(cfg.Auth, ssh.Password(login.Password))
	}
	c, channels, requests, err := ssh.NewClientConn(conn, addr, cfg)
	if err != nil {
		stage := Key
		if strings.Contains(err.Error(), "unable to authenticate") {
			stage = Auth
		}
		return nil, &Error{stage, err}
	}
	client := ssh.NewClient(c, channels, requests)
	sh, err := startShell(client)
	if err != nil {
		client.Close()
		return nil, &Error{Shell, err}
	}
	return sh, nil
}

func startShell(client *ssh.Client) (*shell, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	modes := ssh.TerminalModes{ssh.ECHO: 1, ssh.TTY_OP_ISPEED: 115200, ssh.TTY_OP_OSPEED: 115200}
	if err := session.RequestPty("dumb", 60, 250, modes); err != nil {
		return nil, err
	}
	if err := session.Shell(); err != nil {
		return nil, err
	}
	return &shell{Reader: out, Writer: in, client: client}, nil
}

// shell is the byte stream of a shell; closing it closes the connection.
type shell struct {
	io.Reader
	io.Writer
	client *ssh.Client
	once   sync.Once
}

func (s *shell) Close() error {
	var err error
	s.once.Do(func() {
		if err = s.client.Close(); errors.Is(err, net.ErrClosed) || errors.Is(err, io.EOF) {
			err = nil
		}
	})
	return err
}
