package workspace

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/device"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/ssh"
	"metabasis/internal/person"
	"metabasis/internal/report"
	"metabasis/internal/settings"
	"metabasis/internal/store"
	"metabasis/internal/store/secrets"
)

// Access is how devices are reached and logged in to.
type Access struct {
	Dial     ssh.Dial
	Resolve  func(ctx context.Context, host string) ([]string, error)
	HostKeys ssh.HostKeys
	Logins   map[string]device.Login
	Config   *ssh.UserConfig
	Keys     *ssh.Keys
	Warnings []string

	mu        sync.RWMutex // guards Logins, once devices are reached
	workspace *Workspace
	ids       *store.Identities
	profiles  profile.Set
	settings  *settings.Settings
	overSSH   map[string]bool // logins of devices that are reached over SSH
	guard     *device.Lockout
	jumps     *ssh.Jumps
	find      *Finder // nil: nobody answers what logins ask
	fixed     bool    // the devices are this process's own
}

// Access gets ready to reach devices: it reads the SSH configuration, the host
// keys and every secret the devices' logins need. Close must be called.
func (w *Workspace) Access(ctx context.Context, f *fleet.Fleet, devices []fleet.Device, find *Finder) (*Access, error) {
	a := w.newAccess()
	a.find = find
	ids, err := w.Identities()
	if err != nil {
		return nil, err
	}
	if odd := ids.Damaged(); odd != "" {
		a.Warnings = append(a.Warnings, odd)
	}
	if err := a.ssh(w); err != nil {
		return nil, err
	}
	need := a.needs(devices)
	if n := need[""]; n != nil {
		return nil, errors.Join(
			fmt.Errorf("%s: no login: name one in the fleet's login column, in a rule of the settings that covers them, or in the setting login",
				report.Some(n.devices, 4)),
			a.Close(),
		)
	}
	for _, name := range slices.Sorted(maps.Keys(need)) {
		l, err := a.login(ctx, name, need[name], find)
		if err != nil {
			a.Close()
			return nil, err
		}
		a.Logins[name] = l
	}
	a.encrypted(f)
	return a, a.passphrases(ctx, need, find)
}

// passphrases asks for those of encrypted keys now, while a person can be asked.
func (a *Access) passphrases(ctx context.Context, need map[string]*need, find *Finder) error {
	a.Keys.Passphrase = func(file string) (string, error) {
		v, err := find.Find(ctx, passphraseOf(file), true)
		if err == nil && v == "" {
			err = errors.New("it is encrypted and its passphrase is not known")
		}
		return v, err
	}
	for name, n := range need {
		for _, file := range slices.Concat(a.Logins[name].Keys, n.keys) {
			if !ssh.Encrypted(file) || slices.ContainsFunc(n.agents, func(at string) bool { return a.Keys.Holds(file, at) }) {
				continue
			}
			if _, err := find.Find(ctx, passphraseOf(file), find.Person == nil && a.settings.Get(settings.Helper) == ""); err != nil {
				return err
			}
		}
	}
	return nil
}

// passphraseOf is the name of a key's passphrase.
func passphraseOf(file string) secrets.ID {
	return secrets.ID{Login: filepath.Base(file), Part: "passphrase"}
}

func (w *Workspace) newAccess() *Access {
	dialer := &net.Dialer{KeepAlive: 10 * time.Second}
	ids, _ := w.Identities() // what cannot be read is told where it is an error
	return &Access{
		ids:       ids,
		Dial:      dialer.DialContext,
		Logins:    map[string]device.Login{},
		Keys:      &ssh.Keys{},
		workspace: w,
		profiles:  w.Profiles,
		settings:  w.Settings,
		overSSH:   map[string]bool{},
		guard:     &device.Lockout{},
	}
}

// Fixed is access to devices whose logins and keys are known already, as those
// of the simulator.
func (w *Workspace) Fixed(f *fleet.Fleet, dial ssh.Dial, keys ssh.HostKeys, logins map[string]device.Login) *Access {
	a := w.newAccess()
	a.Dial, a.HostKeys, a.Logins, a.fixed = dial, keys, logins, true
	a.encrypted(f)
	return a
}

