// Package within makes paths of names: of devices, nights, records, platforms. A name that a
// fleet, a journal or a record brings may be another person's idea of one; whatever it is,
// what is kept under it stays within the directory that it was meant for.
//
//	path, err := within.Path(dir, device+".log")
//
// Whoever writes what was not there before opens it with [Create], which follows no link that
// leads out, either.
package within

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// ErrLeadsOut says that a name cannot be that of a file in its directory.
var ErrLeadsOut = errors.New("it cannot be the name of a file in a directory")

// Path is the path of what is named in a directory, each name one step down. The error is
// [ErrLeadsOut] where one of them is no such step: empty, "." or "..", a path of its own.
func Path(dir string, names ...string) (string, error) {
	at := dir
	for _, name := range names {
		if !filepath.IsLocal(name) || name == "." || strings.ContainsAny(name, "/\\\x00") {
			return "", fmt.Errorf("%q: %w", name, ErrLeadsOut)
		}
		at = filepath.Join(at, name)
	}
	return at, nil
}

// Create makes a new file below a directory, and the directories on its way. Whatever it is
// named after, it leads nowhere else: not by its name, and not over a link. One that is there
// stays as it is: the error is then [fs.ErrExist].
func Create(dir, file string, mode fs.FileMode) (*os.File, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	name, err := filepath.Rel(dir, file)
	if err != nil {
		return nil, err
	}
	if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return nil, err
	}
	return root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
}

// Match lists the files of a directory whose names have a pattern, as [path.Match] reads it,
// in the order of their names. What stands in the directory's own path is no pattern. A
// directory that is not there has none.
func Match(dir, pattern string) (paths []string, err error) {
	files, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, f := range files {
		is, bad := filepath.Match(pattern, f.Name())
		if bad != nil {
			return nil, bad
		}
		if is {
			paths = append(paths, filepath.Join(dir, f.Name()))
		}
	}
	return paths, err
}
