package acts

import (
	"strings"

	"metabasis/internal/core/runbook"
	"metabasis/internal/core/work"
	"metabasis/internal/store"
)

// Saving what is not saved is a night like any other, over a runbook of one step: each device is
// read, backed up and proven to be what it was, what runs is saved, and what is saved is read and
// compared.

// saveName is what it is called where a runbook has the name of its file.
const saveName = "save.runbook"

// SaveText writes the runbook that saves what is not saved on devices.
func (d *Desk) SaveText(fleetFile string, words []string) (string, error) {
	e, err := d.Select(fleetFile, words)
	if err != nil {
		return "", err
	}
	lines := []string{
		`runbook "Save what is not saved"`, "  window    none", "",
		scopeOf(e), "",
		"batches", "  sizes     100%", "",
		`step "Save"`, "  save", "",
		"unattended  take back the device", "",
	}
	tidy, err := runbook.Format(saveName, []byte(strings.Join(lines, "\n")))
	return string(tidy), err
}

// shown is what was shown of a device, as a night is held against it.
func shown(r *store.Rehearsal) func(device string) (work.Sealed, bool) {
	return func(device string) (work.Sealed, bool) {
		d := r.Of(device)
		if d == nil {
			return work.Sealed{}, false
		}
		return work.Sealed{Configuration: d.Fingerprint, Steps: d.Steps}, true
	}
}

// Save makes the change that saves what is not saved.
func (d *Desk) Save(fleetFile string, words []string) (*Change, error) {
	text, err := d.SaveText(fleetFile, words)
	if err != nil {
		return nil, err
	}
	return d.ChangeOf(saveName, text, fleetFile)
}
