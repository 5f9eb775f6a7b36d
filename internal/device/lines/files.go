package lines

import (
	"context"
	"fmt"
	"maps"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
)

// Sum is the SHA-256 of a file on the device; known is false where its profile does not say how that is
// asked.
func (s *Session) Sum(ctx context.Context, path string) (sum string, known bool, err error) {
	f := s.p.Files
	if f.Sum.Send == "" {
		return "", false, nil
	}
	if why := profile.PathSafe(path); why != "" {
		return "", false, &driver.Refused{Line: path, Said: why}
	}
	s.patience = sumTakes
	defer func() { s.patience = 0 }()
	got, err := s.command(ctx, f.Sum, map[string]string{"path": path})
	if err != nil {
		return "", false, err
	}
	if sum, err = f.ParseSum(got); err != nil {
		return "", false, &driver.Unclear{Asked: fill(f.Sum.Send, map[string]string{"path": path}), Got: err.Error()}
	}
	return sum, true, nil
}

// Free is how many bytes are free, where its profile says which table tells that.
func (s *Session) Free(ctx context.Context) (free int64, known bool, err error) {
	table, column := s.p.Files.FreeAt()
	if table == "" {
		return 0, false, nil
	}
	got, err := s.Read(ctx, table)
	if err != nil {
		return 0, false, err
	}
	row, _ := got.(map[string]any)
	n, ok := row[column].(float64)
	if !ok {
		return 0, false, &driver.Unclear{Asked: s.p.Files.Free, Got: fmt.Sprint(row[column])}
	}
	return int64(n), true, nil
}

// sumTakes is how long a device may reckon over a large file.
const sumTakes = 10 * time.Minute

// Fetch has the device fetch a file that is offered to it.
func (s *Session) Fetch(ctx context.Context, from map[string]string, path string) error {
	if why := profile.PathSafe(path); why != "" {
		return &driver.Refused{Line: path, Said: why}
	}
	vars := map[string]string{"path": path}
	maps.Copy(vars, from)
	s.patience = s.p.Files.Takes
	defer func() { s.patience = 0 }()
	_, err := s.command(ctx, s.p.Files.Fetch, vars)
	return err
}

// Rename gives a file on the device another name.
func (s *Session) Rename(ctx context.Context, from, to string) error {
	_, err := s.command(ctx, s.p.Files.Rename, map[string]string{"path": from, "to": to})
	return err
}

// Remove takes a file off the device; can is false where its profile does not say how.
func (s *Session) Remove(ctx context.Context, path string) (can bool, err error) {
	if s.p.Files.Remove.Send == "" {
		return false, nil
	}
	if why := profile.PathSafe(path); why != "" {
		return true, &driver.Refused{Line: path, Said: why}
	}
	_, err = s.command(ctx, s.p.Files.Remove, map[string]string{"path": path})
	return true, err
}
