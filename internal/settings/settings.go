// Package settings knows every setting, where its value may come from, and which
// of these counts: a flag before the environment, that before the workspace's
// metabasis.yaml, that before the person's own file, that before the default.
//
// A settings file also has rules for logins, and prechecks for every runbook:
//
//	host_keys: strict
//	logins:
//	  - {platform: plover, login: gates}
//	  - {site: ALD, login: ald-crew, key: ~/.ssh/ald}
//	prechecks:
//	  alone: on
//	  clock: within 30s
//
// No secret stands in a settings file.
package settings

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/keep"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/textfile"
)

// Setting is one thing that can be set.
type Setting struct {
	Key     string
	Default string
	Help    string
	check   func(string) error
}

// Env is the environment variable that sets it.
func (s Setting) Env() string { return "METABASIS_" + strings.ToUpper(s.Key) }

// Flag is the flag that sets it.
func (s Setting) Flag() string { return "--" + strings.ReplaceAll(s.Key, "_", "-") }

// The settings.
const (
	HostKeys   = "host_keys"
	Together   = "together"
	Theme      = "theme"
	Agent      = "agent"
	SSHConfig  = "ssh_config"
	KnownHosts = "known_hosts"
	Alive      = "alive"
	Login      = "login"
	Secrets    = "secrets"
	Identity   = "identity"
	Helper     = "askpass"
	Call       = "call"
	Evidence   = "evidence"
	Mouse      = "mouse"
	Keep       = "keep"
	Encrypt    = "encrypt"
	Signers    = "signers"
)

// All lists every setting.
func All() []Setting {
	return []Setting{
		{HostKeys, "ask", "what to do with a host key seen for the first time: strict, ask or remember", oneOf("strict", "ask", "remember")},
		{Together, "50", "devices reached or read at once", number(1, 1000)},
		{Theme, "auto", "colours of the screen: auto, dark or light", oneOf("auto", "dark", "light")},
		{
			Mouse,
			"yes",
			"whether the screen takes the mouse, to scroll and to choose; no leaves it to the terminal, to mark text: yes or no",
			oneOf("yes", "no"),
		},
		{Agent, "yes", "whether keys of the SSH agent are offered: yes or no", oneOf("yes", "no")},
		{SSHConfig, "~/.ssh/config", "the SSH client's configuration to follow; none follows none", anything},
		{KnownHosts, "~/.ssh/known_hosts", "a further file of known host keys, only read", anything},
		{Alive, "15s", "time between two signs of life of a session; three missing end it", duration},
		{Login, "", "login of devices for which nothing else names one", anything},
		{Secrets, "secrets.age", "the encrypted file with secrets", anything},
		{Identity, "", "the key file that opens it; none asks for its passphrase", anything},
		{Helper, "", "a program that prints a secret when called with a prompt", anything},
		{Call, "", "a program that calls a person: when something is held or stranded, and at an end that needs somebody; it gets it as JSON on its standard input", anything},
		{Evidence, "evidence", "where the answers of devices are kept", anything},
		{Keep, keep.Usual, "backups of a device that stay when the shelf is cleared: its newest, one a day, one a month", keepRule},
		{Signers, "", "a file of those who may sign sealed plans, as ssh-keygen -Y verify -f takes it; none takes anybody's", anything},
		{Encrypt, "no", "whether backups are encrypted for the keys beside the secrets file: yes or no", oneOf("yes", "no")},
	}
}

func keepRule(v string) error {
	_, err := keep.Parse(v)
	return err
}

func anything(string) error { return nil }

func oneOf(words ...string) func(string) error {
	return func(v string) error {
		if !slices.Contains(words, v) {
			return fmt.Errorf("write %s", problem.OneOf(v, words))
		}
		return nil
	}
}

func number(least, most int) func(string) error {
	return func(v string) error {
		if n, err := strconv.Atoi(v); err != nil || n < least || n > most {
			return fmt.Errorf("write a number from %d to %d", least, most)
		}
		return nil
	}
}

func duration(v string) error {
	if d, err := time.ParseDuration(v); err != nil || d < time.Second || d > time.Hour {
		return errors.New("write a time such as 15s, from 1s to 1h")
	}
	return nil
}

// Rule gives devices a login. All that it names must fit; the first rule that
// fits counts.
type Rule struct {
	Device   string `yaml:"device"`
	Site     string `yaml:"site"`
	Role     string `yaml:"role"`
	Platform string `yaml:"platform"`
	Jump     string `yaml:"jump"` // a jump host
	Login    string `yaml:"login"`
	User     string `yaml:"user"` // the user's name, where it is not the login's
	Key      string `yaml:"key"`  // a file with a private key
	Asks     bool   `yaml:"asks"` // the jump host asks for more than the password: it is connected to before the work begins
}

