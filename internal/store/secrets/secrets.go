// Package secrets keeps passwords and the like in a file encrypted with age
// (age-encryption.org/v1): behind a passphrase, or for the holders of keys.
//
// What is inside is a table of logins, each with its parts, such as "password"
// or "operator". A file for keys has the list of recipients beside it, so that
// it can be written again.
package secrets

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"

	"metabasis/internal/core/textfile"
	"metabasis/internal/store/locks"
)

// ID names one secret: a part of a login.
type ID struct{ Login, Part string }

func (id ID) String() string { return id.Login + " " + id.Part }

// Key opens a file: with a passphrase, or with the identities of a key file.
type Key struct {
	// Passphrase asks for it; it is called only for a file behind one.
	Passphrase func() (string, error)
	// Identity is a file with age identities or an OpenSSH private key; "" is
	// none.
	Identity string
}

// File is an opened secrets file.
type File struct {
	path       string
	secrets    map[string]map[string]string
	passphrase string // when it is behind one
	key        Key
	sealed     []byte // as it was read; nil where there was none
	work       int    // log2 of the work a passphrase costs; 0 is age's own
}

// ErrNone says that there is no secrets file.
var ErrNone = errors.New("there is no secrets file yet; metabasis secret add LOGIN PART makes one")

// Exists tells whether there is one.
func Exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// Open decrypts a file.
func Open(path string, key Key) (*File, error) {
	data, err := textfile.Bytes(path, textfile.Small)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, fmt.Errorf("secrets: %w", err)
	}
	f := &File{path: path, key: key, sealed: data}
	ids, err := f.identities(data, key)
	if err != nil {
		return nil, err
	}
	r, err := age.Decrypt(bytes.NewReader(data), ids...)
	if err != nil {
		var no *age.NoIdentityMatchError
		if errors.As(err, &no) && f.passphrase != "" {
			return nil, fmt.Errorf("secrets: the passphrase of %s is wrong", path)
		}
		return nil, fmt.Errorf("secrets: %s cannot be opened: %w", path, err)
	}
	plain, err := io.ReadAll(io.LimitReader(r, 16<<20))
	if err != nil {
		return nil, fmt.Errorf("secrets: %s is damaged: %w", path, err)
	}
	if err := json.Unmarshal(plain, &f.secrets); err != nil || f.secrets == nil {
		return nil, fmt.Errorf("secrets: %s holds no table of logins", path)
	}
	return f, nil
}

// behindPassphrase tells whether a file is behind a passphrase (age-encryption.org/v1,
// "scrypt recipient stanza"): it is the only recipient then.
func behindPassphrase(data []byte) bool {
	head, _, _ := bytes.Cut(data, []byte("\n---"))
	return bytes.Contains(head, []byte("\n-> scrypt "))
}

func (f *File) identities(data []byte, key Key) ([]age.Identity, error) {
	if behindPassphrase(data) {
		if key.Passphrase == nil {
			return nil, fmt.Errorf("secrets: %s is behind a passphrase, and nobody can be asked for it", f.path)
		}
		phrase, err := key.Passphrase()
		if err != nil {
			return nil, err
		}
		f.passphrase = phrase
		id, err := age.NewScryptIdentity(phrase)
		return []age.Identity{id}, err
	}
	if key.Identity == "" {
		return nil, fmt.Errorf("secrets: %s is for holders of a key: name yours in the setting identity", f.path)
	}
	return readIdentities(key.Identity)
}

func readIdentities(file string) ([]age.Identity, error) {
	data, err := textfile.Bytes(file, textfile.Small)
	if err != nil {
		return nil, fmt.Errorf("secrets: identity: %w", err)
	}
	if bytes.Contains(data, []byte("PRIVATE KEY-----")) {
		id, err := agessh.ParseIdentity(data)
		if err != nil {
			return nil, fmt.Errorf("secrets: identity %s: %w", file, err)
		}
		return []age.Identity{id}, nil
	}
	ids, err := age.ParseIdentities(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("secrets: identity %s: %w", file, err)
	}
	return ids, nil
}

