package socket

import (
	"context"
	"net"
	"syscall"

	"golang.org/x/sys/unix"
)

// ListenBeside opens a listener of TCP whose address contains one of those that are open,
// as 0.0.0.0:80 does 192.0.2.7:80, or the other way about. The system allows that where
// both sockets have SO_REUSEPORT (socket(7)) when the second is bound; they have it for
// this moment only, so that nobody else gets a port that is in use.
func ListenBeside(open []net.Listener, network, address string) (net.Listener, error) {
	for _, l := range open {
		if s, ok := l.(syscall.Conn); ok {
			if c, err := s.SyscallConn(); err == nil && reusePort(c, 1) == nil {
				defer func() { _ = reusePort(c, 0) }()
			}
		}
	}
	var bound syscall.RawConn
	config := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		bound = c
		return reusePort(c, 1)
	}}
	l, err := config.Listen(context.Background(), network, address)
	if err == nil {
		_ = reusePort(bound, 0) // it has done its work
	}
	return l, err
}

func reusePort(c syscall.RawConn, on int) error {
	var err error
	if e := c.Control(func(fd uintptr) { err = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEPORT, on) }); e != nil {
		return e
	}
	return err
}
