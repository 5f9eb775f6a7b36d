package ssh

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/crypto/ssh"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/reach"
)

// Stopped is why a login is not tried: other devices have refused it, and one
// more try may lock the account. It comes from Login.Try.
type Stopped struct{ Why string }

func (e *Stopped) Error() string { return e.Why }

// denied tells whether a login was denied. A server that has nothing to ask in a
// dialogue answers it with a failure at once (RFC 4256, 3.4), which the library
// takes for a mistake: message 51 is SSH_MSG_USERAUTH_FAILURE (RFC 4252, 6).
func denied(err error) bool {
	return err != nil && (strings.Contains(err.Error(), "unable to authenticate") ||
		strings.Contains(err.Error(), "unexpected message type 51 ") || errors.Is(err, errTried))
}

// explainDial says why no connection came about.
func explainDial(hop Hop, err error) *reach.Failure {
	_, port, _ := net.SplitHostPort(hop.Addr)
	return ExplainDial(port, "SSH", hop.Within.String(), err)
}

// ExplainDial says why no connection to a port came about. A failure that is
// explained already, such as a jump host's, stays as it is.
func ExplainDial(port, service, within string, err error) *reach.Failure {
	var f *reach.Failure
	var open *ssh.OpenChannelError
	var dns *net.DNSError
	switch {
	case errors.As(err, &f):
		return f
	case errors.As(err, &open):
		return explainChannel(port, service, open)
	case errors.As(err, &dns):
		return &reach.Failure{
			Stage:  reach.Name,
			Cause:  "its name has no address",
			Remedy: "see whether the fleet file has it right, or write the address",
			Err:    err,
		}
	case errors.Is(err, syscall.ECONNREFUSED):
		return &reach.Failure{
			Stage:  reach.Port,
			Cause:  "answers on the network but refuses port " + port,
			Kind:   "answers on the network but refuses its port",
			Remedy: service + refusedHint(service),
			Err:    err,
		}
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return &reach.Failure{
			Stage:  reach.Route,
			Cause:  "there is no route to it",
			Remedy: "see whether this machine or its jump host is on the right network",
			Err:    err,
		}
	case errors.Is(err, errSilent), errors.Is(err, context.DeadlineExceeded), errors.Is(err, syscall.ETIMEDOUT):
		return &reach.Failure{
			Stage:  reach.Route,
			Cause:  "nothing answers in " + within,
			Remedy: "it may be off, or a filter drops port " + port + " on the way",
			Err:    err,
		}
	case errors.Is(err, context.Canceled):
		return &reach.Failure{Stage: reach.Route, Cause: "given up before it answered", Err: err}
	case errors.Is(err, syscall.ECONNRESET):
		return &reach.Failure{Stage: reach.Port, Cause: "resets connections to port " + port, Kind: "resets connections to its port",
			Remedy: "an access list may stand in the way", Err: err}
	}
	return &reach.Failure{Stage: reach.Route, Cause: "cannot be connected to: " + err.Error(), Err: err}
}

func refusedHint(service string) string {
	if service == "SSH" {
		return " may not be enabled on it, or its host keys are missing"
	}
	return " may not be enabled on it"
}

// explainChannel reads what a jump host says of a connection it did not make.
// Its text is free (RFC 4254, 5.1); these are the words operating systems use.
func explainChannel(port, service string, e *ssh.OpenChannelError) *reach.Failure {
	said := strings.ToLower(e.Message)
	switch {
	case e.Reason == ssh.Prohibited:
		return &reach.Failure{
			Stage:  reach.Route,
			Cause:  "its jump host does not pass connections on",
			Remedy: "let it forward TCP for this login",
			Err:    e,
		}
	case strings.Contains(said, "refused"):
		f := ExplainDial(port, service, "", syscall.ECONNREFUSED)
		f.Err = e
		return f
	case strings.Contains(said, "name or service"), strings.Contains(said, "could not resolve"), strings.Contains(said, "no such host"):
		return &reach.Failure{
			Stage:  reach.Name,
			Cause:  "its jump host does not know its name",
			Remedy: "write the address into the fleet file",
			Err:    e,
		}
	case strings.Contains(said, "no route"), strings.Contains(said, "unreachable"):
		return &reach.Failure{Stage: reach.Route, Cause: "its jump host has no route to it", Err: e}
	case strings.Contains(said, "timed out"), strings.Contains(said, "timeout"):
		return &reach.Failure{
			Stage:  reach.Route,
			Cause:  "nothing answers its jump host",
			Remedy: "it may be off, or a filter drops port " + port,
			Err:    e,
		}
	}
	return &reach.Failure{Stage: reach.Route, Cause: "its jump host cannot connect to it: " + short(e.Message), Err: e}
}

