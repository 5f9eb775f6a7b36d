// Package locks keeps two nights from working on the same thing at once, on this
// machine. A lock is held by the process and is gone with it, however it ends.
//
// [File] locks a file, such as a workspace's journal, for one night. [Claims] are
// locks on devices: any number of them in one file, a byte each, so that ten
// thousand devices cost one open file. Both can say who holds what is wanted.
package locks

import (
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"metabasis/internal/store/within"
)

// Holder says who holds a lock.
type Holder struct {
	Who       string    `json:"who"`
	What      string    `json:"what"` // the night
	Workspace string    `json:"workspace"`
	PID       int       `json:"pid"`
	Since     time.Time `json:"since"`
}

func (h Holder) String() string {
	if h.PID == 0 {
		return "another night on this machine"
	}
	return fmt.Sprintf("%s, %q in %s, since %s (process %d)", h.Who, h.What, h.Workspace, h.Since.Local().Format("Mon 15:04:05"), h.PID)
}

// Held is what somebody else holds.
type Held struct {
	What string
	By   Holder
}

func (e *Held) Error() string { return e.What + " is taken by " + e.By.String() }

// Lock is a file that is held.
type Lock struct{ f *os.File }

// File takes a lock on a file, which is made if need be and says who holds it. The
// error is a [Held] when somebody else does.
func File(path, what string, h Holder) (*Lock, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := try(f, unix.F_WRLCK, 0, 0); err != nil {
		defer f.Close()
		if !busy(err) {
			return nil, fmt.Errorf("locking %s: %w", path, err)
		}
		return nil, &Held{what, read(f)}
	}
	if err := write(f, h); err != nil {
		f.Close()
		return nil, err
	}
	return &Lock{f}, nil
}

// Look tells who holds a lock on a file, if anybody does.
func Look(path string) (Holder, bool) {
	f, err := os.Open(path)
	if err != nil {
		return Holder{}, false
	}
	defer f.Close()
	if err := try(f, unix.F_RDLCK, 0, 0); err == nil || !busy(err) {
		return Holder{}, false
	}
	return read(f), true
}

// Close gives the lock free.
func (l *Lock) Close() error { return l.f.Close() }

// try locks a range of a file; length 0 is all of it.
func try(f *os.File, kind int16, start, length int64) error {
	return unix.FcntlFlock(f.Fd(), setLock, &unix.Flock_t{Type: kind, Whence: io.SeekStart, Start: start, Len: length})
}

func busy(err error) bool { return errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EACCES) }

func write(f *os.File, h Holder) error {
	line, err := json.Marshal(h)
	if err != nil {
		return err
	}
	if err := f.Truncate(0); err != nil {
		return err
	}
	_, err = f.WriteAt(append(line, '\n'), 0)
	return err
}

// read reads who holds a file; what cannot be read is nobody known.
func read(f *os.File) (h Holder) {
	line, _, _ := strings.Cut(contents(f), "\n")
	_ = json.Unmarshal([]byte(line), &h)
	return h
}

func contents(f *os.File) string {
	b, _ := io.ReadAll(io.NewSectionReader(f, 0, 4<<20))
	return string(b)
}

// Claims are the devices that one night holds.
type Claims struct {
	dir   string
	bytes *os.File // a byte a device, found by its name's hash
	own   *os.File // says who we are and what we hold; locked as long as we live

	mu   sync.Mutex
	held map[string]bool
}

const allClaims = "devices.lock"

// OpenClaims opens the claims of this machine in a directory, which all its users
// share.
func OpenClaims(dir string, h Holder) (*Claims, error) {
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return nil, fmt.Errorf("claims: %w", err)
	}
	_ = os.Chmod(dir, 0o777|os.ModeSticky) // past the umask; another user's stays as it is
	all, err := shared(filepath.Join(dir, allClaims))
	if err != nil {
		return nil, fmt.Errorf("claims: %w", err)
	}
	own, err := os.CreateTemp(dir, "night-*.json")
	if err == nil {
		err = errors.Join(own.Chmod(0o644), try(own, unix.F_WRLCK, 0, 0), write(own, h))
	}
	if err != nil {
		all.Close()
		return nil, fmt.Errorf("claims: %w", err)
	}
	return &Claims{dir: dir, bytes: all, own: own, held: map[string]bool{}}, nil
}

