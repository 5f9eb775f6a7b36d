// Package software knows which software there is for a platform, and the way from one version to another.
//
// What there is stands in a catalogue, a file of the workspace:
//
//	tern:
//	  - version: 7.4.2
//	    file: tern-7.4.2.img
//	    sha256: 2c1f…
//	    from: ["7.3.*"]
//	    restart: 6m
//
// A version that says from which others it can be reached is reached from those only: from any other, the
// way there leads over versions in between ([Way]). Nothing here knows which of two versions is the newer:
// the catalogue says what can be reached, and nothing else counts.
//
// All of it is pure; what runs on a device is read by others.
package software

import (
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"metabasis/internal/core/problem"
	"metabasis/internal/core/textfile"
)

// FileName is the file of a workspace that holds its catalogue.
const FileName = "images.yaml"

// Image is the software of one version for a platform.
type Image struct {
	Version string   `yaml:"version"`
	Models  []string `yaml:"models"` // values of the fleet's column "model"; none means all
	File    string   `yaml:"file"`   // beside the catalogue, or with its path
	SHA256  string   `yaml:"sha256"`
	SHA512  string   `yaml:"sha512"` // beside that, where it is given
	// Signature is a file beside it with an SSH signature of it (ssh-keygen -Y sign -n file), which must be of
	// somebody who may sign; "" where it has none.
	Signature string `yaml:"signature"`
	Size      int64  `yaml:"size"` // in bytes; 0 where nothing is said
	// From are the versions from which it can be reached, * standing for any text; none means any.
	From []string `yaml:"from"`
	// Restart is how long a device is usually away that starts with it; 0 where nothing is said.
	Restart time.Duration `yaml:"restart"`
	// Never says why it must not be installed, such as a fault that is known; "" where it may.
	Never string `yaml:"never"`
	line  int
}

// Name is the name that its file has on a device.
func (i Image) Name() string { return filepath.Base(i.File) }

// Line is where the catalogue speaks of it.
func (i Image) Line() int { return i.line }

// Fits tells whether it is for a model; "" is a device of which no model is known, which only an image for
// all fits.
func (i Image) Fits(model string) bool { return len(i.Models) == 0 || slices.Contains(i.Models, model) }

// ReachedFrom tells whether a device that runs a version can be given it in one restart.
func (i Image) ReachedFrom(version string) bool {
	return len(i.From) == 0 || slices.ContainsFunc(i.From, func(p string) bool { return like(p, version) })
}

// like tells whether a version fits a pattern in which * stands for any text.
func like(pattern, version string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == version
	}
	if !strings.HasPrefix(version, parts[0]) {
		return false
	}
	rest := version[len(parts[0]):]
	for _, p := range parts[1 : len(parts)-1] {
		at := strings.Index(rest, p)
		if at < 0 {
			return false
		}
		rest = rest[at+len(p):]
	}
	return strings.HasSuffix(rest, parts[len(parts)-1])
}

// Catalogue is the images that there are, by platform.
type Catalogue map[string][]Image

// Named finds the images whose file has that name.
func (c Catalogue) Named(file string) (out []Image) {
	for _, platform := range slices.Sorted(maps.Keys(c)) {
		for _, i := range c[platform] {
			if i.Name() == filepath.Base(file) {
				out = append(out, i)
			}
		}
	}
	return out
}

var (
	sha256Form = regexp.MustCompile(`^[0-9a-f]{64}$`)
	sha512Form = regexp.MustCompile(`^[0-9a-f]{128}$`)
	// versionForm is what a version may be made of: it stands in a line that a device is sent.
	versionForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+()-]*$`)
	nameForm    = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]*$`)
)

// ValidVersion tells whether a text can be a version.
func ValidVersion(s string) bool { return len(s) <= 100 && versionForm.MatchString(s) }

// Read reads a catalogue, for platforms that there are. The error is a problem.List.
func Read(file string, data []byte, platforms []string) (Catalogue, error) {
	c := Catalogue{}
	doc, err := textfile.YAML(file, data, &c, false)
	if err != nil {
		return nil, err
	}
	r := &reader{file: file, lines: strings.Split(string(data), "\n")}
	for _, d := range doc.Docs {
		r.platforms(d.Body, c, platforms)
	}
	for platform, images := range c {
		r.images(platform, images)
	}
	slices.SortFunc(r.list, func(a, b problem.Problem) int { return a.Line - b.Line })
	if err := r.list.Err(); err != nil {
		return nil, err
	}
	return c, nil
}

