package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"

	"github.com/goccy/go-yaml"

	"metabasis/internal/core/scope"
	"metabasis/internal/core/textfile"
	"metabasis/internal/store/locks"
)

// Selections reads the selections of devices that were saved.
func (w *Workspace) Selections() (map[string]scope.Selection, error) {
	out := map[string]scope.Selection{}
	path := w.selectionsFile()
	data, err := textfile.Read(path, textfile.Small)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	if _, err := textfile.YAML(path, data, &out, false); err != nil {
		return nil, err
	}
	return out, nil
}

func (w *Workspace) selectionsFile() string { return filepath.Join(w.Dir, "selections.yaml") }

var validSelection = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,39}$`)

// SaveSelection saves a selection under a name, in place of one of that name, which it returns:
// what names it means another thing from then on.
func (w *Workspace) SaveSelection(name string, s scope.Selection) (before *scope.Selection, err error) {
	if !validSelection.MatchString(name) {
		return nil, fmt.Errorf("%q cannot be the name of a selection: lower-case letters, digits and hyphens", name)
	}
	err = locks.Editing(w.Dir, func() error {
		all, err := w.Selections()
		if err != nil {
			return err
		}
		if was, is := all[name]; is && was.Condition() != s.Condition() {
			before = &was
		}
		all[name] = s
		data, err := yaml.Marshal(all)
		if err != nil {
			return err
		}
		return textfile.Replace(w.selectionsFile(), data, 0o600)
	})
	return before, err
}
