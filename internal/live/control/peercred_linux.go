package control

import (
	"net"
	"syscall"
)

// peerUID returns the user of the process at the other end of a unix socket
// (SO_PEERCRED, unix(7)).
func peerUID(c net.Conn) (uid uint32, ok bool) {
	s, isConn := c.(syscall.Conn)
	if !isConn {
		return 0, false
	}
	raw, err := s.SyscallConn()
	if err != nil {
		return 0, false
	}
	err = raw.Control(func(fd uintptr) {
		cred, err := syscall.GetsockoptUcred(int(fd), syscall.SOL_SOCKET, syscall.SO_PEERCRED)
		if err == nil {
			uid, ok = cred.Uid, true
		}
	})
	return uid, ok && err == nil
}
