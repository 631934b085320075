package wire

import (
	"crypto/tls"
	"errors"
	"net"
	"os"
	"syscall"
	"time"
)

// Alive reports whether a connection that is not in use is still open and has nothing
// to read. Where no look can be taken it is taken to be. A deadline for reading
// has to be set anew.
func (c *Conn) Alive() bool {
	under := c.Conn
	if t, ok := under.(*tls.Conn); ok {
		// It may hold what it has read already.
		var b [1]byte
		if err := t.SetReadDeadline(time.Unix(1, 0)); err != nil {
			return false
		}
		if _, err := t.Read(b[:]); !errors.Is(err, os.ErrDeadlineExceeded) {
			return false
		}
		under = t.NetConn()
	}
	s, ok := under.(syscall.Conn)
	if !ok {
		return true
	}
	raw, err := s.SyscallConn()
	if errors.Is(err, errors.ErrUnsupported) {
		return true
	}
	if err != nil {
		return false
	}
	var seen error
	err = raw.Control(func(fd uintptr) {
		var b [1]byte
		_, _, seen = syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
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
