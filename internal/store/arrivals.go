package store

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sync"

	"metabasis/internal/core/freight"
)

// Arrivals keeps which files are on which devices, as they were when they got there: a line each, only
// ever added, the last of a path on a device counting.
type Arrivals struct {
	file string
	mu   sync.Mutex
}

// OpenArrivals keeps them in a file, which need not exist.
func OpenArrivals(file string) *Arrivals { return &Arrivals{file: file} }

// Note notes that a file is there, durably.
func (a *Arrivals) Note(arrival freight.Arrival) error {
	line, err := json.Marshal(arrival)
	if err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := appendLine(a.file, string(line)); err != nil {
		return fmt.Errorf("noting that it arrived: %w", err)
	}
	return nil
}

// Last is what is noted of each path on each device. A line that cannot be read says nothing: one may have
// been cut off.
func (a *Arrivals) Last() (map[[2]string]freight.Arrival, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	f, err := os.Open(a.file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out := map[[2]string]freight.Arrival{}
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var one freight.Arrival
		if json.Unmarshal(lines.Bytes(), &one) == nil && one.Device != "" {
			out[[2]string{one.Device, one.Path}] = one
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("%s: %w", a.file, err)
	}
	return out, nil
}
