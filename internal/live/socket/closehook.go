package socket

import (
	"errors"
	"net"
	"net/netip"
	"sync"
	"syscall"

	"kestrix/internal/live/wire"
)

// CloseHook tells once that a connection was closed.
type CloseHook struct {
	net.Conn
	once   sync.Once
	Closed func()
}

// Close closes the connection, and tells that the first time.
func (c *CloseHook) Close() error {
	c.once.Do(c.Closed)
	return c.Conn.Close()
}

// SyscallConn gives access to the connection itself.
func (c *CloseHook) SyscallConn() (syscall.RawConn, error) {
	if s, ok := c.Conn.(syscall.Conn); ok {
		return s.SyscallConn()
	}
	return nil, errors.ErrUnsupported
}

// CloseWrite ends one direction, where the connection can.
func (c *CloseHook) CloseWrite() error { return wire.CloseWrite(c.Conn) }

// ClientAddress is the address of who asks, without port.
func ClientAddress(remote string) (string, netip.Addr) {
	host, _, err := net.SplitHostPort(remote)
	if err != nil {
		return "-", netip.Addr{} // a unix socket has none
	}
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return host, netip.Addr{}
	}
	ip = ip.Unmap().WithZone("")
	return ip.String(), ip
}
