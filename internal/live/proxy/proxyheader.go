package proxy

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"

	"kestrix/internal/live/wire"

	"github.com/pires/go-proxyproto"
)

// namedPeer is a connection that began with a PROXY protocol header: its remote
// address is the one the header names.
type namedPeer struct {
	net.Conn
	r      *bufio.Reader // what came after the header; nil once it is read
	remote net.Addr
}

func (c *namedPeer) RemoteAddr() net.Addr { return c.remote }

func (c *namedPeer) Read(b []byte) (int, error) {
	if c.r != nil {
		if c.r.Buffered() > 0 {
			return c.r.Read(b)
		}
		c.r = nil
	}
	return c.Conn.Read(b)
}

// CloseWrite ends one direction, where the connection can.
func (c *namedPeer) CloseWrite() error { return wire.CloseWrite(c.Conn) }

// readProxyHeader reads the header of a connection, which only a trusted proxy
// may send. A header that names nobody (LOCAL, UNKNOWN), as those of a proxy's
// own health checks, leaves the peer as it is.
func readProxyHeader(c net.Conn, e *entry) (net.Conn, error) {
	if !e.trusts(c.RemoteAddr()) {
		return nil, errors.New("it is not one of trusted_proxies, and only those may name clients")
	}
	r := bufio.NewReaderSize(c, 1<<10)
	h, err := proxyproto.ReadHeaderTimeout(c, r, e.frontend.Timeouts.RequestHeader)
	if err != nil {
		return nil, fmt.Errorf("it does not begin with a PROXY protocol header: %w", err)
	}
	named := &namedPeer{Conn: c, r: r, remote: c.RemoteAddr()}
	if src, _, ok := h.TCPAddrs(); ok && !h.Command.IsLocal() {
		named.remote = src
	}
	return named, nil
}

// clientKeyType is the key under which a dial finds for whom it is made.
type clientKeyType struct{}

// forClient has a connection that is dialled under a context be for a client.
func forClient(ctx context.Context, client, listener net.Addr) context.Context {
	return context.WithValue(ctx, clientKeyType{}, [2]net.Addr{client, listener})
}

// writeProxyHeader begins a connection to a backend by naming the client. Where
// there is none, as for probes, it says that the proxy speaks for itself.
func writeProxyHeader(ctx context.Context, c net.Conn, version string) error {
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
