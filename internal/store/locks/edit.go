package locks

import (
	"errors"
	"fmt"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// editWithin is how long somebody waits who wants to change a file that another process is
// changing: that takes moments.
const editWithin = 15 * time.Second

// Editing does something while nobody else who asks here changes files in a directory: what
// is read, changed and written back is read and written by one at a time. The directory
// itself is locked (flock(2)), so nothing is left in it; who is killed gives it free.
func Editing(dir string, do func() error) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	for by := time.Now().Add(editWithin); ; {
		err := unix.Flock(int(d.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		switch {
		case err == nil:
			return do()
		case errors.Is(err, unix.EINTR):
			continue
		case !errors.Is(err, unix.EWOULDBLOCK):
			return fmt.Errorf("locking %s to change a file in it: %w", dir, err)
		case time.Now().After(by):
			return fmt.Errorf("another process is changing files in %s, and was not done within %s: nothing was changed", dir, editWithin)
		}
		time.Sleep(10 * time.Millisecond)
	}
}