type reader struct {
	file  string
	lines []string
	list  problem.List
}

func (r *reader) fail(line int, hint, format string, args ...any) {
	p := problem.Problem{File: r.file, Line: line, Msg: fmt.Sprintf(format, args...), Hint: hint}
	if line >= 1 && line <= len(r.lines) {
		p.Text = strings.TrimRight(r.lines[line-1], "\r")
	}
	r.list = append(r.list, p)
}

// platforms finds where each image stands, and refuses platforms that there are not.
func (r *reader) platforms(body ast.Node, c Catalogue, known []string) {
	var all []*ast.MappingValueNode
	switch m := body.(type) {
	case *ast.MappingNode:
		all = m.Values
	case *ast.MappingValueNode:
		all = []*ast.MappingValueNode{m}
	}
	for _, kv := range all {
		at := kv.Key.GetToken()
		if !slices.Contains(known, at.Value) {
			r.fail(at.Position.Line, problem.OneOf(at.Value, known), "there is no platform %q", at.Value)
		}
		items, ok := kv.Value.(*ast.SequenceNode)
		if !ok {
			continue
		}
		for i, n := range items.Values {
			if i < len(c[at.Value]) {
				c[at.Value][i].line = n.GetToken().Position.Line
				if first := firstKey(n); first != nil {
					c[at.Value][i].line = first.GetToken().Position.Line
				}
			}
		}
	}
}

// firstKey is where a mapping begins; its own token is that of the colon.
func firstKey(n ast.Node) ast.Node {
	switch m := n.(type) {
	case *ast.MappingNode:
		if len(m.Values) > 0 {
			return m.Values[0].Key
		}
	case *ast.MappingValueNode:
		return m.Key
	}
	return nil
}

// images checks those of one platform.
func (r *reader) images(platform string, images []Image) {
	for n, i := range images {
		switch {
		case i.Version == "":
			r.fail(i.line, "version: 7.4.2", "an image of %s has no version", platform)
			continue
		case !ValidVersion(i.Version):
			r.fail(i.line, "version: 7.4.2", "%q cannot be a version: letters, digits and . _ + - ( ) may stand in it", i.Version)
			continue
		case i.File == "":
			r.fail(i.line, fmt.Sprintf("file: %s-%s.img", platform, i.Version), "version %s of %s has no file", i.Version, platform)
		case !nameForm.MatchString(i.Name()):
			r.fail(i.line, "a name of letters, digits and . _ + -", "the file %q of version %s cannot be named to a device", i.Name(), i.Version)
		}
		r.sums(i)
		if i.Size < 0 || i.Restart < 0 || i.Restart > time.Hour {
			r.fail(i.line, "size: in bytes, restart: 6m", "version %s has a size below nothing, or a restart that takes no time or more than an hour", i.Version)
		}
		for _, from := range i.From {
			if like(from, i.Version) && !strings.Contains(from, "*") {
				r.fail(i.line, "the versions before it", "version %s is reached from itself", i.Version)
			}
		}
		for _, earlier := range images[:n] {
			if earlier.Version == i.Version && share(earlier.Models, i.Models) {
				r.fail(i.line, "models: for each of them", "version %s of %s stands there already, on line %d, and both are for the same models", i.Version, platform, earlier.line)
			}
		}
	}
}

// sums checks the checksums of an image: one that has none cannot be told from another.
func (r *reader) sums(i Image) {
	switch {
	case i.SHA256 == "":
		r.fail(i.line, "sha256: what `sha256sum "+i.File+"` prints", "version %s has no checksum, so its file could be any other", i.Version)
	case !sha256Form.MatchString(i.SHA256):
		r.fail(i.line, "sha256: 64 digits of 0-9 and a-f", "%q is no SHA-256", i.SHA256)
	case i.SHA512 != "" && !sha512Form.MatchString(i.SHA512):
		r.fail(i.line, "sha512: 128 digits of 0-9 and a-f", "%q is no SHA-512", i.SHA512)
	}
}

// share tells whether two images may be for one device.
func share(a, b []string) bool {
	return len(a) == 0 || len(b) == 0 || slices.ContainsFunc(a, func(m string) bool { return slices.Contains(b, m) })
}
