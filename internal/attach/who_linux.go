package attach

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"strconv"

	"golang.org/x/sys/unix"
)

// Who tells who is at the other end of a connection, as the system knows it. Nobody but the one
// who runs the night, and root, is let in.
func Who(c net.Conn) (string, error) {
	u, is := c.(*net.UnixConn)
	if !is {
		return "", errors.New("who is at the other end cannot be told")
	}
	raw, err := u.SyscallConn()
	if err != nil {
		return "", err
	}
	var cred *unix.Ucred
	var err2 error
	err = raw.Control(func(fd uintptr) { cred, err2 = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) })
	if err = errors.Join(err, err2); err != nil {
		return "", fmt.Errorf("who is at the other end cannot be told: %w", err)
	}
	if int(cred.Uid) != os.Getuid() && cred.Uid != 0 {
		return "", errors.New("only the user who runs the night, and root, can attach to it")
	}
	id := strconv.Itoa(int(cred.Uid))
	if known, err := user.LookupId(id); err == nil {
		return known.Username, nil
	}
	return "user " + id, nil
}
