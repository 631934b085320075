package socket

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"
	"time"

	"github.com/pires/go-proxyproto"

	"kestrix/internal/live/wire"
)

// buffered is a connection of which a reader has read ahead.
type buffered struct {
	net.Conn
	r      *bufio.Reader // nil once its buffer is empty
	remote net.Addr
}

// NewBuffered returns a connection that is read from a reader's buffer first, and whose
// remote address is the given one.
func NewBuffered(c net.Conn, r *bufio.Reader, remote net.Addr) net.Conn {
	return &buffered{c, r, remote}
}

func (c *buffered) RemoteAddr() net.Addr { return c.remote }

func (c *buffered) Read(b []byte) (int, error) {
	if c.r != nil {
		if c.r.Buffered() > 0 {
			return c.r.Read(b)
		}
		c.r = nil
	}
	return c.Conn.Read(b)
}

// SyscallConn gives access to the connection itself, to write to: what was read ahead is here.
func (c *buffered) SyscallConn() (syscall.RawConn, error) {
	if s, ok := c.Conn.(syscall.Conn); ok {
		return s.SyscallConn()
	}
	return nil, errors.ErrUnsupported
}

// CloseWrite ends one direction, where the connection can.
func (c *buffered) CloseWrite() error { return wire.CloseWrite(c.Conn) }

// ReadProxyHeader reads the header of a connection, which only a trusted proxy
// may send. A header that names nobody (LOCAL, UNKNOWN), as those of a proxy's
// own health checks, leaves the peer as it is.
func ReadProxyHeader(c net.Conn, within time.Duration) (net.Conn, error) {
	r := bufio.NewReaderSize(c, 1<<10)
	h, err := proxyproto.ReadHeaderTimeout(c, r, within)
	if err != nil {
		return nil, fmt.Errorf("it does not begin with a PROXY protocol header: %w", err)
	}
	remote := c.RemoteAddr()
	if src, _, ok := h.TCPAddrs(); ok && !h.Command.IsLocal() {
		remote = src
	}
	return NewBuffered(c, r, remote), nil
}

// clientKeyType is the key under which a dial finds for whom it is made.
type clientKeyType struct{}

// WithClient has a connection that is dialled under a context be for a client.
func WithClient(ctx context.Context, client, listener net.Addr) context.Context {
	return context.WithValue(ctx, clientKeyType{}, [2]net.Addr{client, listener})
}

// WriteProxyHeader begins a connection to a backend by naming the client. Where
// there is none, as for probes, it says that the proxy speaks for itself.
func WriteProxyHeader(ctx context.Context, c net.Conn, version string) error {
	v := byte(1)
	if version == "v2" {
		v = 2
	}
	h := &proxyproto.Header{Version: v, Command: proxyproto.LOCAL, TransportProtocol: proxyproto.UNSPEC}
	if pair, ok := ctx.Value(clientKeyType{}).([2]net.Addr); ok {
		src, dst := tcpAddress(pair[0]), tcpAddress(pair[1])
		if src != nil && dst != nil {
			if src.IP.To4() == nil != (dst.IP.To4() == nil) {
				// The two families have no common form but IPv6.
				src, dst = sixteen(src), sixteen(dst)
			}
			h = proxyproto.HeaderProxyFromAddrs(v, src, dst)
		}
	}
	_, err := h.WriteTo(c)
	return err
}

func tcpAddress(a net.Addr) *net.TCPAddr {
	if a == nil {
		return nil
	}
	ap, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return nil
	}
	return net.TCPAddrFromAddrPort(netip.AddrPortFrom(ap.Addr().Unmap().WithZone(""), ap.Port()))
}

// sixteen returns an IPv4 address in the form of an IPv6 one that is not mapped,
// since a mapped one would be taken for IPv4 again: 64:ff9b::/96 (RFC 6052).
func sixteen(a *net.TCPAddr) *net.TCPAddr {
	four := a.IP.To4()
	if four == nil {
		return a
	}
	ip := net.ParseIP("64:ff9b::")
	copy(ip[12:], four)
	return &net.TCPAddr{IP: ip, Port: a.Port}
}