// ssh reads what SSH needs.
func (a *Access) ssh(w *Workspace) error {
	var err error
	if a.Config, err = w.UserConfig(); err != nil {
		return err
	}
	if a.Config != nil {
		a.Warnings = append(a.Warnings, a.Config.Warnings...)
	}
	if w.Settings.Get(settings.Agent) == "yes" {
		if err := a.Keys.UseAgent(os.Getenv("SSH_AUTH_SOCK")); err != nil {
			a.Warnings = append(a.Warnings, err.Error())
		}
	}
	a.HostKeys, err = store.OpenHostKeys(filepath.Join(w.Dir, "known_hosts"), store.Unknown(w.Settings.Get(settings.HostKeys)),
		ssh.HomePath(w.Settings.Get(settings.KnownHosts)))
	return err
}

// Follows takes over what guards against accounts being locked out from an access that
// this one takes the place of: only an account whose secret is another now begins anew.
func (a *Access) Follows(old *Access) {
	a.guard = old.guard
	for name, l := range a.Logins {
		before := old.Logins[name]
		if l.Password != before.Password {
			a.guard.Anew(device.Account(name, "password"))
		}
		for part, v := range l.Secrets {
			if v != before.Secrets[part] {
				a.guard.Anew(device.Account(name, part))
			}
		}
	}
}

// loginAt is a login as it stands.
func (a *Access) loginAt(name string) (device.Login, bool) {
	a.mu.RLock()
	defer a.mu.RUnlock()
	l, ok := a.Logins[name]
	return l, ok
}

// Once lets devices that refused a login which others take be asked once more: a person asks
// for that.
func (a *Access) Once() {
	if a != nil {
		a.guard.Once()
	}
}

// Names are the names of the logins at hand, sorted.
func (a *Access) Names() []string {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return slices.Sorted(maps.Keys(a.Logins))
}

// Typed is a login as a person typed it. What is "" stays as it is.
type Typed struct {
	User  string
	Parts map[string]string // by their names; password among them
}

// Parts are the parts of a login that can be typed, the password first.
func (a *Access) Parts(name string) (user string, parts []string) {
	l, _ := a.loginAt(name)
	return l.User, append([]string{"password"}, slices.Sorted(maps.Keys(l.Secrets))...)
}

// Retype takes a login as it was typed in the place of what it was, from now on and in
// whatever is opened later. What was refused of it may be tried again.
func (a *Access) Retype(name string, t Typed, find *Finder) {
	a.mu.Lock()
	defer a.mu.Unlock()
	l := a.Logins[name]
	l.Secrets = maps.Clone(l.Secrets)
	if t.User != "" && t.User != l.User {
		l.User = t.User
		find.setUser(name, t.User)
		for _, part := range append([]string{"password"}, slices.Collect(maps.Keys(l.Secrets))...) {
			a.guard.Anew(device.Account(name, part)) // it is somebody else's
		}
	}
	for part, v := range t.Parts {
		if v == "" {
			continue
		}
		if part == "password" {
			l.Password = v
		} else {
			l.Secrets[part] = v
		}
		find.set(secrets.ID{Login: name, Part: part}, v)
		a.guard.Anew(device.Account(name, part))
	}
	a.Logins[name] = l
}

// Close ends connections to jump hosts and lets go of the agent.
func (a *Access) Close() error {
	if a.jumps != nil {
		a.jumps.Close()
	}
	return a.Keys.Close()
}

// need is what a login is needed for.
type need struct {
	parts  []string // secrets that profiles ask for
	keys   []string // key files that the SSH configuration names
	agents []string // agents to ask, as the SSH configuration names them
	ssh    bool     // it is used over SSH
	word   bool     // it is used where nothing but a password will do, such as over Telnet
	user   string   // that the SSH configuration names
	// devices are those it is needed for.
	devices []string
}

