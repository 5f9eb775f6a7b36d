package store

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"sync"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"metabasis/internal/core/reach"
)

// Unknown says what to do with a host that shows its key for the first time.
type Unknown string

// The choices at first sight.
const (
	Strict   Unknown = "strict"   // it is not connected to
	Ask      Unknown = "ask"      // it is not connected to until a person has accepted the key
	Remember Unknown = "remember" // its key is taken and remembered
)

// Unknowns lists the choices.
var Unknowns = []string{string(Strict), string(Ask), string(Remember)}

// HostKeys checks the keys hosts show against files in OpenSSH's known_hosts
// format (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT"). A key that has changed is
// always refused.
type HostKeys struct {
	file    string // where keys are remembered
	unknown Unknown
	known   ssh.HostKeyCallback

	mu    sync.Mutex
	fresh map[string]ssh.PublicKey // accepted since the files were read
}

// OpenHostKeys reads the file where keys are remembered, which need not exist,
// and further files that are only read.
func OpenHostKeys(file string, unknown Unknown, further ...string) (*HostKeys, error) {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("host keys: %w", err)
	}
	f.Close()
	files := []string{file}
	for _, other := range further {
		if _, err := os.Stat(other); err == nil {
			files = append(files, other)
		}
	}
	known, err := knownhosts.New(files...)
	if err != nil {
		return nil, fmt.Errorf("host keys: %w", err)
	}
	return &HostKeys{file: file, unknown: unknown, known: known, fresh: map[string]ssh.PublicKey{}}, nil
}

// ErrKeyChanged says that a host shows another key than before.
var ErrKeyChanged = errors.New("it shows another host key than before")

// changed is how a changed key is told.
func changed(remedy string) *reach.Failure {
	return &reach.Failure{Stage: reach.HostKey, Cause: ErrKeyChanged.Error(), Err: ErrKeyChanged,
		Remedy: "it may have been replaced, or somebody stands between you and it" + remedy}
}

// NewKey is a key shown for the first time, which nobody has accepted yet.
type NewKey struct {
	Host string // as it is known: host, or [host]:port
	Key  ssh.PublicKey
}

// Fingerprint is the key's, as ssh-keygen -l prints it.
func (e *NewKey) Fingerprint() string { return ssh.FingerprintSHA256(e.Key) }

func (e *NewKey) Error() string {
	return fmt.Sprintf("%s (%s %s)", shownFirst, e.Key.Type(), e.Fingerprint())
}

const shownFirst = "it shows its host key for the first time"

func (e *NewKey) failure(remedy string) *reach.Failure {
	return &reach.Failure{Stage: reach.HostKey, Cause: e.Error(), Kind: shownFirst, Remedy: remedy, Err: e}
}

// Check implements the check of a host's key. Its errors are of type
// [reach.Failure]; inside is a [NewKey] or [ErrKeyChanged].
func (h *HostKeys) Check(host string, remote net.Addr, key ssh.PublicKey) error {
	name := knownhosts.Normalize(host)
	h.mu.Lock()
	defer h.mu.Unlock()
	if old, ok := h.fresh[name]; ok {
		if string(old.Marshal()) != string(key.Marshal()) {
			return changed("")
		}
		return nil
	}
	err := h.known(host, elsewhere(remote), key)
	var ke *knownhosts.KeyError
	if err == nil || !errors.As(err, &ke) {
		return err
	}
	if len(ke.Want) > 0 {
		return changed(fmt.Sprintf("; if it was replaced, remove line %d of %s", ke.Want[0].Line, ke.Want[0].Filename))
	}
	switch h.unknown {
	case Remember:
		return h.accept(name, key, true)
	case Ask:
		return (&NewKey{name, key}).failure("compare it, then accept it in metabasis reach on a terminal")
	}
	return (&NewKey{name, key}).failure("host keys are strict: put it into " + h.file + " first")
}

// elsewhere keeps the address of a connection out of the check: behind a jump
// host or a loopback port it is not the host's own.
func elsewhere(net.Addr) net.Addr { return &net.TCPAddr{} }

// Accept takes a new key, for this run only or for good.
func (h *HostKeys) Accept(k *NewKey, forGood bool) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.accept(k.Host, k.Key, forGood)
}

func (h *HostKeys) accept(name string, key ssh.PublicKey, forGood bool) error {
	if forGood {
		if err := appendLine(h.file, knownhosts.Line([]string{name}, key)); err != nil {
			return fmt.Errorf("remembering the host key: %w", err)
		}
	}
	h.fresh[name] = key
	return nil
}

// appendLine puts a line at the end of a file, durably. The last line may have no end: a
// person may have left it so, or it was cut off.
func appendLine(file, line string) error {
	f, err := os.OpenFile(file, os.O_APPEND|os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	if end, err := f.Seek(0, io.SeekEnd); err == nil && end > 0 {
		var last [1]byte
		if _, err := f.ReadAt(last[:], end-1); err == nil && last[0] != '\n' {
			line = "\n" + line
		}
	}
	_, err = f.WriteString(line + "\n")
	return errors.Join(err, f.Sync(), f.Close())
}

// Algorithms lists the kinds of key known for a host, host:port.
func (h *HostKeys) Algorithms(host string) []string {
	h.mu.Lock()
	defer h.mu.Unlock()
	if k, ok := h.fresh[knownhosts.Normalize(host)]; ok {
		return []string{k.Type()}
	}
	var ke *knownhosts.KeyError
	if !errors.As(h.known(host, &net.TCPAddr{}, noKey{}), &ke) {
		return nil
	}
	var out []string
	for _, k := range ke.Want {
		if t := k.Key.Type(); !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	return out
}

// noKey is like no key there is: asked about, the files tell what they know.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }
