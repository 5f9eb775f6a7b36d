package acts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/textfile"
	"metabasis/internal/core/work"
	"metabasis/internal/person"
	"metabasis/internal/seal"
	"metabasis/internal/settings"
	"metabasis/internal/store"
	"metabasis/internal/workspace"
)

// Sealed is a plan that was sealed into a file.
type Sealed struct {
	File, Sum string
	Signature string // the file of its signature; "" for none
	Plan      *seal.Plan
	Rehearsal *store.Rehearsal
}

// NightsLearned is how many earlier nights say how long things take.
func (c *Change) NightsLearned(ctx context.Context) int {
	if e := c.Estimates(ctx); e != nil {
		return e.Nights
	}
	return 0
}

// RehearsedAs is the newest rehearsal of a plan, nil where there is none of this text and
// these values; note says then why not.
func (c *Change) RehearsedAs(ctx context.Context, p *plan.Plan) (r *store.Rehearsal, note string, err error) {
	r, err = c.Rehearsed(ctx, 0, p.Title)
	if errors.Is(err, store.ErrNoRehearsal) {
		return nil, "", nil
	}
	if err != nil {
		return nil, "", err
	}
	if note = r.Stale(c.Masked(p, workspace.Whole(c.Runbook, c.text)), p.Values); note != "" {
		r = nil
	}
	return r, note, nil
}

// Seal writes a plan, as its newest rehearsal found it, into a file that can be approved.
// With a private key it is signed, too, into a file of the same name with .sig behind it.
// A file that is there already is not written over: somebody may have approved it.
func (c *Change) Seal(ctx context.Context, p *plan.Plan, file, key string) (*Sealed, error) {
	r, err := c.Rehearsed(ctx, 0, p.Title)
	if errors.Is(err, store.ErrNoRehearsal) {
		return nil, fmt.Errorf("what would be done is not known before it was rehearsed: metabasis rehearse %s", c.File)
	}
	if err != nil {
		return nil, err
	}
	s, err := seal.Make(
		p,
		c.Masked(p, workspace.Whole(c.Runbook, c.text)),
		r,
		c.Profiles.Fingerprints(),
		seal.Mark{At: time.Now().UTC().Truncate(time.Second), By: Who()},
	)
	if err != nil {
		return nil, err
	}
	data, err := s.Bytes()
	if err != nil {
		return nil, err
	}
	out := &Sealed{File: file, Sum: seal.Sum(data), Plan: s, Rehearsal: r}
	var sig []byte
	if key != "" { // before anything is written: a seal without the signature that was asked for is none
		if sig, err = c.sign(ctx, data, key); err != nil {
			return nil, err
		}
		out.Signature = file + ".sig"
	}
	if err := writeNew(file, data); err != nil {
		return nil, err
	}
	if sig != nil {
		if err := writeNew(out.Signature, sig); err != nil {
			return nil, errors.Join(err, os.Remove(file))
		}
	}
	return out, nil
}

// sign signs with a key, whose passphrase is asked for where it has one.
func (c *Change) sign(ctx context.Context, data []byte, file string) ([]byte, error) {
	key, err := textfile.Bytes(file, textfile.Small)
	if err != nil {
		return nil, err
	}
	sig, err := seal.Sign(data, key, nil)
	if !errors.Is(err, seal.ErrPassphrase) {
		return sig, err
	}
	if c.Person == nil {
		return nil, fmt.Errorf("%s: %w, and nobody is here to give it", file, err)
	}
	word, err := person.AskOne(ctx, c.Person, "", person.Question{Text: "Passphrase of " + file, Secret: true})
	if err != nil {
		return nil, err
	}
	return seal.Sign(data, key, []byte(word))
}

// writeNew writes a file that is not there yet, durably and whole.
func writeNew(file string, data []byte) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already, and may have been approved: give another name, or remove it first", file)
	}
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(file))
	}
	return nil
}

// signedBy says who has signed a sealed plan. Where the settings name who may, nobody else's
// will do.
func (c *Change) signedBy(file string, data []byte) (string, error) {
	allowed, err := c.signers()
	if err != nil {
		return "", err
	}
	sig, err := textfile.Bytes(file+".sig", textfile.Small)
	switch {
	case errors.Is(err, fs.ErrNotExist) && allowed != nil:
		return "", fmt.Errorf("%s is not signed, and %s says who may: metabasis plan --seal --sign", file, allowed.File)
	case errors.Is(err, fs.ErrNotExist):
		return ", not signed", nil
	case err != nil:
		return "", err
	}
	key, err := seal.Verify(data, sig)
	if err != nil {
		return "", fmt.Errorf("%s.sig: %w", file, err)
	}
	if allowed == nil {
		return ", signed with " + ssh.FingerprintSHA256(key) + ", whoever that is: the setting signers names none who may", nil
	}
	who, err := allowed.Who(key, time.Now())
	if err != nil {
		return "", fmt.Errorf("%s: %w", file, err)
	}
	return ", signed by " + who, nil
}

// signers are those who may sign, by the setting; nil where it names none.
func (d *Desk) signers() (*seal.Signers, error) {
	file := d.Settings.Get(settings.Signers)
	if file == "" {
		return nil, nil
	}
	file = d.inWorkspace(file)
	data, err := textfile.Bytes(file, textfile.Small)
	if err != nil {
		return nil, fmt.Errorf("the setting signers: %w", err)
	}
	return seal.ReadSigners(file, data)
}

// sealedFor are the devices that a plan was sealed for, where it was for a part of its scope.
func sealedFor(file string) ([]string, error) {
	data, err := textfile.Bytes(file, textfile.Large)
	if err != nil {
		return nil, err
	}
	s, err := seal.Read(file, data)
	if err != nil || s.Only == "" {
		return nil, err
	}
	var names []string
	for _, d := range s.Devices {
		names = append(names, d.Name)
	}
	return names, nil
}

// heldAgainst reads a sealed plan and refuses a plan that is not the same.
func (c *Change) heldAgainst(p *plan.Plan, file string) (*seal.Plan, error) {
	if file == "" {
		return nil, nil
	}
	data, err := textfile.Bytes(file, textfile.Large)
	if err != nil {
		return nil, err
	}
	s, err := seal.Read(file, data)
	if err != nil {
		return nil, err
	}
	signed, err := c.signedBy(file, data)
	if err != nil {
		return nil, err
	}
	if differs := s.Differs(p, c.Masked(p, workspace.Whole(c.Runbook, c.text)), c.Profiles.Fingerprints()); len(differs) > 0 {
		return nil, fmt.Errorf("this is not what was sealed in %s, so it does not begin:\n  %s", file, strings.Join(differs, "\n  "))
	}
	p.Seal = fmt.Sprintf(
		"by %s on %s, SHA-256 %s%s: a device that is not what was sealed is not changed",
		s.Sealed.By,
		s.Sealed.At.Local().Format("Mon 2 Jan 15:04"),
		seal.Sum(data)[:12],
		signed,
	)
	p.Prechecks = append(p.Prechecks, runbook.Precheck{Name: work.SealedCheck, From: filepath.Base(file)})
	return s, nil
}