// New makes an empty file, to be saved behind a passphrase.
func New(path, passphrase string) *File {
	return &File{path: path, passphrase: passphrase, secrets: map[string]map[string]string{}}
}

// Get returns a secret.
func (f *File) Get(id ID) (string, bool) {
	v, ok := f.secrets[id.Login][id.Part]
	return v, ok
}

var validPart = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

// Set puts a secret in.
func (f *File) Set(id ID, value string) error {
	for _, s := range []string{id.Login, id.Part} {
		if !validPart.MatchString(s) {
			return fmt.Errorf("secrets: %q cannot be a name: letters, digits, dots and hyphens", s)
		}
	}
	if value == "" {
		return fmt.Errorf("secrets: %s is empty", id)
	}
	if len(value) > mostSecret {
		return fmt.Errorf("secrets: %s is larger than %d KB: nothing was changed", id, mostSecret>>10)
	}
	if f.secrets[id.Login] == nil {
		f.secrets[id.Login] = map[string]string{}
	}
	f.secrets[id.Login][id.Part] = value
	return nil
}

// mostSecret bounds one secret.
const mostSecret = 64 << 10

// Update changes the file as it is now, which may be another than was opened: somebody else
// may have changed it meanwhile. What they did stays. Where it cannot be opened any more, or
// what would be written could not be read back, nothing is changed.
func (f *File) Update(change func(*File) error) error {
	return locks.Editing(filepath.Dir(f.path), func() error {
		now, err := f.again()
		if err != nil {
			return err
		}
		changed := *now
		changed.secrets = map[string]map[string]string{}
		for login, parts := range now.secrets {
			changed.secrets[login] = maps.Clone(parts)
		}
		if err := change(&changed); err != nil {
			return err
		}
		if err := changed.Save(); err != nil {
			return err
		}
		*f = changed
		return nil
	})
}

// again is the file as it is now.
func (f *File) again() (*File, error) {
	data, err := textfile.Bytes(f.path, textfile.Small)
	switch {
	case errors.Is(err, fs.ErrNotExist) && f.sealed == nil:
		return f, nil
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("secrets: %s is gone since it was opened: nothing was changed", f.path)
	case err != nil:
		return nil, fmt.Errorf("secrets: %w", err)
	case bytes.Equal(data, f.sealed):
		return f, nil
	}
	key := f.key
	if f.passphrase != "" {
		key.Passphrase = func() (string, error) { return f.passphrase, nil }
	}
	now, err := Open(f.path, key)
	if err != nil {
		return nil, fmt.Errorf("%s was changed by somebody else meanwhile, and cannot be opened any more: nothing was changed: %w", f.path, err)
	}
	now.work = f.work
	return now, nil
}

// Remove takes a secret out. It tells whether it was there.
func (f *File) Remove(id ID) bool {
	_, ok := f.secrets[id.Login][id.Part]
	delete(f.secrets[id.Login], id.Part)
	if len(f.secrets[id.Login]) == 0 {
		delete(f.secrets, id.Login)
	}
	return ok
}

// List names the secrets, without their values.
func (f *File) List() []ID {
	var out []ID
	for _, l := range slices.Sorted(maps.Keys(f.secrets)) {
		for _, p := range slices.Sorted(maps.Keys(f.secrets[l])) {
			out = append(out, ID{l, p})
		}
	}
	return out
}

// RecipientsFile is where the recipients of a secrets file stand.
func RecipientsFile(path string) string {
	return strings.TrimSuffix(path, filepath.Ext(path)) + ".recipients"
}

// Save encrypts the file anew: for its recipients when there are any, else
// behind its passphrase.
func (f *File) Save() error {
	to, err := f.recipients()
	if err != nil {
		return err
	}
	return f.saveTo(to)
}

