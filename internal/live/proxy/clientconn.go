package proxy

import (
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"syscall"

	"kestrix/internal/live/socket"
	"kestrix/internal/live/wire"
)

// clientConn is the state of the connection that requests come over.
type clientConn struct {
	peer   string // its address without port; "-" of a unix socket
	addr   netip.Addr
	tls    *tls.ConnectionState // nil: none
	secure string               // its version, such as 1.3; empty for none
	sni    string
	paced  *wire.Paced
	raw    syscall.RawConn // of HTTP in clear text; nil: none
	guard  *wire.Guard
	asked  uint64 // requests that have come by HTTP/1.1, one after the other
	stalls stalls // of HTTP/2
}

// guardedConn is a guarded connection with what is known of it.
type guardedConn struct {
	*wire.Guard
	conn *clientConn
}

// newClientConn takes down what is known of a connection on which requests are about to
// come: a *wire.Paced, or TLS over one.
func newClientConn(c net.Conn) *clientConn {
	v := &clientConn{}
	v.peer, v.addr = socket.ClientAddress(c.RemoteAddr().String())
	if t, ok := c.(*tls.Conn); ok {
		s := t.ConnectionState()
		v.tls, v.sni, v.secure = &s, strings.ToLower(s.ServerName), tlsVersion(s.Version)
		c = t.NetConn()
	}
	if v.paced, _ = c.(*wire.Paced); v.tls == nil {
		v.raw = wire.Raw(c)
	}
	return v
}

type clientConnKey struct{}

// arrive returns the requests of a connection its clientConn. It is called by the
// http server.
func arrive(ctx context.Context, c net.Conn) context.Context {
	if x, ok := c.(*guardedConn); ok {
		return context.WithValue(ctx, clientConnKey{}, x.conn)
	}
	return ctx
}

func clientConnOf(r *http.Request) *clientConn {
	v, _ := r.Context().Value(clientConnKey{}).(*clientConn)
	return v
}
