package seal

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"
)

// OfFiles is the namespace of signatures of files, such as images: ssh-keygen -Y sign -n file.
const OfFiles = "file"

// Namespace is what a signature of a plan is for: ssh-keygen -Y verify -n NAMESPACE.
const Namespace = "plan@metabasis"

// ErrPassphrase says that a key can only be used with its passphrase.
var ErrPassphrase = errors.New("the key has a passphrase")

// Sign signs a sealed plan with a private key, and returns the signature as ssh-keygen
// writes it. The error is [ErrPassphrase] where one is needed.
func Sign(data, key, passphrase []byte) ([]byte, error) {
	signer, err := signerOf(key, passphrase)
	if err != nil {
		return nil, err
	}
	sig, err := sshsig.Sign(bytes.NewReader(data), signer, sshsig.HashSHA512, Namespace)
	if err != nil {
		return nil, fmt.Errorf("signing: %w", err)
	}
	return sshsig.Armor(sig), nil
}

func signerOf(key, passphrase []byte) (ssh.Signer, error) {
	if len(passphrase) > 0 {
		s, err := ssh.ParsePrivateKeyWithPassphrase(key, passphrase)
		if err != nil {
			return nil, fmt.Errorf("the key cannot be read: %w", err)
		}
		return s, nil
	}
	s, err := ssh.ParsePrivateKey(key)
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		return nil, ErrPassphrase
	case err != nil:
		return nil, fmt.Errorf("the key cannot be read: %w", err)
	}
	return s, nil
}

// Verify tells with which key a plan was signed. It says nothing of whose that key is; see
// [Signers]. The error says that the signature is none of this plan.
func Verify(data, signature []byte) (ssh.PublicKey, error) {
	return verify(bytes.NewReader(data), signature, Namespace, "plan")
}

// VerifyFile is Verify for a file, such as an image.
func VerifyFile(data io.Reader, signature []byte) (ssh.PublicKey, error) {
	return verify(data, signature, OfFiles, "file")
}

func verify(data io.Reader, signature []byte, namespace, what string) (ssh.PublicKey, error) {
	sig, err := sshsig.Unarmor(signature)
	if err != nil {
		return nil, fmt.Errorf("the signature cannot be read: %w", err)
	}
	if err := sshsig.Verify(data, sig, sig.PublicKey, sig.HashAlgorithm, namespace); err != nil {
		return nil, fmt.Errorf("the signature is not of this %s: %w", what, err)
	}
	return sig.PublicKey, nil
}