func (r Rule) fits(d fleet.Device) bool {
	same := func(want, got string) bool { return want == "" || want == got }
	return r.Jump == "" && same(r.Device, d.Name) && same(r.Site, d.Site) && same(r.Role, d.Role) && same(r.Platform, d.Platform)
}

// Place is where backups are pushed, off this machine: one of a directory, a server over
// SFTP and a git repository.
type Place struct {
	Directory string `yaml:"directory"`
	SFTP      string `yaml:"sftp"` // [user@]host[:port]/directory
	Git       string `yaml:"git"`  // as git names a repository
	Branch    string `yaml:"branch"`
	Login     string `yaml:"login"`  // of the server; its user is the one before the @
	Masked    bool   `yaml:"masked"` // secrets are masked there
}

// Name is what the place is called.
func (p Place) Name() string {
	switch {
	case p.Directory != "":
		return "directory " + p.Directory
	case p.SFTP != "":
		return "sftp " + p.SFTP
	}
	return "git " + p.Git
}

// wrong says what is wrong with a place, "" when nothing is.
func (p Place) wrong() string {
	n := 0
	for _, s := range []string{p.Directory, p.SFTP, p.Git} {
		if s != "" {
			n++
		}
	}
	_, dir, rooted := strings.Cut(p.SFTP, "/")
	switch {
	case n != 1:
		return "a place for backups is one of directory, sftp and git"
	case p.SFTP != "" && (!rooted || dir == ""):
		return "sftp names a server and a directory on it, such as vault@203.0.113.9/quays"
	case p.Branch != "" && p.Git == "":
		return "branch is for git only"
	case p.Login != "" && p.SFTP == "":
		return "login is for sftp only"
	}
	return ""
}

// file is a settings file.
type file struct {
	Values    map[string]string `yaml:"-"`
	path      string
	lines     []string
	Logins    []Rule            `yaml:"logins"`
	Backups   []Place           `yaml:"backups"`
	Prechecks map[string]string `yaml:"prechecks"`
}

// Value is a setting's value and where it comes from.
type Value struct {
	Setting
	Value string
	From  string
}

// Settings are the values that count.
type Settings struct {
	values    map[string]Value
	Logins    []Rule
	Places    []Place                    // where backups are pushed
	Prechecks map[string]string          // name to what stands behind it in a runbook
	At        map[string]problem.Problem // where a precheck stands, by its name
}

// Source is where values are looked for.
type Source struct {
	Flags     map[string]string // by key; only those that were given
	Env       func(string) string
	Workspace string // the workspace's file
	User      string // the person's own file
}

// UserFile is where a person's own settings stand (XDG Base Directory
// Specification).
func UserFile() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(dir, "metabasis", "settings.yaml")
}

// Load finds the value of every setting. The error is a problem.List.
func Load(src Source) (*Settings, error) {
	ws, err := read(src.Workspace)
	if err != nil {
		return nil, err
	}
	own, err := read(src.User)
	if err != nil {
		return nil, err
	}
	s := &Settings{
		values:    map[string]Value{},
		Logins:    slices.Concat(ws.Logins, own.Logins),
		Places:    slices.Concat(ws.Backups, own.Backups),
		Prechecks: map[string]string{},
		At:        map[string]problem.Problem{},
	}
	for _, f := range []file{own, ws} { // the workspace's comes before the person's own
		for name, rest := range f.Prechecks {
			s.Prechecks[name], s.At[name] = rest, f.at(name)
		}
	}
	for _, set := range All() {
		v := Value{set, set.Default, "default"}
		for _, from := range []struct {
			value, name string
			file        *file
		}{
			{src.Flags[set.Key], "flag " + set.Flag(), nil},
			{src.Env(set.Env()), "environment " + set.Env(), nil},
			{ws.Values[set.Key], src.Workspace, &ws},
			{own.Values[set.Key], src.User, &own},
		} {
			if from.value == "" {
				continue
			}
			v.Value, v.From = from.value, from.name
			if err := set.check(v.Value); err != nil && from.file != nil {
				p := from.file.at(set.Key)
				p.Msg = fmt.Sprintf("setting %s is %q: %v", set.Key, v.Value, err)
				return nil, problem.List{p}
			} else if err != nil {
				return nil, fmt.Errorf("setting %s is %q (%s): %w", set.Key, v.Value, v.From, err)
			}
			break
		}
		s.values[set.Key] = v
	}
	return s, nil
}

