package locks

import "golang.org/x/sys/unix"

// setLock locks for the open file, not for the process: two nights in one process
// exclude each other, too, and closing another descriptor of the file changes
// nothing (fcntl(2), "Open file description locks").
const setLock = unix.F_OFD_SETLK