// explain says why no session came about once there was a connection.
func explain(hop Hop, stage reach.Stage, err error, a *auth) *reach.Failure {
	var algs *ssh.AlgorithmNegotiationError
	var fail *reach.Failure
	f := &reach.Failure{Stage: stage, Err: err}
	switch {
	case errors.As(err, &fail):
		return fail
	case errors.Is(err, errSilent):
		f.Cause = fmt.Sprintf("connected, then silent at the %s for %s", stage, hop.Within)
		f.Remedy = "it may be overloaded or out of sessions"
	case errors.Is(err, context.Canceled):
		f.Cause = "given up at the " + stage.String()
	case errors.As(err, &algs):
		f.Stage = reach.Handshake
		f.Cause = fmt.Sprintf("%s: it only offers %s", algs.What, short(strings.Join(real(algs.RequestedAlgorithms), ", ")))
		f.Remedy = oldRemedy(algs)
	case stage == reach.HostKey:
		f.Cause = strings.TrimPrefix(err.Error(), "ssh: handshake failed: ")
	case stage == reach.Login:
		explainLogin(f, a)
	case hungUp(err):
		f.Cause = "takes the connection and closes it at once"
		f.Remedy = "it may be out of sessions, or an access list stands in the way"
	case strings.Contains(err.Error(), "version string"), strings.Contains(err.Error(), "overflow reading"):
		f.Cause = "something else than SSH listens there"
		f.Remedy = "see whether the port in the fleet file is right"
	default:
		f.Cause = "the handshake fails: " + short(strings.TrimPrefix(err.Error(), "ssh: handshake failed: "))
	}
	return f
}

// real leaves out of what a peer offers the names that are no algorithms but
// tell of an extension (RFC 8308, and OpenSSH's strict key exchange).
func real(offered []string) []string {
	return slices.DeleteFunc(slices.Clone(offered), func(n string) bool {
		return strings.HasPrefix(n, "ext-info-") || strings.HasPrefix(n, "kex-strict-")
	})
}

// hungUp tells whether the peer has closed the connection, in any of the ways in
// which that is noticed.
func hungUp(err error) bool {
	for _, e := range []error{io.EOF, io.ErrUnexpectedEOF, io.ErrClosedPipe, syscall.ECONNRESET, syscall.EPIPE} {
		if errors.Is(err, e) || strings.Contains(err.Error(), e.Error()) {
			return true
		}
	}
	return false
}

// oldRemedy tells apart a device that knows only weak algorithms, for which
// there is a remedy, and one that knows none of ours.
func oldRemedy(e *ssh.AlgorithmNegotiationError) string {
	w := ssh.InsecureAlgorithms()
	for _, alg := range slices.Concat(w.KeyExchanges, w.Ciphers, w.MACs, w.HostKeys) {
		if slices.Contains(e.RequestedAlgorithms, alg) {
			return "these are weak; write old in its algorithms column to allow them for this device alone"
		}
	}
	return "none of these is known here"
}

func explainLogin(f *reach.Failure, a *auth) {
	a.mu.Lock()
	defer a.mu.Unlock()
	var stopped *Stopped
	switch {
	case errors.As(a.refusal, &stopped):
		f.Cause, f.Err = stopped.Why, a.refusal
		f.Remedy = "mend the login, then begin anew"
	case a.question != "":
		f.Cause = fmt.Sprintf("its login asks %q, which we cannot answer", short(a.question))
		if a.why != nil {
			f.Remedy = a.why.Error()
		}
		f.Err = fmt.Errorf("%w: %w", driver.ErrDenied, f.Err)
	case a.keyErr != nil && !a.sent && a.keys == 0:
		f.Cause, f.Remedy = "login "+a.login.Name+" has a key that cannot be used: "+a.keyErr.Error(), ""
	case denied(f.Err):
		f.Cause = fmt.Sprintf("login %s is denied", a.login.Name)
		f.Remedy = "check user, password and key; it was tried once"
		if !a.sent && a.keys == 0 {
			f.Cause = fmt.Sprintf("login %s has no key or password that it takes", a.login.Name)
			f.Remedy = "see metabasis settings for where they are looked for"
		}
		if a.keyErr != nil {
			f.Cause += " (" + a.keyErr.Error() + ")"
		}
		f.Err = fmt.Errorf("%w: %w", driver.ErrDenied, f.Err)
	default:
		f.Cause = "breaks off during the login: " + short(strings.TrimPrefix(f.Err.Error(), "ssh: handshake failed: "))
		f.Remedy = "it may be out of sessions, or denies this user"
	}
}

// short bounds what a peer says, and makes one line of it.
func short(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 127 || r >= 0x80 && r < 0xa0 {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "\ufffd"))
	if r := []rune(s); len(r) > 160 {
		return string(r[:160]) + "…"
	}
	return s
}
