package sim

import (
	"bytes"
	"crypto/subtle"
	"errors"
	"io"
	"net"
	"slices"
	"strings"

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
	if d.unfriendly(g) {
		return
	}
	stream := d.kind.hears(d, g)
	if stream == nil {
		return
	}
	conn, channels, requests, err := ssh.NewServerConn(stream, d.serverConfig())
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
		d.session(c, reqs, conn.User())
		return // one session a connection; the client reconnects for another
	}
}

// unfriendly lets the faults act that strike before any protocol. It tells
// whether the connection is dealt with.
func (d *Device) unfriendly(g *gate) bool {
	switch {
	case d.hasFault(Mute):
		_, _ = io.Copy(io.Discard, g) // until the other side gives up
	case d.hasFault(Closes):
	case d.hasFault(Stranger):
		_, _ = io.WriteString(g, "MARROW SOUND FERRIES timetable service. Ask for a quay.\r\n"+strings.Repeat("ferry ", 80)+"\r\n")
		_, _ = io.Copy(io.Discard, g)
	default:
		return false
	}
	return true
}

var errDenied = errors.New("denied")

func (d *Device) serverConfig() *ssh.ServerConfig {
	cfg := &ssh.ServerConfig{
		ServerVersion:  "SSH-2.0-tern_4",
		MaxAuthTries:   3,
		BannerCallback: func(ssh.ConnMetadata) string { return banner },
		PasswordCallback: func(c ssh.ConnMetadata, given []byte) (*ssh.Permissions, error) {
			if d.hasFault(HangsLogin) {
				d.mu.Lock()
				d.note(Denied, "")
				d.mu.Unlock()
				<-d.fleet.over
			}
			d.slowLogin()
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
	if d.spec.Code != "" {
		byPassword := cfg.PasswordCallback
		cfg.PasswordCallback = nil
		cfg.KeyboardInteractiveCallback = func(c ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			given, err := ask("", "", []string{"Password: "}, []bool{false})
			if err != nil || len(given) != 1 {
				return nil, errDenied
			}
			if _, err := byPassword(c, []byte(given[0])); err != nil {
				return nil, err
			}
			given, err = ask("", "", []string{"Code: "}, []bool{true})
			if err != nil || len(given) != 1 || given[0] != d.spec.Code {
				return nil, errDenied
			}
			return nil, nil
		}
	}
	if d.hasFault(OldOnly) {
		cfg.KeyExchanges = []string{ssh.InsecureKeyExchangeDH14SHA1}
	}
	signer := d.signer
	if d.hasFault(OtherKey) {
		if other, _, err := newKeys("another"); err == nil {
			signer = other
		}
	}
	cfg.AddHostKey(signer)
	return cfg
}

// session waits for a shell to be asked for and runs it.
func (d *Device) session(c ssh.Channel, reqs <-chan *ssh.Request, user string) {
	defer c.Close()
	for r := range reqs {
		switch r.Type {
		case "pty-req", "env", "window-change":
			_ = r.Reply(true, nil)
		case "subsystem":
			var asked struct{ Name string } // RFC 4254, section 6.5
			var serve func(io.ReadWriter, string)
			known := ssh.Unmarshal(r.Payload, &asked) == nil
			if known && asked.Name == "sftp" && d.kind.keepsFiles() {
				_ = r.Reply(true, nil)
				go ssh.DiscardRequests(reqs)
				d.serveFiles(c)
				return
			}
			if known {
				serve = d.kind.subsystem(d, asked.Name)
			}
			_ = r.Reply(serve != nil, nil)
			if serve == nil {
				continue
			}
			go ssh.DiscardRequests(reqs)
			serve(c, user)
			return
		case "shell":
			run := d.kind.shell(d, c, user)
			_ = r.Reply(run != nil, nil)
			if run == nil {
				continue
			}
			go ssh.DiscardRequests(reqs)
			run()
			_, _ = c.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{0}))
			return
		default:
			_ = r.Reply(false, nil)
		}
	}
}
