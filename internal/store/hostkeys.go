package store

import (
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// HostKeys checks the keys devices show against a file in OpenSSH's known_hosts
// format. A key seen for the first time is remembered; a key that has changed is
// refused.
func HostKeys(file string) (ssh.HostKeyCallback, error) {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("host keys: %w", err)
	}
	f.Close()
	known, err := knownhosts.New(file)
	if err != nil {
		return nil, fmt.Errorf("host keys: %w", err)
	}
	h := &hostKeys{file: file, known: known, fresh: map[string]ssh.PublicKey{}}
	return h.check, nil
}

type hostKeys struct {
	file  string
	known ssh.HostKeyCallback
	mu    sync.Mutex
	fresh map[string]ssh.PublicKey // remembered since the file was read
}

// ErrKeyChanged says that a device shows another key than before.
var ErrKeyChanged = errors.New("it shows another host key than before: it may have been replaced, or somebody stands between you and it")

func (h *hostKeys) check(host string, remote net.Addr, key ssh.PublicKey) error {
	err := h.known(host, remote, key)
	var ke *knownhosts.KeyError
	if err == nil || !errors.As(err, &ke) {
		return err
	}
	if len(ke.Want) > 0 {
		return fmt.Errorf("%w; if that is right, remove its line %d from %s", ErrKeyChanged, ke.Want[0].Line, ke.Want[0].Filename)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if old, ok := h.fresh[host]; ok {
		if string(old.Marshal()) != string(key.Marshal()) {
			return ErrKeyChanged
		}
		return nil
	}
	f, err := os.OpenFile(h.file, os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("remembering the host key: %w", err)
	}
	defer f.Close()
	if _, err := f.WriteString(strings.TrimSpace(knownhosts.Line([]string{knownhosts.Normalize(host)}, key)) + "\n"); err != nil {
		return fmt.Errorf("remembering the host key: %w", err)
	}
	h.fresh[host] = key
	return nil
}