func read(path string) (file, error) {
	var f file
	if path == "" {
		return f, nil
	}
	data, err := textfile.Read(path, textfile.Small)
	if errors.Is(err, fs.ErrNotExist) {
		return f, nil
	}
	if err != nil {
		return f, err
	}
	all := map[string]any{}
	if _, err := textfile.YAML(path, data, &all, true); err != nil {
		return f, err
	}
	if _, err := textfile.YAML(path, data, &f, true); err != nil {
		return f, err
	}
	f.path, f.lines = path, strings.Split(string(data), "\n")
	f.Values = map[string]string{}
	for k, v := range all {
		f.Values[k] = fmt.Sprint(v)
	}
	return f, f.check()
}

// at is the place of a word of the file, as far as it can be found.
func (f *file) at(word string) problem.Problem {
	p := problem.Problem{File: f.path}
	re := regexp.MustCompile(`(?:^|[\s{,"'-])(` + regexp.QuoteMeta(word) + `)\b`)
	for i, l := range f.lines {
		plain, _, _ := strings.Cut(l, "#")
		if m := re.FindStringSubmatchIndex(plain); m != nil {
			p.Line, p.Col, p.Text = i+1, utf8.RuneCountInString(l[:m[2]])+1, l
			break
		}
	}
	return p
}

// check finds names that mean nothing.
func (f *file) check() error {
	var keys []string
	for _, s := range All() {
		keys = append(keys, s.Key)
	}
	known := append(slices.Clone(keys), "logins", "prechecks", "backups")
	var list problem.List
	fail := func(word, hint, format string, args ...any) {
		p := f.at(word)
		p.Msg, p.Hint = fmt.Sprintf(format, args...), hint
		list = append(list, p)
	}
	delete(f.Values, "logins")
	delete(f.Values, "prechecks")
	delete(f.Values, "backups")
	for _, p := range f.Backups {
		if why := p.wrong(); why != "" {
			fail("backups", "{directory: /mnt/vault/quays}", "%s", why)
		}
	}
	for _, k := range slices.Sorted(maps.Keys(f.Values)) {
		if !slices.Contains(keys, k) {
			fail(k, problem.OneOf(k, known), "there is no setting %q", k)
		}
	}
	for _, r := range f.Logins {
		if r.Login == "" {
			fail("logins", "login: crew", "a rule names no login")
		}
		if r.Asks && r.Jump == "" {
			fail("asks", "it with jump:", "asks is for jump hosts only")
		}
		if r == (Rule{Login: r.Login, User: r.User, Key: r.Key, Asks: r.Asks}) && r.Login != "" {
			fail(
				r.Login,
				"site:, role:, platform:, device: or jump:; for all devices, the setting login",
				"a rule says nothing of the devices it is for",
			)
		}
	}
	return list.Err()
}

// Get returns the value of a setting.
func (s *Settings) Get(key string) string { return s.values[key].Value }

// Int returns the value of a setting that is a number.
func (s *Settings) Int(key string) int {
	n, _ := strconv.Atoi(s.Get(key)) // it was checked
	return n
}

// Duration returns the value of a setting that is a time.
func (s *Settings) Duration(key string) time.Duration {
	d, _ := time.ParseDuration(s.Get(key))
	return d
}

// Values lists all values in the order of All.
func (s *Settings) Values() []Value {
	var out []Value
	for _, set := range All() {
		out = append(out, s.values[set.Key])
	}
	return out
}

// LoginOf names the login of a device: the fleet's, else that of the first rule
// that fits, else the setting's.
func (s *Settings) LoginOf(d fleet.Device) (login, from string) {
	if d.Login != "" {
		return d.Login, "the fleet file"
	}
	for i, r := range s.Logins {
		if r.fits(d) {
			return r.Login, fmt.Sprintf("rule %d of logins", i+1)
		}
	}
	return s.Get(Login), "the setting login"
}

// JumpLogin names the login of a jump host.
func (s *Settings) JumpLogin(host string) string {
	for _, r := range s.Logins {
		if r.Jump == host {
			return r.Login
		}
	}
	return "jump"
}

// JumpAsks tells whether a jump host asks for more than a password.
func (s *Settings) JumpAsks(host string) bool {
	return slices.ContainsFunc(s.Logins, func(r Rule) bool { return r.Jump == host && r.Asks })
}

// Of returns the rule that says most of a login by its name: its user and key.
func (s *Settings) Of(login string) (user, key string) {
	for _, r := range s.Logins {
		if r.Login == login {
			if user == "" {
				user = r.User
			}
			if key == "" {
				key = r.Key
			}
		}
	}
	return user, key
}