// shared opens a file that every user of the machine may lock in.
func shared(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR, 0) // without O_CREATE first: it may be another user's
	if errors.Is(err, os.ErrNotExist) {
		if f, err = os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o666); err == nil {
			_ = f.Chmod(0o666)
		}
	}
	return f, err
}

// place is the byte of a device.
func place(key string) int64 {
	h := fnv.New64a()
	_, _ = io.WriteString(h, strings.ToLower(key))
	return int64(h.Sum64() >> 2)
}

// Take claims a device by its address and port. What is ours already stays ours.
// The error is a [Held] when another night has it.
func (c *Claims) Take(key string) error { return c.TakeAll([]string{key})[key] }

// TakeAll claims many devices and returns what kept it from some of them.
func (c *Claims) TakeAll(keys []string) map[string]error {
	c.mu.Lock()
	defer c.mu.Unlock()
	failed, fresh := map[string]error{}, false
	for _, key := range keys {
		if c.held[key] {
			continue
		}
		if err := c.take(key); err != nil {
			failed[key] = err
			continue
		}
		fresh = true
	}
	if fresh {
		_ = c.note() // the claims themselves stand; only who has them cannot be told
	}
	return failed
}

func (c *Claims) take(key string) error {
	err := try(c.bytes, unix.F_WRLCK, place(key), 1)
	switch {
	case err == nil:
	case busy(err):
		return &Held{key, c.holder(key)}
	default:
		return fmt.Errorf("claiming %s: %w", key, err)
	}
	c.held[key] = true
	return nil
}

// Release gives a device free.
func (c *Claims) Release(key string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.held[key] {
		delete(c.held, key)
		_ = try(c.bytes, unix.F_UNLCK, place(key), 1)
		_ = c.note()
	}
}

// note writes down what we hold, for those who want it.
func (c *Claims) note() error {
	h := read(c.own)
	if err := write(c.own, h); err != nil {
		return err
	}
	end, err := c.own.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	var b strings.Builder
	for key := range c.held {
		b.WriteString(key + "\n")
	}
	_, err = c.own.WriteAt([]byte(b.String()), end)
	return err
}

// holder finds the night that holds a device, and clears away what dead nights left.
func (c *Claims) holder(key string) Holder {
	paths, _ := within.Match(c.dir, "night-*.json")
	for _, p := range paths {
		if p == c.own.Name() {
			continue
		}
		f, err := os.Open(p)
		if err != nil {
			continue
		}
		text, h := contents(f), read(f)
		alive := try(f, unix.F_RDLCK, 0, 0) != nil
		f.Close()
		if !alive {
			_ = os.Remove(p)
			continue
		}
		if strings.Contains(text, "\n"+key+"\n") {
			return h
		}
	}
	return Holder{}
}

// Close gives everything free.
func (c *Claims) Close() error {
	_ = os.Remove(c.own.Name())
	return errors.Join(c.bytes.Close(), c.own.Close())
}

// Dir is where the claims of this machine are: METABASIS_CLAIMS, or a directory
// that is emptied when the machine starts.
func Dir(getenv func(string) string) string {
	if dir := getenv("METABASIS_CLAIMS"); dir != "" {
		return dir
	}
	for _, dir := range []string{"/run/lock", "/var/lock"} {
		if unix.Access(dir, unix.W_OK) == nil {
			return filepath.Join(dir, "metabasis")
		}
	}
	return filepath.Join(os.TempDir(), "metabasis-claims")
}
