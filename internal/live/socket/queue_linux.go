package socket

import (
	"net"
	"os"
	"syscall"
)

// CloseAccepting closes a listener, and returns the connections that stood in its queue
// by then: the system resets those that nobody has accepted when it closes one. It is for
// a listener of TCP or a unix socket on which no Accept waits; of others it returns none.
func CloseAccepting(l net.Listener) (waiting []net.Conn) {
	s, ok := l.(syscall.Conn)
	if !ok {
		l.Close()
		return nil
	}
	raw, err := s.SyscallConn()
	if err != nil {
		l.Close()
		return nil
	}
	var accepted []int
	err = raw.Control(func(fd uintptr) {
		for {
			c, _, err := syscall.Accept4(int(fd), syscall.SOCK_NONBLOCK|syscall.SOCK_CLOEXEC)
			if err == syscall.EINTR || err == syscall.ECONNABORTED {
				continue
			}
			if err != nil { // EAGAIN: there is none
				break
			}
			accepted = append(accepted, c)
		}
	})
	l.Close()
	if err != nil {
		return nil
	}
	for _, fd := range accepted {
		f := os.NewFile(uintptr(fd), "accepted")
		if c, err := net.FileConn(f); err == nil {
			waiting = append(waiting, c)
		}
		f.Close() // FileConn has its own
	}
	return waiting
}
