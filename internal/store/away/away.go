// Package away brings backups to where this machine's loss does not take them: a
// directory, a server over SFTP, a git repository.
//
// A [Place] takes one backup at a time and proves that it is there: what was written is
// read back and is equal. Nothing half-written ever bears the name of a backup. What a
// place has is noted by the caller, so that each backup is pushed once.
package away

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Item is a backup to be pushed.
type Item struct {
	Device string
	File   string // its name
	Data   []byte
}

// Place takes backups.
type Place interface {
	// Put puts backups there and proves it. It returns those that are there now, and why
	// the others are not; one that is there already, and is equal, counts as put.
	Put(ctx context.Context, message string, items []Item) (there []Item, err error)
	// Missing asks the place which of the items it does not have, by what it lists: what was
	// put there once may have been deleted, or set back. Nothing is read in full.
	Missing(ctx context.Context, items []Item) ([]Item, error)
	Close() error
}

// names refuses an item whose names would lead elsewhere.
func (i Item) names() error {
	for _, n := range []string{i.Device, i.File} {
		if n == "" || n == "." || n == ".." || strings.ContainsAny(n, "/\\\x00") {
			return fmt.Errorf("%q cannot be the name of a file", n)
		}
	}
	return nil
}

// ErrDiffers says that a place has something else under the name of a backup. It is never
// written over.
var ErrDiffers = errors.New("there is another file of that name, and it is not equal")

// files is a place that is made of files.
type files interface {
	MkdirAll(dir string) error
	Open(name string) (io.ReadCloser, error)
	// Create makes a new file; one that is there is truncated.
	Create(name string) (syncer, error)
	// Rename gives a file another name, which none may have.
	Rename(from, to string) error
	Remove(name string) error
	Join(parts ...string) string
	// Sizes are the files in a directory; none where there is no such directory.
	Sizes(dir string) (map[string]int64, error)
}

type syncer interface {
	io.WriteCloser
	Sync() error
}

// put puts one backup into a place that is made of files.
func put(f files, root string, item Item) error {
	if err := item.names(); err != nil {
		return err
	}
	dir := f.Join(root, item.Device)
	name := f.Join(dir, item.File)
	if there, err := read(f, name); err == nil {
		if bytes.Equal(there, item.Data) {
			return nil
		}
		return ErrDiffers
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := f.MkdirAll(dir); err != nil {
		return err
	}
	part := name + ".partial"
	w, err := f.Create(part)
	if err != nil {
		return err
	}
	_, err = w.Write(item.Data)
	if err := errors.Join(err, w.Sync(), w.Close()); err != nil {
		return err
	}
	back, err := read(f, part)
	if err != nil {
		return fmt.Errorf("reading it back: %w", err)
	}
	if !bytes.Equal(back, item.Data) {
		return errors.New("it reads back differently from what was written")
	}
	err = f.Rename(part, name)
	if there, readErr := read(f, name); err != nil && readErr == nil && bytes.Equal(there, item.Data) {
		return nil // somebody else has put it there meanwhile
	}
	return err
}

// missing finds the items that are not listed, or are of another size.
func missing(ctx context.Context, f files, root string, items []Item) (out []Item, err error) {
	listed := map[string]map[string]int64{}
	for _, i := range items {
		if err := errors.Join(i.names(), context.Cause(ctx)); err != nil {
			return nil, err
		}
		sizes, known := listed[i.Device]
		if !known {
			if sizes, err = f.Sizes(f.Join(root, i.Device)); err != nil {
				return nil, err
			}
			listed[i.Device] = sizes
		}
		if size, there := sizes[i.File]; !there || size != int64(len(i.Data)) {
			out = append(out, i)
		}
	}
	return out, nil
}

func read(f files, name string) ([]byte, error) {
	r, err := f.Open(name)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, mostBytes))
	return data, errors.Join(err, r.Close())
}

// mostBytes bounds what is read back of one backup.
const mostBytes = 64 << 20

// putAll puts backups into a place that is made of files, one after the other, up to the
// first that cannot be put for a reason that is not its own.
func putAll(ctx context.Context, f files, root string, items []Item) (there []Item, err error) {
	var wrong []error
	for _, i := range items {
		if ctx.Err() != nil {
			return there, errors.Join(append(wrong, context.Cause(ctx))...)
		}
		if err := put(f, root, i); err != nil {
			wrong = append(wrong, fmt.Errorf("%s of %s: %w", i.File, i.Device, err))
			if !errors.Is(err, ErrDiffers) {
				break // the next would fail, too
			}
			continue
		}
		there = append(there, i)
	}
	return there, errors.Join(wrong...)
}

// Directory is a place in a directory, such as one of another machine that is mounted
// here.
type Directory struct{ Dir string }

// Put implements [Place].
func (d Directory) Put(ctx context.Context, _ string, items []Item) ([]Item, error) {
	if _, err := os.Stat(d.Dir); err != nil { // it is not made: what is not mounted must not be taken for empty
		return nil, fmt.Errorf("the directory %s: %w", d.Dir, err)
	}
	return putAll(ctx, local{}, d.Dir, items)
}

// Missing implements [Place].
func (d Directory) Missing(ctx context.Context, items []Item) ([]Item, error) {
	if _, err := os.Stat(d.Dir); err != nil {
		return nil, fmt.Errorf("the directory %s: %w", d.Dir, err)
	}
	return missing(ctx, local{}, d.Dir, items)
}

// Close implements [Place].
func (d Directory) Close() error { return nil }

// local is the files of this machine.
type local struct{}

func (local) MkdirAll(dir string) error               { return os.MkdirAll(dir, 0o700) }
func (local) Open(name string) (io.ReadCloser, error) { return os.Open(name) }
func (local) Remove(name string) error                { return os.Remove(name) }
func (local) Join(parts ...string) string             { return filepath.Join(parts...) }
func (local) Create(name string) (syncer, error) {
	return os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
}
func (local) Sizes(dir string) (map[string]int64, error) {
	list, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	out := make(map[string]int64, len(list))
	for _, e := range list {
		if info, err := e.Info(); err == nil {
			out[e.Name()] = info.Size()
		}
	}
	return out, err
}
func (local) Rename(from, to string) error {
	if _, err := os.Lstat(to); err == nil {
		return ErrDiffers
	}
	if err := os.Rename(from, to); err != nil {
		return err
	}
	d, err := os.Open(filepath.Dir(to))
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

var _ files = local{}
