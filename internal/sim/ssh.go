package sim

import (
	"bytes"
	"crypto/subtle"
	"errors"
	"net"
	"slices"

	"golang.org/x/crypto/ssh"
)

const banner = "Marrow Sound Ferries. Crew only; sessions are recorded.\n"

// serve speaks SSH (RFC 4252–4254) on one connection until it ends.
func (d *Device) serve(raw net.Conn) {
	g := &gate{Conn: raw, d: d, done: make(chan struct{})}
	defer g.Close()
	if g.pass() != nil {
		return
	}
	d.mu.Lock()
	d.conns[g] = struct{}{}
	d.mu.Unlock()
	conn, channels, requests, err := ssh.NewServerConn(g, d.serverConfig())
	if err != nil {
		return
	}
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	for ch := range channels {
		if ch.ChannelType() != "session" {
			_ = ch.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		c, reqs, err := ch.Accept()
		if err != nil {
			return
		}
		d.session(c, reqs)
		return // one session a connection; the client reconnects for another
	}
}

var errDenied = errors.New("denied")

func (d *Device) serverConfig() *ssh.ServerConfig {
	cfg := &ssh.ServerConfig{
		ServerVersion:  "SSH-2.0-tern_4",
		MaxAuthTries:   3,
		BannerCallback: func(ssh.ConnMetadata) string { return banner },
		PasswordCallback: func(c ssh.ConnMetadata, given []byte) (*ssh.Permissions, error) {
			want, ok := d.users[c.User()]
			if !ok || d.hasFault(BadPassword) || subtle.ConstantTimeCompare([]byte(want), given) != 1 {
				d.mu.Lock()
				d.note(Denied, "")
				d.mu.Unlock()
				return nil, errDenied
			}
			return nil, nil
		},
		PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if slices.ContainsFunc(d.fleet.keys, func(k ssh.PublicKey) bool { return bytes.Equal(k.Marshal(), key.Marshal()) }) {
				return nil, nil
			}
			return nil, errDenied
		},
	}
	cfg.AddHostKey(d.signer)
	return cfg
}

// session waits for a shell to be asked for and runs it.
func (d *Device) session(c ssh.Channel, reqs <-chan *ssh.Request) {
	defer c.Close()
	for r := range reqs {
		switch r.Type {
		case "pty-req", "env", "window-change":
			_ = r.Reply(true, nil)
		case "shell":
			_ = r.Reply(true, nil)
			go ssh.DiscardRequests(reqs)
			newShell(d, c).run()
			_, _ = c.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{0}))
			return
		default:
			_ = r.Reply(false, nil)
		}
	}
}
