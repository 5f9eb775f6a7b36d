//go:build !linux

package attach

import (
	"net"
	"os/user"
)

// Who tells who is at the other end of a connection: here the system lets nobody connect but the
// one who runs the night, and root, and which of them it is is not asked.
func Who(net.Conn) (string, error) {
	u, err := user.Current()
	if err != nil {
		return "", err
	}
	return u.Username, nil
}
