//go:build unix

package sim

import (
	"fmt"
	"net"
	"os"
	"syscall"
)

// hold takes a port and does not listen on it: the system refuses connections to
// it, and gives it to nobody else. Port 0 takes a free one.
func hold(host string, port int) (addr string, release func(), err error) {
	ip := net.ParseIP(host).To4()
	if ip == nil {
		return "", nil, fmt.Errorf("%s is not an IPv4 address", host)
	}
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	if err != nil {
		return "", nil, os.NewSyscallError("socket", err)
	}
	release = func() { _ = syscall.Close(fd) }
	syscall.CloseOnExec(fd)
	if err := syscall.Bind(fd, &syscall.SockaddrInet4{Port: port, Addr: [4]byte(ip)}); err != nil {
		release()
		return "", nil, os.NewSyscallError("bind", err)
	}
	name, err := syscall.Getsockname(fd)
	if err != nil {
		release()
		return "", nil, os.NewSyscallError("getsockname", err)
	}
	return net.JoinHostPort(host, fmt.Sprint(name.(*syscall.SockaddrInet4).Port)), release, nil
}
