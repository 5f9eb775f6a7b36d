package ssh

import (
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Algorithms are those a host may be talked to with. An empty list means the
// safe ones; Old adds the weak ones behind them, for hosts that know no others.
type Algorithms struct {
	KeyExchanges []string
	Ciphers      []string
	MACs         []string
	HostKeys     []string
	Old          bool
}

// apply puts them into a configuration. Kinds of key that are known for the
// host come first, so that it shows the one we know.
func (a Algorithms) apply(cfg *ssh.ClientConfig, known []string) {
	safe, weak := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	choose := func(given, safe, weak []string) []string {
		switch {
		case len(given) > 0:
			return given
		case a.Old:
			return slices.Concat(safe, weak)
		}
		return safe
	}
	cfg.KeyExchanges = choose(a.KeyExchanges, safe.KeyExchanges, weak.KeyExchanges)
	cfg.Ciphers = choose(a.Ciphers, safe.Ciphers, weak.Ciphers)
	cfg.MACs = choose(a.MACs, safe.MACs, weak.MACs)
	cfg.HostKeyAlgorithms = choose(a.HostKeys, safe.HostKeys, weak.HostKeys)
	if len(known) > 0 {
		cfg.HostKeyAlgorithms = slices.Clone(cfg.HostKeyAlgorithms)
		first := func(alg string) int {
			if slices.ContainsFunc(known, func(k string) bool { return fits(alg, k) }) {
				return 0
			}
			return 1
		}
		slices.SortStableFunc(cfg.HostKeyAlgorithms, func(x, y string) int { return first(x) - first(y) })
	}
}

// fits tells whether a signature algorithm is for a kind of key: an RSA key
// signs with three (RFC 8332).
func fits(alg, kind string) bool {
	if kind == ssh.KeyAlgoRSA {
		return alg == ssh.KeyAlgoRSA || alg == ssh.KeyAlgoRSASHA256 || alg == ssh.KeyAlgoRSASHA512
	}
	return alg == kind
}

// Weak lists the weak ones among those asked for by name.
func (a Algorithms) Weak() []string {
	weak := ssh.InsecureAlgorithms()
	all := slices.Concat(weak.KeyExchanges, weak.Ciphers, weak.MACs, weak.HostKeys)
	var out []string
	for _, alg := range slices.Concat(a.KeyExchanges, a.Ciphers, a.MACs, a.HostKeys) {
		if slices.Contains(all, alg) && !slices.Contains(out, alg) {
			out = append(out, alg)
		}
	}
	return out
}

// List reads a list as OpenSSH's client writes it (ssh_config(5), "Ciphers"):
// names in place of the usual ones, or with + behind them, - without them, ^
// before them. Unknown names are returned apart.
func List(text string, usual, weak []string) (list, unknown []string) {
	if text == "" {
		return nil, nil
	}
	how := byte(0)
	if strings.ContainsRune("+-^", rune(text[0])) {
		how, text = text[0], text[1:]
	}
	for _, name := range strings.Split(text, ",") {
		name = strings.TrimSpace(name)
		switch {
		case slices.Contains(usual, name) || slices.Contains(weak, name):
			list = append(list, name)
		default:
			unknown = append(unknown, name)
		}
	}
	rest := slices.DeleteFunc(slices.Clone(usual), func(n string) bool { return slices.Contains(list, n) })
	switch how {
	case '+':
		return slices.Concat(rest, list), unknown
	case '-':
		return rest, unknown
	case '^':
		return slices.Concat(list, rest), unknown
	}
	return list, unknown
}
