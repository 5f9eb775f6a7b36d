package ssh

import (
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"sync"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// Keys holds private keys: those of an agent, and those read from files. Each
// file is read once.
type Keys struct {
	// Passphrase gives the passphrase of an encrypted file; nil knows none.
	Passphrase func(file string) (string, error)

	mu    sync.Mutex
	files map[string]loaded
	agent agent.ExtendedAgent
	conn  net.Conn
}

type loaded struct {
	signer ssh.Signer
	err    error
}

// mostKeys is how many keys are offered at most: a server counts each as a try
// and commonly allows six.
const mostKeys = 5

// UseAgent connects to an agent by its socket; "" is none.
func (k *Keys) UseAgent(socket string) error {
	if socket == "" {
		return nil
	}
	conn, err := net.Dial("unix", socket)
	if err != nil {
		return fmt.Errorf("ssh agent: %w", err)
	}
	k.conn, k.agent = conn, agent.NewClient(conn)
	return nil
}

// Close lets go of the agent.
func (k *Keys) Close() error {
	if k.conn == nil {
		return nil
	}
	return k.conn.Close()
}

// Load reads a private key from a file.
func (k *Keys) Load(file string) (ssh.Signer, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if l, ok := k.files[file]; ok {
		return l.signer, l.err
	}
	s, err := k.read(file)
	if err != nil {
		err = fmt.Errorf("key %s: %w", file, err)
	}
	if k.files == nil {
		k.files = map[string]loaded{}
	}
	k.files[file] = loaded{s, err}
	return s, err
}

func (k *Keys) read(file string) (ssh.Signer, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	s, err := ssh.ParsePrivateKey(data)
	var missing *ssh.PassphraseMissingError
	if !errors.As(err, &missing) {
		return s, err
	}
	if k.Passphrase == nil {
		return nil, errors.New("it is encrypted and its passphrase is not known")
	}
	phrase, err := k.Passphrase(file)
	if err != nil {
		return nil, err
	}
	if s, err = ssh.ParsePrivateKeyWithPassphrase(data, []byte(phrase)); err != nil {
		return nil, errors.New("its passphrase is wrong")
	}
	return s, nil
}

// Holds tells whether the agent holds the key of a file.
func (k *Keys) Holds(file string) bool {
	if k.agent == nil {
		return false
	}
	held, err := k.agent.Signers()
	return err == nil && inAgent(held, file) != nil
}

// Encrypted tells whether a file holds a private key behind a passphrase.
func Encrypted(file string) bool {
	data, err := os.ReadFile(file)
	if err != nil {
		return false
	}
	var missing *ssh.PassphraseMissingError
	_, err = ssh.ParsePrivateKey(data)
	return errors.As(err, &missing)
}

// Signers are the keys to offer: those of the files, then those of the agent
// unless only the files are wanted. An encrypted file whose key the agent holds
// is not read.
func (k *Keys) Signers(files []string, only bool) ([]ssh.Signer, error) {
	var held []ssh.Signer
	if k.agent != nil {
		var err error
		if held, err = k.agent.Signers(); err != nil {
			return nil, fmt.Errorf("ssh agent: %w", err)
		}
	}
	var out []ssh.Signer
	var failed error
	for _, f := range files {
		if s := inAgent(held, f); s != nil {
			out = append(out, s)
			continue
		}
		s, err := k.Load(f)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		out = append(out, s)
	}
	if !only {
		for _, s := range held {
			if !slices.ContainsFunc(out, func(o ssh.Signer) bool { return same(o.PublicKey(), s.PublicKey()) }) {
				out = append(out, s)
			}
		}
	}
	if len(out) == 0 && failed != nil {
		return nil, failed
	}
	return out[:min(len(out), mostKeys)], nil
}

// inAgent finds the agent's key that belongs to a private key's file, by the
// public key beside it.
func inAgent(held []ssh.Signer, file string) ssh.Signer {
	data, err := os.ReadFile(file + ".pub")
	if err != nil {
		return nil
	}
	pub, _, _, _, err := ssh.ParseAuthorizedKey(data)
	if err != nil {
		return nil
	}
	for _, s := range held {
		if same(s.PublicKey(), pub) {
			return s
		}
	}
	return nil
}

func same(a, b ssh.PublicKey) bool { return string(a.Marshal()) == string(b.Marshal()) }
