package seal

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"metabasis/internal/core/problem"
)

// Signers are those who may sign a plan, as the file says that OpenSSH has for it
// (ssh-keygen(1), "ALLOWED SIGNERS").
type Signers struct {
	File string
	list []signer
}

type signer struct {
	who           string // the principals, as they are written
	key           ssh.PublicKey
	namespaces    []string // patterns; none are all
	after, before time.Time
}

// ReadSigners reads a file of allowed signers. The error is a problem.List. Lines of
// certificate authorities are refused: we take no certificates.
func ReadSigners(file string, data []byte) (*Signers, error) {
	out := &Signers{File: file}
	var wrong problem.List
	for i, line := range strings.Split(string(data), "\n") {
		text := strings.TrimSpace(line)
		if text == "" || text[0] == '#' {
			continue
		}
		s, err := parseSigner(text)
		if err != nil {
			wrong = append(wrong, problem.Problem{File: file, Line: i + 1, Text: line, Msg: err.Error(), Hint: `ada@example.org namespaces="` + Namespace + `" ssh-ed25519 AAAA…`})
			continue
		}
		out.list = append(out.list, s)
	}
	if err := wrong.Err(); err != nil {
		return nil, err
	}
	return out, nil
}

func parseSigner(text string) (s signer, err error) {
	who, rest, more := strings.Cut(text, " ")
	if strings.HasPrefix(text, `"`) {
		if who, rest, more = strings.Cut(text[1:], `"`); !more {
			return s, errors.New("the quote of the principals has no end")
		}
	}
	if s.who = who; !more {
		return s, errors.New("there is no key behind the principals")
	}
	key, _, options, _, err := ssh.ParseAuthorizedKey([]byte(strings.TrimSpace(rest)))
	if err != nil {
		return s, errors.New("the key cannot be read")
	}
	s.key = key
	for _, o := range options {
		name, value, _ := strings.Cut(o, "=")
		value = strings.Trim(value, `"`)
		switch strings.ToLower(name) {
		case "namespaces":
			s.namespaces = strings.Split(value, ",")
		case "valid-after":
			s.after, err = signerTime(value)
		case "valid-before":
			s.before, err = signerTime(value)
		default:
			return s, fmt.Errorf("the option %s is not taken", name)
		}
		if err != nil {
			return s, err
		}
	}
	return s, nil
}

// signerTime reads YYYYMMDD[Z] or YYYYMMDDHHMM[SS][Z]; without the Z it is this machine's.
func signerTime(text string) (time.Time, error) {
	in := time.Local
	digits, utc := strings.CutSuffix(text, "Z")
	if utc {
		in = time.UTC
	}
	for _, layout := range []string{"20060102", "200601021504", "20060102150405"} {
		if len(digits) == len(layout) {
			if t, err := time.ParseInLocation(layout, digits, in); err == nil {
				return t, nil
			}
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time: YYYYMMDD or YYYYMMDDHHMM", text)
}

// Who says whose a key is, and that they may sign plans at a time. The error says why they
// may not.
func (s *Signers) Who(key ssh.PublicKey, at time.Time) (string, error) {
	return s.who(key, at, Namespace, "plans")
}

// WhoOfFiles is Who for files.
func (s *Signers) WhoOfFiles(key ssh.PublicKey, at time.Time) (string, error) {
	return s.who(key, at, OfFiles, "files")
}

func (s *Signers) who(key ssh.PublicKey, at time.Time, namespace, what string) (string, error) {
	why := fmt.Errorf("it is signed with %s, which is none of the keys in %s", ssh.FingerprintSHA256(key), s.File)
	for _, one := range s.list {
		if !bytes.Equal(one.key.Marshal(), key.Marshal()) {
			continue
		}
		switch {
		case !one.signs(namespace):
			why = fmt.Errorf("it is signed by %s, who may not sign %s: %s says for what the key is", one.who, what, s.File)
		case !one.after.IsZero() && at.Before(one.after), !one.before.IsZero() && !at.Before(one.before):
			why = fmt.Errorf("it is signed by %s, whose key %s does not take at this time", one.who, s.File)
		default:
			return one.who, nil
		}
	}
	return "", why
}

func (s signer) signs(namespace string) bool {
	if s.namespaces == nil {
		return true
	}
	for _, p := range s.namespaces {
		if fits, err := path.Match(p, namespace); err == nil && fits {
			return true
		}
	}
	return false
}
