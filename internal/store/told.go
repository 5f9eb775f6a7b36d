package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/record"
	"metabasis/internal/core/textfile"
	"metabasis/internal/store/within"
)

// Told keeps each table as each device told it last: a directory a device, a file a table. A
// scope may go by it, and the page of a device shows it.
type Told struct {
	Dir string
}

// ToldTable is a table as a device told it.
type ToldTable struct {
	Table    string    `json:"table"`
	At       time.Time `json:"at"`
	Platform string    `json:"platform"`
	// By is on whose behalf it was read: "read", "record day-1", "night 21, after".
	By string `json:"by,omitempty"`
	// Who is who the device said it was then; empty where it said nothing.
	Who  identity.Seen `json:"who,omitzero"`
	Rows []record.Row  `json:"rows"`
}

const toldSuffix = ".json"

func (t Told) file(device, table string) (string, error) {
	return within.Path(t.Dir, device, table+toldSuffix)
}

// Put keeps what a device told. What is older than that which is kept already is dropped.
func (t Told) Put(device string, table ToldTable) error {
	file, err := t.file(device, table.Table)
	if err != nil {
		return fmt.Errorf("what %s told: %w", device, err)
	}
	if have, err := t.Get(device, table.Table); err == nil && have.At.After(table.At) && !have.At.After(time.Now()) {
		return nil
	}
	data, err := json.Marshal(table)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(file), 0o700)
	}
	if err == nil {
		err = textfile.Replace(file, data, 0o600)
	}
	if err != nil {
		return fmt.Errorf("what %s told of %s is not kept: %w", device, table.Table, err)
	}
	return nil
}

// PutRecord keeps the tables of what was recorded of a device.
func (t Told) PutRecord(by string, d record.Device) error {
	var wrong []error
	for name, rows := range d.Tables {
		wrong = append(wrong, t.Put(d.Device, ToldTable{Table: name, At: d.At, Platform: d.Platform, By: by, Who: d.Who, Rows: rows}))
	}
	return errors.Join(wrong...)
}

// Get gives a table as a device told it last; fs.ErrNotExist where it never did.
func (t Told) Get(device, table string) (out ToldTable, err error) {
	file, err := t.file(device, table)
	if err != nil {
		return out, err
	}
	data, err := textfile.Bytes(file, mostRecord)
	if err != nil {
		return out, err
	}
	if err = json.Unmarshal(data, &out); err == nil && (out.Table != table || out.At.IsZero()) {
		err = errors.New("it does not say of which table it is, and of when")
	}
	if err != nil {
		return out, fmt.Errorf("%s is damaged: %w", file, err)
	}
	return out, nil
}

// Of lists what a device told, by the names of the tables. Wrong says what of it cannot be read.
func (t Told) Of(device string) (out []ToldTable, wrong []error) {
	dir, err := within.Path(t.Dir, device)
	if err != nil {
		return nil, []error{err}
	}
	files, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, []error{err}
	}
	for _, f := range files {
		name, is := strings.CutSuffix(f.Name(), toldSuffix)
		if !is || strings.HasPrefix(name, ".") {
			continue
		}
		one, err := t.Get(device, name)
		if err != nil {
			wrong = append(wrong, err)
			continue
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b ToldTable) int { return strings.Compare(a.Table, b.Table) })
	return out, wrong
}
