package secrets

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"filippo.io/age"

	"metabasis/internal/core/textfile"
)

// Seal encrypts what is kept, such as backups, for the holders of keys. Whoever seals need
// not be able to open it again.
type Seal struct {
	// Recipients is the file with the keys it is sealed for, as beside a secrets file.
	Recipients string
	// Identity is the key file of whoever opens; "" is none.
	Identity string
}

// ErrNoIdentity says that nothing here opens what is sealed.
var ErrNoIdentity = errors.New("it is encrypted: name your key in the setting identity")

// Shut seals text, and proves that what comes of it can be opened: with a key that is made
// for that and forgotten.
func (s Seal) Shut(text []byte) ([]byte, error) {
	data, err := textfile.Read(s.Recipients, textfile.Small)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no %s to encrypt for: metabasis secret rekey --recipients FILE makes one", s.Recipients)
	}
	if err != nil {
		return nil, err
	}
	to, err := parseRecipients(s.Recipients, data)
	if err != nil {
		return nil, err
	}
	once, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	w, err := age.Encrypt(&b, append(to, once.Recipient())...)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(text); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	back, err := opened(b.Bytes(), once)
	if err != nil {
		return nil, fmt.Errorf("what was encrypted cannot be opened: %w", err)
	}
	if !bytes.Equal(back, text) {
		return nil, errors.New("what was encrypted opens to something else")
	}
	return b.Bytes(), nil
}

// Open opens what was sealed, with the key of whoever is here.
func (s Seal) Open(data []byte) ([]byte, error) {
	if s.Identity == "" {
		return nil, ErrNoIdentity
	}
	ids, err := readIdentities(s.Identity)
	if err != nil {
		return nil, err
	}
	return opened(data, ids...)
}

// mostSealed bounds what is opened.
const mostSealed = 256 << 20

func opened(data []byte, ids ...age.Identity) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(data), ids...)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, mostSealed))
}
