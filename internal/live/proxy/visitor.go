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
	peer  string // its address without port; "-" of a unix socket
	addr  netip.Addr
	tls   *tls.ConnectionState // nil: none
	sni   string
	guard *wire.Guard // nil with HTTP/2 over TLS
	asked uint64      // requests that have come by HTTP/1.1, one after the other
}

type visitorKey struct{}

// arrive has requests of a connection know their visitor. It is called by the
// http server.
func arrive(ctx context.Context, c net.Conn) context.Context {
	v := &visitor{}
	v.peer, v.addr = clientAddress(c.RemoteAddr().String())
	secure, _ := c.(*tls.Conn)
	if g, ok := c.(*wire.Guard); ok {
		v.guard = g
		secure, _ = g.Conn.(*tls.Conn)
	}
	if secure != nil {
		s := secure.ConnectionState()
		v.tls, v.sni = &s, strings.ToLower(s.ServerName)
	}
	return context.WithValue(ctx, visitorKey{}, v)
}

func visitorOf(r *http.Request) *visitor {
	v, _ := r.Context().Value(visitorKey{}).(*visitor)
	return v
}