// needs lists the logins that devices and their jump hosts need.
func (a *Access) needs(devices []fleet.Device) map[string]*need {
	out := map[string]*need{}
	get := func(name string) *need {
		if out[name] == nil {
			out[name] = &need{}
		}
		return out[name]
	}
	add := func(n *need, e ssh.Entry) {
		n.ssh = true
		n.keys = append(n.keys, e.Identities...)
		if !slices.Contains(n.agents, e.Agent) {
			n.agents = append(n.agents, e.Agent)
		}
		if e.User != "" {
			n.user = e.User
		}
	}
	for _, d := range devices {
		name := a.loginOf(d)
		n := get(name)
		n.devices = append(n.devices, d.Name)
		p := a.profiles[d.Platform]
		if p == nil {
			continue
		}
		for _, s := range p.Secrets() {
			if !slices.Contains(n.parts, s) {
				n.parts = append(n.parts, s)
			}
		}
		jumps := d.Jump
		if !profile.OverSSH(protocolOf(d, p)) {
			n.word = n.word || p.Restconf.Login != profile.ByCertificate
		} else {
			e := a.Config.Host(d.Name, d.Address)
			add(n, e)
			if len(jumps) == 0 {
				jumps = e.Jump
			}
		}
		for _, j := range a.Config.Chain(jumps) {
			_, host, _ := ssh.SplitJump(j)
			add(get(a.settings.JumpLogin(host)), a.Config.Host(host))
		}
	}
	return out
}

// LoginOf names the login of a device and where that is said: in the fleet or the
// settings, else by the user that the SSH configuration names.
func (w *Workspace) LoginOf(d fleet.Device, c *ssh.UserConfig) (login, from string) {
	login, from = w.Settings.LoginOf(d)
	if p := w.Profiles[d.Platform]; login == "" && p != nil && profile.OverSSH(protocolOf(d, p)) {
		if user := c.Host(d.Name, d.Address).User; user != "" {
			return user, "the SSH configuration"
		}
	}
	return login, from
}

func (a *Access) loginOf(d fleet.Device) string {
	name, _ := a.workspace.LoginOf(d, a.Config)
	return name
}

// UserConfig reads the person's SSH configuration, as the settings say.
func (w *Workspace) UserConfig() (*ssh.UserConfig, error) {
	file := w.Settings.Get(settings.SSHConfig)
	if file == "none" {
		return nil, nil
	}
	return ssh.ReadUserConfig(ssh.HomePath(file))
}

// ClearText tells whether a device is reached without encryption.
func (w *Workspace) ClearText(d fleet.Device) bool {
	p := w.Profiles[d.Platform]
	return p != nil && p.ClearText(protocolOf(d, p))
}

func protocolOf(d fleet.Device, p *profile.Profile) string {
	if d.Protocol != "" {
		return d.Protocol
	}
	return p.Connect.Protocol
}

// login finds a login's parts. Where it has a key, no password is asked for.
func (a *Access) login(ctx context.Context, name string, n *need, find *Finder) (device.Login, error) {
	user, key := a.settings.Of(name)
	l := device.Login{Secrets: map[string]string{}}
	l.Name, l.User = name, firstOf(find.userOf(name), find.Getenv(Variable(name, "user")), user, name)
	if key = firstOf(find.Getenv(Variable(name, "key")), key); key != "" {
		l.Keys = []string{ssh.HomePath(key)}
	}
	if err := a.password(ctx, &l, n, find); err != nil {
		return l, err
	}
	var err error
	for _, part := range n.parts {
		if l.Secrets[part], err = find.Find(ctx, secrets.ID{Login: name, Part: part}, false); err != nil {
			return l, err
		}
	}
	return l, nil
}

