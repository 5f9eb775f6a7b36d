package ssh

import (
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"

	"metabasis/internal/core/textfile"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// Keys holds private keys: those of an agent, and those read from files. Each
// file is read once.
type Keys struct {
	// Passphrase gives the passphrase of an encrypted file; nil knows none.
	Passphrase func(file string) (string, error)

	mu     sync.Mutex
	files  map[string]loaded
	agents map[string]*socket
	own    string // the socket of the person's agent; "" is none
	use    bool   // agents are asked at all
}

// socket is a connection to an agent.
type socket struct {
	net.Conn
	agent.ExtendedAgent
}

type loaded struct {
	signer ssh.Signer
	err    error
}

// mostKeys is how many keys are offered at most: a server counts each as a try
// and commonly allows six.
const mostKeys = 5

// UseAgent allows agents to be asked: the person's own, by its socket, "" for
// none, and those that the SSH configuration names for a host.
func (k *Keys) UseAgent(own string) error {
	k.mu.Lock()
	k.own, k.use = own, true
	k.mu.Unlock()
	_, err := k.held("")
	return err
}

// held are the keys of an agent: "" is the person's own, "none" is none
// (ssh_config(5), "IdentityAgent").
func (k *Keys) held(at string) ([]ssh.Signer, error) {
	k.mu.Lock()
	if at == "" || at == "SSH_AUTH_SOCK" {
		at = k.own
	}
	if at == "" || at == "none" || !k.use {
		k.mu.Unlock()
		return nil, nil
	}
	a := k.agents[at]
	if a == nil {
		conn, err := net.Dial("unix", at)
		if err != nil {
			k.mu.Unlock()
			return nil, fmt.Errorf("ssh agent: %w", err)
		}
		if k.agents == nil {
			k.agents = map[string]*socket{}
		}
		a = &socket{conn, agent.NewClient(conn)}
		k.agents[at] = a
	}
	k.mu.Unlock()
	keys, err := a.Signers()
	if err != nil {
		k.mu.Lock()
		if k.agents[at] == a { // the next one connects anew: it may be there again
			delete(k.agents, at)
			_ = a.Conn.Close()
		}
		k.mu.Unlock()
		return nil, fmt.Errorf("ssh agent: %w", err)
	}
	return keys, nil
}

// Offer has another agent be the person's own, by its socket, where the one that was does not answer
// any more: an agent that was forwarded ends with the login that it came with. It tells whether that
// was taken.
func (k *Keys) Offer(at string) (taken bool) {
	k.mu.Lock()
	was, use := k.own, k.use
	k.mu.Unlock()
	if !use || at == "" || at == was {
		return false
	}
	if was != "" {
		if _, err := k.held(""); err == nil {
			return false
		}
	}
	if _, err := k.held(at); err != nil {
		return false
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.own = at
	return true
}

// Close lets go of the agents.
func (k *Keys) Close() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	var err error
	for _, a := range k.agents {
		err = errors.Join(err, a.Conn.Close())
	}
	k.agents = nil
	return err
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
	data, err := textfile.Read(file, textfile.Small)
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

// Holds tells whether an agent holds the key of a file.
func (k *Keys) Holds(file, agent string) bool {
	held, err := k.held(agent)
	return err == nil && inAgent(held, file) != nil
}

// Encrypted tells whether a file holds a private key behind a passphrase.
func Encrypted(file string) bool {
	data, err := textfile.Read(file, textfile.Small)
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
func (k *Keys) Signers(files []string, only bool, agent string) ([]ssh.Signer, error) {
	held, failed := k.held(agent)
	var out []ssh.Signer
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
	data, err := textfile.Read(file+".pub", textfile.Small)
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
