package region

import (
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
)

// Witness is a request, or a connection of a tcp frontend, that stands for many.
type Witness struct {
	TCP    bool
	Method string
	Host   string
	Path   string
	Client netip.Addr // not valid: of a unix socket
	SNI    string
	Header []config.FieldPair
	Query  []config.FieldPair
	Cookie []config.FieldPair

	said map[kind]bool // parts that a route asks for
	odd  int           // see atom.cost
}

// newWitness returns one that says nothing unusual.
func newWitness(tcp bool) *Witness {
	return &Witness{TCP: tcp, Method: "GET", Host: "tern.example", Path: "/", Client: netip.MustParseAddr("203.0.113.9"), said: map[kind]bool{}}
}

// set gives a part of it a value.
func (w *Witness) set(d *dimension, a *atom) {
	w.said[d.kind] = true
	w.odd += a.cost()
	pair := config.FieldPair{Name: config.Placed[string]{Value: d.name}, Value: config.Placed[string]{Value: a.text}}
	switch d.kind {
	case hostKind:
		w.Host = a.text
	case pathKind:
		w.Path = a.text
	case methodKind:
		w.Method = a.text
	case clientKind:
		w.Client, _ = netip.ParseAddr(a.text) // of no address: none
	case sniKind:
		w.SNI = a.text
	case headerKind:
		w.Header = add(w.Header, pair, a.absent)
	case queryKind:
		w.Query = add(w.Query, pair, a.absent)
	case cookieKind:
		w.Cookie = add(w.Cookie, pair, a.absent)
	}
}

func add(to []config.FieldPair, pair config.FieldPair, absent bool) []config.FieldPair {
	if absent {
		return to
	}
	return append(to, pair)
}

// cost orders witnesses, the most plausible first.
func (w *Witness) cost() int { return w.odd }

// finish settles what depends on several parts.
func (w *Witness) finish() {
	if w.Path == "*" {
		w.Method = "OPTIONS"
	}
}

// Request returns it as package request makes one of what comes over the wire.
func (w *Witness) Request() request.Request {
	if w.TCP {
		return request.OfConnection(w.Client, w.SNI)
	}
	host := w.Host
	if len(host) > 1 && strings.HasSuffix(host, ".") {
		host += "." // of which one goes
	}
	q, _ := request.Of(w.Method, host, w.Path)
	q.Client, q.SNI = w.Client, w.SNI
	q.Header = func(name string) (string, bool) {
		for _, p := range w.Header {
			if strings.EqualFold(p.Name.Value, name) {
				return p.Value.Value, true
			}
		}
		return "", false
	}
	q.Query = request.Query(w.RawQuery())
	var lines []string
	for _, p := range w.Cookie {
		lines = append(lines, p.Name.Value+"="+p.Value.Value)
	}
	q.Cookie = request.Cookies(lines)
	return q
}

// RawQuery returns its query as it is sent, without "?".
func (w *Witness) RawQuery() string {
	var parts []string
	for _, p := range w.Query {
		parts = append(parts, url.QueryEscape(p.Name.Value)+"="+url.QueryEscape(p.Value.Value))
	}
	return strings.Join(parts, "&")
}

// String words it.
func (w *Witness) String() string {
	var more []string
	if w.said[clientKind] {
		if w.Client.IsValid() {
			more = append(more, "from "+w.Client.String())
		} else {
			more = append(more, "over a unix socket")
		}
	}
	for _, p := range w.Header {
		more = append(more, "with "+p.Name.Value+": "+p.Value.Value)
	}
	for _, p := range w.Cookie {
		more = append(more, "with the cookie "+p.Name.Value+"="+p.Value.Value)
	}
	if w.SNI != "" {
		more = append(more, "with "+w.SNI+" in its TLS handshake")
	} else if w.said[sniKind] {
		more = append(more, "with no name in a TLS handshake")
	}
	if w.TCP {
		return strings.Join(slices.Insert(more, 0, "a connection"), " ")
	}
	target := w.Path
	if w.Query != nil {
		target += "?" + w.RawQuery()
	}
	host := w.Host
	if host == "" {
		more = append(more, "with no host")
	}
	if w.Path == "*" { // of the server, and not of something on it
		return strings.Join(slices.Insert(more, 0, "OPTIONS * with Host: "+host), " ")
	}
	return strings.Join(slices.Insert(more, 0, w.Method+" http://"+host+target), " ")
}
