package proxy

import (
	"net"
	"net/http"
	"net/netip"
	"strings"

	"kestrix/internal/core/peer"
)

// hopByHop are the fields that belong to one connection and are not passed on
// (RFC 9110 section 7.6.1), besides those that Connection names.
var hopByHop = []string{
	"Connection", "Keep-Alive", "Proxy-Connection", "Proxy-Authenticate", "Proxy-Authorization", "Te", "Trailer", "Transfer-Encoding", "Upgrade",
}

func removeHopByHop(h http.Header) {
	for _, line := range h["Connection"] {
		for name := range strings.SplitSeq(line, ",") {
			if name = strings.TrimSpace(name); name != "" {
				h.Del(name)
			}
		}
	}
	for _, name := range hopByHop {
		delete(h, name)
	}
}

// who finds out who asks: the peer of the connection, or whom it names if it is
// a trusted proxy.
func (x *exchange) who(e *entry) netip.Addr {
	r := x.r
	addr := x.conn.addr
	x.peer, x.client, x.scheme = x.conn.peer, x.conn.peer, "http"
	if x.conn.tls != nil {
		x.scheme = "https"
	}
	if e == nil || len(e.trusted) == 0 || !peer.Inside(e.trusted, addr) {
		return addr
	}
	x.trusted, x.believed = true, e.forward
	if proto := r.Header.Get("X-Forwarded-Proto"); proto == "http" || proto == "https" {
		x.scheme = proto
	}
	var chain []netip.Addr
	if e.forward == "forwarded" {
		chain = peer.Forwarded(r.Header["Forwarded"])
	} else {
		chain = peer.XForwardedFor(r.Header["X-Forwarded-For"])
	}
	addr = peer.Client(addr, e.trusted, chain)
	x.client = addr.String()
	return addr
}

// forwarded writes who asked, for whom the backend would otherwise take this
// proxy. What a client says of itself was left out; what a trusted proxy says is
// added to, in the field that is believed.
func (x *exchange) forwarded(h http.Header) {
	host := x.r.Host
	if said := h["X-Forwarded-Host"]; x.trusted && len(said) > 0 {
		host = said[0]
	} else if host != "" {
		h["X-Forwarded-Host"] = []string{host}
	}
	h["X-Forwarded-Proto"] = []string{x.scheme}
	element := "for=" + peer.Node(x.client) + ";proto=" + x.scheme
	if host != "" {
		element += ";host=" + peer.Quote(host)
	}
	hops := forwardedFor(x.client)
	if x.client != x.peer {
		hops += ", " + forwardedFor(x.peer)
		element += ", for=" + peer.Node(x.peer)
	}
	if x.trusted {
		if said := h["X-Forwarded-For"]; len(said) > 0 && !x.byStandard() {
			hops = strings.Join(said, ", ") + ", " + forwardedFor(x.peer)
		}
		if said := h["Forwarded"]; len(said) > 0 && x.byStandard() {
			element = strings.Join(said, ", ") + ", for=" + peer.Node(x.peer)
		}
	}
	h["X-Forwarded-For"], h["Forwarded"] = []string{hops}, []string{element}
}

// byStandard reports whether Forwarded is the field that is believed.
func (x *exchange) byStandard() bool { return x.believed == "forwarded" }

func forwardedFor(client string) string {
	if client == "-" {
		return "unknown" // of a unix socket
	}
	return client
}

// addVia notes that a message went through here (RFC 9110 section 7.6.3).
func addVia(h http.Header, major, minor int) {
	version := "1.1"
	if major == 1 && minor == 0 {
		version = "1.0"
	} else if major == 2 {
		version = "2"
	}
	via := version + " kestrix"
	if old := h["Via"]; len(old) > 0 {
		via = strings.Join(old, ", ") + ", " + via
	}
	h["Via"] = []string{via}
}

// remoteAddr is an address that was written as text.
func remoteAddr(s string) net.Addr {
	ap, err := netip.ParseAddrPort(s)
	if err != nil {
		return nil
	}
	return net.TCPAddrFromAddrPort(ap)
}
