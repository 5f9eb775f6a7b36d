package store

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"metabasis/internal/core/record"
	"metabasis/internal/core/textfile"
)

// Records keeps records as files of JSON lines: what the record is, then a line a device.
type Records struct {
	Dir string
}

const recordSuffix = ".jsonl"

var recordName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,79}$`)

// CheckRecordName refuses what cannot be the name of a record.
func CheckRecordName(name string) error {
	if !recordName.MatchString(name) || strings.HasSuffix(name, recordSuffix) {
		return fmt.Errorf("%q cannot be the name of a record: letters, digits, points, dashes and low lines, up to 80", name)
	}
	return nil
}

func (r Records) file(name string) string { return filepath.Join(r.Dir, name+recordSuffix) }

// Put writes a record. All of it is on disk when it returns, or nothing. One of that name
// stays as it is: the error is then fs.ErrExist.
func (r Records) Put(rec record.Record) error {
	if err := CheckRecordName(rec.Name); err != nil {
		return err
	}
	if err := os.MkdirAll(r.Dir, 0o700); err != nil {
		return fmt.Errorf("record %s: %w", rec.Name, err)
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	err := e.Encode(rec)
	for _, d := range rec.Devices {
		err = errors.Join(err, e.Encode(d))
	}
	if err != nil {
		return fmt.Errorf("record %s: %w", rec.Name, err)
	}
	f, err := os.CreateTemp(r.Dir, rec.Name+"-*"+partial)
	if err != nil {
		return fmt.Errorf("record %s: %w", rec.Name, err)
	}
	defer os.Remove(f.Name())
	_, err = f.Write(b.Bytes())
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("record %s: %w", rec.Name, err)
	}
	if err := takeName(f.Name(), r.file(rec.Name)); err != nil {
		return fmt.Errorf("record %s: %w", rec.Name, err)
	}
	return syncDir(r.Dir)
}

// Add adds what was read from one device to a record that grows, such as that of a night;
// it is made where it is not there.
func (r Records) Add(rec record.Record, d record.Device) error {
	if err := CheckRecordName(rec.Name); err != nil {
		return err
	}
	if err := os.MkdirAll(r.Dir, 0o700); err != nil {
		return fmt.Errorf("record %s: %w", rec.Name, err)
	}
	if _, err := os.Stat(r.file(rec.Name)); errors.Is(err, fs.ErrNotExist) {
		rec.Devices = nil
		if err := r.Put(rec); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	line, err := json.Marshal(d)
	if err == nil {
		err = appendLine(r.file(rec.Name), string(line))
	}
	if err != nil {
		return fmt.Errorf("record %s: %w", rec.Name, err)
	}
	return nil
}

// ErrNoRecord says that there is no record of that name.
var ErrNoRecord = errors.New("there is no such record")

// mostRecord bounds the file of a record.
const mostRecord = 1 << 30

// Get reads a record. Of a device that stands in it twice, the later counts.
func (r Records) Get(name string) (record.Record, error) {
	rec, devices, err := r.read(name)
	if err != nil {
		return rec, err
	}
	return rec, fill(&rec, devices)
}

// Both reads two records to be compared: tables that are the same in both, to the byte, are
// without rows in both, since they need not even be taken apart.
func (r Records) Both(a, b string) (recA, recB record.Record, err error) {
	var devA, devB []rawDevice
	var errA, errB error
	var both sync.WaitGroup
	both.Go(func() { recA, devA, errA = r.read(a) })
	both.Go(func() { recB, devB, errB = r.read(b) })
	both.Wait()
	if err := errors.Join(errA, errB); err != nil {
		return recA, recB, err
	}
	at, nothing := map[string]int{}, json.RawMessage("null")
	for i, d := range devA {
		at[d.Device.Device] = i
	}
	for _, d := range devB {
		i, known := at[d.Device.Device]
		if !known {
			continue
		}
		for name, raw := range d.Tables {
			if bytes.Equal(raw, devA[i].Tables[name]) {
				d.Tables[name], devA[i].Tables[name] = nothing, nothing
			}
		}
	}
	return recA, recB, errors.Join(fill(&recA, devA), fill(&recB, devB))
}

// rawDevice is a device whose tables were not taken apart.
type rawDevice struct {
	record.Device
	Tables map[string]json.RawMessage `json:"tables"` // before those of the device
}

// fill takes the tables of a record's devices apart.
func fill(rec *record.Record, devices []rawDevice) error {
	rec.Devices = make([]record.Device, len(devices))
	wrong := make([]error, len(devices))
	shared(len(devices), func(i int) {
		rec.Devices[i] = devices[i].Device
		for name, raw := range devices[i].Tables {
			var rows []record.Row
			if err := json.Unmarshal(raw, &rows); err != nil {
				wrong[i] = fmt.Errorf("record %s is damaged: %s of %s: %w", rec.Name, name, devices[i].Device.Device, err)
			}
			if rec.Devices[i].Tables == nil {
				rec.Devices[i].Tables = map[string][]record.Row{}
			}
			rec.Devices[i].Tables[name] = rows
		}
	})
	return errors.Join(wrong...)
}

// shared does something for each of n, on all processors.
func shared(n int, do func(i int)) {
	var all errgroup.Group
	all.SetLimit(runtime.GOMAXPROCS(0))
	for i := range n {
		all.Go(func() error { do(i); return nil })
	}
	_ = all.Wait() // nothing of it returns one
}

// read reads a record, with its devices as they stand in it.
func (r Records) read(name string) (rec record.Record, out []rawDevice, err error) {
	data, err := textfile.Bytes(r.file(name), mostRecord)
	if errors.Is(err, fs.ErrNotExist) {
		return rec, nil, fmt.Errorf("%s: %w", name, ErrNoRecord)
	}
	if err != nil {
		return rec, nil, fmt.Errorf("record %s: %w", name, err)
	}
	head, rest, _ := bytes.Cut(data, []byte("\n"))
	if err := json.Unmarshal(head, &rec); err != nil {
		return rec, nil, fmt.Errorf("record %s is damaged: its first line does not say what it is: %w", name, err)
	}
	lines := bytes.Split(bytes.TrimRight(rest, "\n"), []byte("\n"))
	devices, wrong := make([]rawDevice, len(lines)), make([]error, len(lines))
	shared(len(lines), func(i int) {
		if len(lines[i]) > 0 {
			wrong[i] = json.Unmarshal(lines[i], &devices[i])
		}
	})
	at := map[string]int{}
	for i, d := range devices {
		switch j, again := at[d.Device.Device]; {
		case wrong[i] != nil && i == len(lines)-1 && !bytes.HasSuffix(data, []byte("\n")): // it was being written
		case wrong[i] != nil:
			return rec, nil, fmt.Errorf("record %s is damaged: line %d: %w", name, i+2, wrong[i])
		case d.Device.Device == "":
		case again:
			out[j] = d
		default:
			at[d.Device.Device] = len(out)
			out = append(out, d)
		}
	}
	return rec, out, nil
}

// List lists the records, the newest first, without their devices. What cannot be read is
// left out.
func (r Records) List() (out []record.Record, err error) {
	files, err := os.ReadDir(r.Dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("records: %w", err)
	}
	for _, f := range files {
		if name, ok := strings.CutSuffix(f.Name(), recordSuffix); ok {
			if rec, err := r.head(name); err == nil {
				out = append(out, rec)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b record.Record) int { return b.At.Compare(a.At) })
	return out, nil
}

func (r Records) head(name string) (rec record.Record, err error) {
	f, err := os.Open(r.file(name))
	if err != nil {
		return rec, err
	}
	defer f.Close()
	line, err := bufio.NewReader(f).ReadBytes('\n')
	if err != nil {
		return rec, err
	}
	err = json.Unmarshal(line, &rec)
	rec.Name = name
	return rec, err
}
