package wire

import (
	"crypto/tls"
	"errors"
	"net"
	"syscall"
)

// Alive says whether a connection that was not used for a while is still open,
// by a look that takes nothing from it. Where no look can be taken it is taken
// to be.
func (c *Conn) Alive() bool {
	under := c.Conn
	if t, ok := under.(*tls.Conn); ok {
		under = t.NetConn()
	}
	s, ok := under.(syscall.Conn)
	if !ok {
		return true
	}
	raw, err := s.SyscallConn()
	if err != nil {
		return false
	}
	var seen error
	err = raw.Read(func(fd uintptr) bool {
		var b [1]byte
		_, _, seen = syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		return true
	})
	// Anything that is there, be it an end, is not for the next request.
	return err == nil && (errors.Is(seen, syscall.EAGAIN) || errors.Is(seen, syscall.EINTR))
}

// halfCloser is a connection whose directions end one by one.
type halfCloser interface{ CloseWrite() error }

// CloseWrite ends the direction towards the peer of a connection, and all of it
// where it has no directions.
func CloseWrite(c net.Conn) error {
	if h, ok := c.(halfCloser); ok {
		return h.CloseWrite()
	}
	return c.Close()
}
