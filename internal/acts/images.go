package acts

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/freight"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/software"
	"metabasis/internal/core/textfile"
	"metabasis/internal/seal"
	"metabasis/internal/workspace"
)

// ImageHere is an image of the catalogue, and what of it is here.
type ImageHere struct {
	Platform string   `json:"platform"`
	Version  string   `json:"version"`
	Models   []string `json:"models,omitempty"`
	File     string   `json:"file"`
	From     []string `json:"from,omitempty"`
	Never    string   `json:"never,omitempty"`
	Here     bool     `json:"here"`            // its file is here, and is what the catalogue says
	Wrong    string   `json:"wrong,omitempty"` // why it is not
	Size     int64    `json:"size,omitempty"`
}

// Said is the same in a line.
func (i ImageHere) Said() string {
	text := i.Version
	if len(i.From) > 0 {
		text += ", from " + strings.Join(i.From, " or ")
	}
	if len(i.Models) > 0 {
		text += ", for " + strings.Join(i.Models, ", ")
	}
	switch {
	case i.Never != "":
		return text + "; NEVER installed: " + i.Never
	case i.Here:
		return fmt.Sprintf("%s; %s, %s, its checksum is right", text, i.File, freight.Bytes(i.Size))
	}
	return text + "; " + i.Wrong
}

// ImagesHere are the images of the catalogue, in its order, each with whether its file is here.
func (d *Desk) ImagesHere() (out []ImageHere, err error) {
	if err := d.ImagesWrong(); err != nil {
		return nil, err
	}
	if len(d.Images) == 0 {
		return nil, fmt.Errorf("there is no %s in %s, which says what software there is", software.FileName, d.Path())
	}
	for _, platform := range slices.Sorted(maps.Keys(d.Images)) {
		for _, i := range d.Images[platform] {
			one := ImageHere{Platform: platform, Version: i.Version, Models: i.Models, File: i.File, From: i.From, Never: i.Never}
			var wrong error
			if one.Size, wrong = d.imageHere(i); wrong != nil {
				one.Wrong = wrong.Error()
			}
			one.Here = wrong == nil
			out = append(out, one)
		}
	}
	return out, nil
}

// imageHere looks whether the file of an image is here and what the catalogue says.
func (d *Desk) imageHere(i software.Image) (size int64, err error) {
	path := i.File
	if !filepath.IsAbs(path) {
		path = filepath.Join(d.Dir, path)
	}
	f, err := os.Open(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return 0, fmt.Errorf("%s is not here", i.File)
	case err != nil:
		return 0, err
	}
	defer f.Close()
	sum, longer := sha256.New(), sha512.New()
	if size, err = io.Copy(io.MultiWriter(sum, longer), f); err != nil {
		return size, err
	}
	if err := unlike(i, size, hex.EncodeToString(sum.Sum(nil)), hex.EncodeToString(longer.Sum(nil))); err != nil {
		return size, err
	}
	return size, d.signed(i, f)
}

// signed says why the signature of an image does not hold, where it is to have one.
func (d *Desk) signed(i software.Image, data io.ReadSeeker) error {
	if i.Signature == "" {
		return nil
	}
	signers, err := d.signers()
	switch {
	case err != nil:
		return err
	case signers == nil:
		return fmt.Errorf("%s has a signature, and nothing says who may sign: write in %s, for example, signers: signers", i.Name(), workspace.SettingsFile)
	}
	signature, err := textfile.Read(d.inWorkspace(i.Signature), textfile.Small)
	if err != nil {
		return fmt.Errorf("the signature of %s: %w", i.Name(), err)
	}
	if _, err := data.Seek(0, io.SeekStart); err != nil {
		return err
	}
	key, err := seal.VerifyFile(data, signature)
	if err != nil {
		return fmt.Errorf("%s: %w", i.Name(), err)
	}
	if _, err := signers.WhoOfFiles(key, time.Now()); err != nil {
		return fmt.Errorf("%s: %w", i.Name(), err)
	}
	return nil
}

// unlike says how a file differs from what the catalogue says of an image; nil where it does not. A longer
// checksum of "" was not worked out.
func unlike(i software.Image, size int64, sum, longer string) error {
	switch {
	case sum != i.SHA256:
		return fmt.Errorf("%s is NOT the file of version %s: its SHA-256 is %s, and %s says %s", i.Name(), i.Version, sum, software.FileName, i.SHA256)
	case i.SHA512 != "" && longer != "" && longer != i.SHA512:
		return fmt.Errorf("%s is NOT the file of version %s: its SHA-512 is another than %s says", i.Name(), i.Version, software.FileName)
	case i.Size > 0 && i.Size != size:
		return fmt.Errorf("%s has %d bytes, and %s says %d", i.Name(), size, software.FileName, i.Size)
	}
	return nil
}

// asCatalogued says why a file is not carried that the catalogue speaks of: it is another than that says.
// Platforms are those that it is for; none where the catalogue does not speak of it.
func (d *Desk) asCatalogued(f freight.File, data io.ReadSeeker) (platforms []string, err error) {
	for platform, images := range d.Images {
		for _, i := range images {
			if i.Name() != f.Name {
				continue
			}
			if err := unlike(i, f.Size, f.SHA256, ""); err != nil {
				return nil, err
			}
			if err := d.signed(i, data); err != nil {
				return nil, err
			}
			platforms = append(platforms, platform)
		}
	}
	slices.Sort(platforms)
	return slices.Compact(platforms), d.ImagesWrong()
}

// onTheirWay says which files that a night needs are carried to its devices now, and when they will be there.
func (c *Change) onTheirWay(p *plan.Plan) (out []string) {
	needs := map[string]bool{}
	for _, t := range p.Targets() {
		if _, does := t.Upgrades(); does && t.Traits.Software != nil {
			for _, i := range t.Traits.Software.Images {
				needs[i.Name()] = true
			}
		}
	}
	for _, convoy := range c.Convoys() {
		if needs[convoy.File] {
			out = append(out, "on its way: "+convoy.Said(time.Now()))
		}
	}
	return out
}