// saveTo encrypts it for those. What could not be read back is not put in place.
func (f *File) saveTo(to []age.Recipient) error {
	plain, err := json.Marshal(f.secrets)
	if err != nil {
		return err
	}
	var back map[string]map[string]string
	if err := json.Unmarshal(plain, &back); err != nil || !maps.EqualFunc(back, f.secrets, maps.Equal) {
		return errors.New("secrets: what would be written reads as something else: a secret is text in UTF-8; nothing was changed")
	}
	var b bytes.Buffer
	w, err := age.Encrypt(&b, to...)
	if err != nil {
		return fmt.Errorf("secrets: %w", err)
	}
	if _, err := w.Write(plain); err != nil {
		return fmt.Errorf("secrets: %w", err)
	}
	if err := w.Close(); err != nil {
		return fmt.Errorf("secrets: %w", err)
	}
	if b.Len() > textfile.Small {
		return fmt.Errorf("secrets: the file would be larger than %d MB, and could not be read any more: nothing was changed", textfile.Small>>20)
	}
	if err := replace(f.path, b.Bytes()); err != nil {
		return err
	}
	f.sealed = b.Bytes()
	return nil
}

func (f *File) recipients() ([]age.Recipient, error) {
	data, err := textfile.Read(RecipientsFile(f.path), textfile.Small)
	if err == nil {
		return parseRecipients(RecipientsFile(f.path), data)
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("secrets: %w", err)
	}
	return f.behind(f.passphrase)
}

// behind is who opens a file behind a passphrase.
func (f *File) behind(passphrase string) ([]age.Recipient, error) {
	r, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, fmt.Errorf("secrets: %w", err)
	}
	if f.work > 0 {
		r.SetWorkFactor(f.work)
	}
	return []age.Recipient{r}, nil
}

func parseRecipients(file string, data []byte) ([]age.Recipient, error) {
	var out []age.Recipient
	for i, l := range strings.Split(string(data), "\n") {
		l = strings.TrimSpace(l)
		if l == "" || l[0] == '#' {
			continue
		}
		var r age.Recipient
		var err error
		if strings.HasPrefix(l, "ssh-") {
			r, err = agessh.ParseRecipient(l)
		} else {
			r, err = age.ParseX25519Recipient(l)
		}
		if err != nil {
			return nil, fmt.Errorf("secrets: %s:%d: not a recipient: write a public key, age1… or ssh-ed25519 …", file, i+1)
		}
		out = append(out, r)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("secrets: %s names no recipient", file)
	}
	return out, nil
}

// Rekey changes what opens the file: with recipients, the holders of those keys;
// else a new passphrase.
func (f *File) Rekey(recipients []byte, passphrase string) error {
	return locks.Editing(filepath.Dir(f.path), func() error {
		now, err := f.again()
		if err != nil {
			return err
		}
		return now.rekey(recipients, passphrase)
	})
}

// rekey writes the file first, and who opens it then: who is cut off between the two can
// still open what there is.
func (f *File) rekey(recipients []byte, passphrase string) (err error) {
	beside, to := RecipientsFile(f.path), []age.Recipient(nil)
	if len(recipients) > 0 {
		to, err = parseRecipients("recipients", recipients)
	} else {
		to, err = f.behind(passphrase)
	}
	if err != nil {
		return err
	}
	if err := f.saveTo(to); err != nil {
		return err
	}
	f.passphrase = passphrase
	if len(recipients) > 0 {
		return replace(beside, recipients)
	}
	if err := os.Remove(beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("secrets: %w", err)
	}
	return nil
}

// replace puts new contents in place of a file, whole or not at all.
func replace(path string, data []byte) error {
	tmp, err := os.CreateTemp(filepath.Dir(path), ".secrets-*") // mode 0600
	if err != nil {
		return fmt.Errorf("secrets: %w", err)
	}
	_, err = tmp.Write(data)
	err = errors.Join(err, tmp.Sync(), tmp.Close())
	if err == nil {
		err = os.Rename(tmp.Name(), path)
	}
	if err != nil {
		os.Remove(tmp.Name())
		return fmt.Errorf("secrets: %w", err)
	}
	return nil
}
