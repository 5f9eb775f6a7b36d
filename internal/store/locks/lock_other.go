//go:build unix && !linux

package locks

import "golang.org/x/sys/unix"

// setLock locks for the process (fcntl(2)).
const setLock = unix.F_SETLK
