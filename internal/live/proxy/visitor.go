package proxy

import (
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"net/netip"
	"strings"

	"kestrix/internal/live/wire"
)

// visitor is what is known of the connection that requests come over.
type visitor struct {
	peer   string // its address without port; "-" of a unix socket
	addr   netip.Addr
	tls    *tls.ConnectionState // nil: none
	sni    string
	paced  *wire.Paced
	guard  *wire.Guard
	asked  uint64 // requests that have come by HTTP/1.1, one after the other
	stalls stalls // of HTTP/2
}

// guardedConn is a guarded connection with what is known of it.
type guardedConn struct {
	*wire.Guard
	visitor *visitor
}

// newVisitor takes down what is known of a connection on which requests are about to
// come: a *wire.Paced, or TLS over one.
func newVisitor(c net.Conn) *visitor {
	v := &visitor{}
	v.peer, v.addr = clientAddress(c.RemoteAddr().String())
	if t, ok := c.(*tls.Conn); ok {
		s := t.ConnectionState()
		v.tls, v.sni = &s, strings.ToLower(s.ServerName)
		c = t.NetConn()
	}
	v.paced, _ = c.(*wire.Paced)
	return v
}

type visitorKey struct{}

// arrive has requests of a connection know their visitor. It is called by the
// http server.
func arrive(ctx context.Context, c net.Conn) context.Context {
	if x, ok := c.(*guardedConn); ok {
		return context.WithValue(ctx, visitorKey{}, x.visitor)
	}
	return ctx
}

func visitorOf(r *http.Request) *visitor {
	v, _ := r.Context().Value(visitorKey{}).(*visitor)
	return v
}
