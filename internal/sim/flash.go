package sim

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
)

// A tern and an osier have files, which SFTP reaches and which take their room: what "tell storage" and
// "sight storage" show is what they leave. "digest FILE", and on an osier "weigh FILE", tell a checksum.

// flash is the files of a device.
type flash struct {
	d  *Device
	mu sync.Mutex
	of map[string]*flashFile
}

type flashFile struct {
	data []byte
	at   time.Time
}

// room is how many bytes are free. The caller holds f.mu.
func (f *flash) room() int64 {
	free := int64(f.d.spec.FreeMB) << 20
	for _, file := range f.of {
		free -= int64(len(file.data))
	}
	return free
}

// freeMB is how much room there is.
func (d *Device) freeMB() int {
	d.files.mu.Lock()
	defer d.files.mu.Unlock()
	return int(max(d.files.room(), 0) >> 20)
}

// File is what a file on the device has; false where there is none.
func (d *Device) File(name string) ([]byte, bool) {
	d.files.mu.Lock()
	defer d.files.mu.Unlock()
	f, is := d.files.of[clean(name)]
	if !is {
		return nil, false
	}
	return slices.Clone(f.data), true
}

// Store puts a file on the device.
func (d *Device) Store(name string, data []byte) {
	d.files.mu.Lock()
	defer d.files.mu.Unlock()
	d.files.of[clean(name)] = &flashFile{slices.Clone(data), time.Now()}
}

// Remove takes a file off the device.
func (d *Device) Remove(name string) {
	d.files.mu.Lock()
	defer d.files.mu.Unlock()
	delete(d.files.of, clean(name))
}

// Files lists the files on the device.
func (d *Device) Files() []string {
	d.files.mu.Lock()
	defer d.files.mu.Unlock()
	return slices.Sorted(maps.Keys(d.files.of))
}

func clean(name string) string { return path.Clean("/" + name) }

// digest tells the checksum of a file.
func (d *Device) digest(name string) (string, bool) {
	data, is := d.File(name)
	sum := sha256.Sum256(data)
	d.mu.Lock()
	d.note(Weighed, clean(name))
	d.mu.Unlock()
	return hex.EncodeToString(sum[:]), is
}

// serveFiles serves SFTP.
func (d *Device) serveFiles(rw io.ReadWriteCloser) {
	s := sftp.NewRequestServer(rw, sftp.Handlers{FileGet: d.files, FilePut: d.files, FileCmd: d.files, FileList: d.files})
	_ = s.Serve()
	_ = s.Close()
}

// Fileread implements [sftp.FileReader].
func (f *flash) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	file, is := f.of[clean(r.Filepath)]
	if !is {
		return nil, fs.ErrNotExist
	}
	return strings.NewReader(string(file.data)), nil
}

// Filewrite implements [sftp.FileWriter].
func (f *flash) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	name := clean(r.Filepath)
	if _, is := f.of[name]; !is || r.Pflags().Trunc {
		f.of[name] = &flashFile{at: time.Now()}
	}
	return &writing{f, name}, nil
}

// writing is a file that is written.
type writing struct {
	f    *flash
	name string
}

var errNoRoom = errors.New("no room is left on the storage")

// WriteAt implements [io.WriterAt]. Faults that match "write" strike here: with "drops", the connection
// ends once so many writes went well as after says; with "alters", one sign is another.
func (w *writing) WriteAt(p []byte, at int64) (int, error) {
	d := w.f.d
	d.mu.Lock()
	breaks, alters := d.fault(Drops, "write") != nil, d.fault(Alters, "write") != nil
	d.mu.Unlock()
	w.f.mu.Lock()
	file, is := w.f.of[w.name]
	if !is {
		w.f.mu.Unlock()
		return 0, fs.ErrNotExist
	}
	grows := max(at+int64(len(p))-int64(len(file.data)), 0)
	if grows > w.f.room() {
		w.f.mu.Unlock()
		return 0, errNoRoom
	}
	file.data = append(file.data, make([]byte, grows)...)
	copy(file.data[at:], p)
	if alters && len(p) > 0 {
		file.data[at] ^= 1
	}
	w.f.mu.Unlock()
	if breaks {
		d.mu.Lock()
		for c := range d.conns {
			c.drop()
		}
		clear(d.conns)
		d.mu.Unlock()
		return 0, io.ErrUnexpectedEOF
	}
	return len(p), nil
}

// Filecmd implements [sftp.FileCmder].
func (f *flash) Filecmd(r *sftp.Request) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	name := clean(r.Filepath)
	file, is := f.of[name]
	switch r.Method {
	case "Setstat":
		return nil
	case "Mkdir":
		return nil
	case "Remove":
		if !is {
			return fs.ErrNotExist
		}
		delete(f.of, name)
		return nil
	case "Rename":
		to := clean(r.Target)
		if _, taken := f.of[to]; taken || !is {
			return fmt.Errorf("%s cannot be renamed", name)
		}
		delete(f.of, name)
		f.of[to] = file
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

// Filelist implements [sftp.FileLister].
func (f *flash) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if r.Method == "List" {
		var all listing
		for _, name := range slices.Sorted(maps.Keys(f.of)) {
			all = append(all, info{path.Base(name), f.of[name]})
		}
		return all, nil
	}
	name := clean(r.Filepath)
	file, is := f.of[name]
	switch {
	case name == "/":
		return listing{info{"/", nil}}, nil
	case !is:
		return nil, fs.ErrNotExist
	}
	return listing{info{path.Base(name), file}}, nil
}

type listing []os.FileInfo

// ListAt implements [sftp.ListerAt].
func (l listing) ListAt(into []os.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(into, l[at:])
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}

// info is what is told of a file; of a directory where there is none.
type info struct {
	name string
	file *flashFile
}

func (i info) Name() string { return i.name }
func (i info) Size() int64 {
	if i.file == nil {
		return 0
	}
	return int64(len(i.file.data))
}

func (i info) Mode() fs.FileMode {
	if i.file == nil {
		return fs.ModeDir | 0o700
	}
	return 0o600
}

func (i info) ModTime() time.Time {
	if i.file == nil {
		return time.Time{}
	}
	return i.file.at
}
func (i info) IsDir() bool { return i.file == nil }
func (info) Sys() any      { return nil }
