package ssh

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"sync"

	"golang.org/x/crypto/ssh"
)

// Login is how to log in to a host.
type Login struct {
	Name     string // of the credential
	User     string
	Password string
	// Signers are the keys to offer; nil is none.
	Signers func() ([]ssh.Signer, error)
	// Answer answers what a login asks beyond its password, such as a code. It
	// may wait for a person. nil answers nothing.
	Answer func(ctx context.Context, question string, shown bool) (string, error)
	// Try is asked before a credential is sent; done is told whether it was
	// taken. It keeps an account from being locked. It may wait. nil allows all.
	Try func(ctx context.Context) (done func(Verdict), err error)
}

// Verdict is what became of a try to log in.
type Verdict int

// The verdicts.
const (
	Unknown    Verdict = iota // we gave up before the answer
	Let                       // it let us in
	Denied                    // it denied the login
	Unanswered                // it hung up or said nothing; it may have counted the try all the same
)

// errTried keeps a denied password from being sent a second time under another
// method: one try a device.
var errTried = errors.New("the password was denied already")

// auth is one login. A server may ask for a key, then a password, then a
// password again by dialogue (RFC 4252, 5; RFC 4256): each credential is sent
// once.
type auth struct {
	ctx           context.Context
	login         Login
	pause, resume func()

	mu       sync.Mutex
	done     func(Verdict) // of the try that is out
	refusal  error         // why Try did not allow it
	sent     bool          // the password was sent
	keys     int           // keys offered
	question string        // a question that we could not answer
	why      error         // why not; nil when there is nobody to answer any
	keyErr   error
}

func (a *auth) methods() []ssh.AuthMethod {
	var out []ssh.AuthMethod
	if a.login.Signers != nil {
		out = append(out, ssh.PublicKeysCallback(a.signers))
	}
	if a.login.Password != "" {
		out = append(out, ssh.PasswordCallback(a.password))
	}
	if a.login.Password != "" || a.login.Answer != nil {
		out = append(out, ssh.KeyboardInteractive(a.challenge))
	}
	return out
}

// try takes a place for one try; the time we wait for it is not the device's.
func (a *auth) try() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.refusal != nil {
		return a.refusal
	}
	if a.done != nil || a.login.Try == nil {
		return nil
	}
	a.pause()
	defer a.resume()
	done, err := a.login.Try(a.ctx)
	if err != nil {
		a.refusal = err
		return err
	}
	a.done = done
	return nil
}

// over tells what became of the try.
func (a *auth) over(err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.done == nil {
		return
	}
	switch {
	case err == nil:
		a.done(Let)
	case errors.Is(err, context.Canceled): // we gave up ourselves
		a.done(Unknown)
	case denied(err):
		a.done(Denied)
	default: // some devices hang up instead of saying no
		a.done(Unanswered)
	}
	a.done = nil
}

func (a *auth) signers() ([]ssh.Signer, error) {
	keys, err := a.login.Signers()
	if err != nil {
		a.mu.Lock()
		a.keyErr = err
		a.mu.Unlock()
		return nil, err
	}
	if len(keys) == 0 {
		return nil, nil
	}
	if err := a.try(); err != nil {
		return nil, err
	}
	a.mu.Lock()
	a.keys = len(keys)
	a.mu.Unlock()
	return keys, nil
}

func (a *auth) password() (string, error) {
	if err := a.try(); err != nil {
		return "", err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.sent {
		return "", errTried
	}
	a.sent = true
	return a.login.Password, nil
}

// challenge answers a dialogue (RFC 4256), which may come in several rounds.
func (a *auth) challenge(_, _ string, questions []string, echos []bool) ([]string, error) {
	answers := make([]string, len(questions))
	for i, q := range questions {
		var err error
		if answers[i], err = a.answer(q, echos[i]); err != nil {
			return nil, err
		}
	}
	return answers, nil
}

// Words by which a question is known to be for the password, or for a code that
// is good once. They are only needed where the order does not tell.
var (
	forPassword = regexp.MustCompile(`(?i)password|passphrase`)
	forCode     = regexp.MustCompile(`(?i)\b(code|passcode|token|otp|pin|one-time|verification|factor)\b`)
)

// answer answers one question. The first that is hidden is for the password,
// unless it asks for a code; a password that is asked for again was denied.
func (a *auth) answer(q string, shown bool) (string, error) {
	a.mu.Lock()
	sent := a.sent
	a.mu.Unlock()
	code := a.login.Answer != nil && forCode.MatchString(q)
	switch {
	case !shown && !sent && !code && a.login.Password != "":
		return a.password()
	case !shown && !code && forPassword.MatchString(q):
		return "", errTried
	}
	return a.ask(q, shown)
}

// ask lets somebody else answer a question; the time that takes is not the
// device's.
func (a *auth) ask(q string, shown bool) (string, error) {
	unanswered := func(why error) error {
		a.mu.Lock()
		defer a.mu.Unlock()
		a.question, a.why = q, why
		return fmt.Errorf("it asks %q", q)
	}
	if a.login.Answer == nil {
		return "", unanswered(nil)
	}
	if err := a.try(); err != nil {
		return "", err
	}
	a.pause()
	defer a.resume()
	v, err := a.login.Answer(a.ctx, short(q), shown)
	if err != nil {
		return "", unanswered(err)
	}
	return v, nil
}
