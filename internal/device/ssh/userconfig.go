package ssh

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/textfile"

	"github.com/kevinburke/ssh_config"
	"golang.org/x/crypto/ssh"
)

// UserConfig is a person's configuration of OpenSSH's client (ssh_config(5)).
type UserConfig struct {
	File     string
	Warnings []string // what in it is not followed
	config   *ssh_config.Config
}

// ReadUserConfig reads the file; one that does not exist is empty. Match blocks
// for anything but one pattern of host names are not followed and are warned of.
func ReadUserConfig(file string) (*UserConfig, error) {
	u := &UserConfig{File: file}
	data, err := textfile.Read(file, textfile.Small)
	if errors.Is(err, fs.ErrNotExist) {
		return u, nil
	}
	if err != nil {
		return nil, fmt.Errorf("ssh configuration: %w", err)
	}
	data, left := withoutMatch(data)
	for _, line := range left {
		u.Warnings = append(u.Warnings, fmt.Sprintf("%s:%d: this Match block is not followed", file, line))
	}
	if u.config, err = ssh_config.DecodeBytes(data); err != nil {
		return nil, fmt.Errorf("ssh configuration: %s, or a file that it includes: %w; name one without it in the setting ssh_config, or none", file, err)
	}
	return u, nil
}

// withoutMatch blanks out the Match blocks that the package would misread, which
// end at the next Host or Match, and returns the lines they begin on.
func withoutMatch(data []byte) (out []byte, lines []int) {
	inMatch := false
	all := bytes.Split(data, []byte("\n"))
	for i, l := range all {
		words := strings.Fields(strings.ToLower(strings.ReplaceAll(string(l), "=", " ")))
		switch {
		case len(words) == 0:
		case words[0] == "match":
			if inMatch = !plainMatch(words[1:]); inMatch {
				lines = append(lines, i+1)
			}
		case words[0] == "host":
			inMatch = false
		}
		if inMatch {
			all[i] = nil
		}
	}
	return bytes.Join(all, []byte("\n")), lines
}

// plainMatch tells whether the conditions of a Match block are those of a Host
// block in other words.
func plainMatch(conditions []string) bool {
	switch len(conditions) {
	case 1:
		return conditions[0] == "all"
	case 2:
		return conditions[0] == "host" && !strings.ContainsAny(conditions[1], `,"!`)
	}
	return false
}

// Entry is what the configuration says of a host; what it does not say is zero.
type Entry struct {
	HostName       string
	Port           int
	User           string
	Identities     []string // files with private keys
	IdentitiesOnly bool
	Agent          string   // socket of the agent to ask; "" is the usual one, "none" is none
	Jump           []string // nearest first
	Algorithms     Algorithms
	Alive          time.Duration
	Warnings       []string
}

// Host looks up a host under the names it goes by; the first that says
// something about a setting counts.
func (u *UserConfig) Host(names ...string) Entry {
	e := Entry{}
	if u == nil || u.config == nil {
		return e
	}
	get := func(key string) string {
		for _, n := range names {
			if v, err := u.config.Get(n, key); err == nil && v != "" && n != "" {
				return v
			}
		}
		return ""
	}
	warn := func(format string, args ...any) { e.Warnings = append(e.Warnings, fmt.Sprintf(format, args...)) }
	e.HostName, e.User = strings.ReplaceAll(get("HostName"), "%h", names[0]), get("User")
	if p := get("Port"); p != "" {
		n, err := strconv.Atoi(p)
		if err != nil || n < 1 || n > 65535 {
			warn("Port %q in %s is not a port", p, u.File)
		}
		e.Port = n
	}
	if s := get("ServerAliveInterval"); s != "" {
		if n, err := strconv.Atoi(s); err == nil {
			e.Alive = time.Duration(n) * time.Second
		}
	}
	if j := get("ProxyJump"); j != "" && !strings.EqualFold(j, "none") {
		for _, hop := range strings.Split(j, ",") {
			e.Jump = append(e.Jump, strings.TrimPrefix(strings.TrimSpace(hop), "ssh://"))
		}
	}
	if c := get("ProxyCommand"); c != "" && !strings.EqualFold(c, "none") && len(e.Jump) == 0 {
		warn("ProxyCommand in %s is not followed; write ProxyJump", u.File)
	}
	e.IdentitiesOnly = strings.EqualFold(get("IdentitiesOnly"), "yes")
	if e.Agent = HomePath(get("IdentityAgent")); strings.HasPrefix(e.Agent, "$") {
		e.Agent = os.Getenv(strings.Trim(e.Agent[1:], "{}"))
	}
	for _, n := range names {
		files, err := u.config.GetAll(n, "IdentityFile")
		if err == nil && len(files) > 0 {
			for _, f := range files {
				e.Identities = append(e.Identities, HomePath(f))
			}
			break
		}
	}
	e.Algorithms = u.algorithms(get, warn)
	return e
}

// Chain is the whole way over jump hosts: before the nearest of them come those
// that the configuration names for that one, and so on. A host that would come
// twice ends it.
func (u *UserConfig) Chain(jumps []string) []string {
	seen := map[string]bool{}
	for len(jumps) > 0 {
		_, nearest, _ := SplitJump(jumps[0])
		if seen[nearest] {
			break
		}
		seen[nearest] = true
		before := u.Host(nearest).Jump
		if len(before) == 0 {
			break
		}
		jumps = slices.Concat(before, jumps)
	}
	return jumps
}

// SplitJump takes apart a jump host, [user@]host[:port]; what is not said is "".
func SplitJump(spec string) (user, host, port string) {
	user, host, ok := strings.Cut(spec, "@")
	if !ok {
		user, host = "", spec
	}
	if h, p, err := net.SplitHostPort(host); err == nil {
		host, port = h, p
	}
	return user, host, port
}

func (u *UserConfig) algorithms(get func(string) string, warn func(string, ...any)) (a Algorithms) {
	safe, weak := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	for _, k := range []struct {
		key         string
		to          *[]string
		usual, weak []string
	}{
		{"KexAlgorithms", &a.KeyExchanges, safe.KeyExchanges, weak.KeyExchanges},
		{"Ciphers", &a.Ciphers, safe.Ciphers, weak.Ciphers},
		{"MACs", &a.MACs, safe.MACs, weak.MACs},
		{"HostKeyAlgorithms", &a.HostKeys, safe.HostKeys, weak.HostKeys},
	} {
		given := get(k.key)
		list, unknown := List(given, k.usual, k.weak)
		*k.to = list
		if given != "" && len(list) == 0 {
			warn("%s in %s names nothing that is known here (%s); the usual ones are offered", k.key, u.File, strings.Join(unknown, ", "))
		}
	}
	return a
}

// HomePath replaces a leading ~ by the home directory.
func HomePath(path string) string {
	path = strings.Trim(path, `"`)
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	return path
}