// password finds a login's password. Where it has a key, none is asked for; where
// the person has keys of the usual names, these may take its place.
func (a *Access) password(ctx context.Context, l *device.Login, n *need, find *Finder) (err error) {
	id := secrets.ID{Login: l.Name, Part: "password"}
	overSSH := n.ssh && !n.word
	usual := usualKeys()
	if overSSH && !a.hasKey(*l, n) && len(usual) > 0 {
		if l.Password, err = find.Find(ctx, id, true); err != nil || l.Password != "" {
			return err
		}
		if find.Person != nil {
			l.Password, err = person.AskOne(ctx, find.Person, "A secret is wanted",
				person.Question{Text: "password of login " + l.Name, Hint: "Enter alone takes your SSH key", Secret: true})
			find.told(l.Password)
		}
		if l.Password == "" {
			l.Keys = usual
		}
		return err
	}
	l.Password, err = find.Find(ctx, id, !n.word && (!n.ssh || a.hasKey(*l, n)))
	return err
}

// usualKeys are the keys of the names that OpenSSH's client takes by itself
// (ssh_config(5), "IdentityFile"), those that need no passphrase.
func usualKeys() (out []string) {
	for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
		file := ssh.HomePath("~/.ssh/" + name)
		if _, err := os.Stat(file); err == nil && !ssh.Encrypted(file) {
			out = append(out, file)
		}
	}
	return out
}

func firstOf(values ...string) string {
	for _, v := range values {
		if v != "" {
			return v
		}
	}
	return ""
}

// hasKey tells whether a login has a key that can be used.
func (a *Access) hasKey(l device.Login, n *need) bool {
	for _, f := range slices.Concat(l.Keys, n.keys) {
		if _, err := os.Stat(f); !errors.Is(err, os.ErrNotExist) {
			return true
		}
	}
	return slices.ContainsFunc(n.agents, func(at string) bool {
		held, err := a.Keys.Signers(nil, false, at)
		return err == nil && len(held) > 0
	})
}

// encrypted notes which logins are used over SSH anywhere in the fleet.
func (a *Access) encrypted(f *fleet.Fleet) {
	if f == nil {
		return
	}
	for _, d := range f.Devices {
		if p := a.profiles[d.Platform]; p != nil && profile.OverSSH(protocolOf(d, p)) {
			a.overSSH[a.loginOf(d)] = true
		}
	}
}

// usedOverSSH tells whether a login is used over SSH, or has the password of
// one that is.
func (a *Access) usedOverSSH(name string, l device.Login) bool {
	if a.overSSH[name] {
		return true
	}
	for other := range a.overSSH {
		if o, ok := a.Logins[other]; ok && o.Password != "" && o.Password == l.Password {
			return true
		}
	}
	return false
}

// OpenJumps connects to the jump hosts that ask for more than a password, while
// a person can answer.
func (a *Access) OpenJumps(ctx context.Context, c *device.Connector, devices []fleet.Device) {
	c.OpenJumps(ctx, devices, a.settings.JumpAsks)
}

// answer answers what the login of a host asks beyond its password.
func (a *Access) answer(ctx context.Context, host, question string, _ bool) (string, error) {
	return a.find.answer(ctx, host, question)
}

// Connector opens sessions with what the access has. Transcripts are by device.
func (a *Access) Connector(scripts func(device string) profile.Transcript) *device.Connector {
	if a.jumps == nil {
		a.jumps = ssh.NewJumps(a.Dial)
	}
	c := &device.Connector{
		Profiles: a.profiles, Dial: a.Dial, Resolve: a.Resolve, HostKeys: a.HostKeys, Keys: a.Keys, Config: a.Config,
		Jumps: a.jumps, Guard: a.guard, Alive: a.settings.Duration(settings.Alive), Encrypted: a.usedOverSSH, Transcript: scripts,
		LoginName: a.loginOf,
		JumpLogin: a.settings.JumpLogin,
		Login: func(_ context.Context, name string) (device.Login, error) {
			l, ok := a.loginAt(name)
			if !ok {
				return l, fmt.Errorf("there is no login named %q", name)
			}
			return l, nil
		},
	}
	if a.ids != nil {
		c.Who = a.ids
	}
	if a.find != nil {
		c.Answer = a.answer
	}
	return c
}
