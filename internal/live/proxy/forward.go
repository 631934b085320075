package proxy

import (
	"net/http"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/rewrite"
	"kestrix/internal/live/pool"
	"kestrix/internal/live/wire"
)

// wireRequest makes the head of the request that a backend gets.
func (x *exchange) wireRequest() *wire.Request {
	r := x.r
	q := &x.out
	*q = wire.Request{
		Method: r.Method, Target: r.RequestURI, Host: r.Host, Header: x.fields(), Upgrade: x.upgrade, TE: x.trailers,
		Length: r.ContentLength, HasBody: x.body != nil || len(r.Header["Content-Length"]) > 0,
	}
	switch {
	case x.body == nil:
		q.Length = 0
	case x.body.whole:
		q.Length = int64(len(x.body.kept))
	}
	if !strings.HasPrefix(q.Target, "/") && q.Target != "*" || !wire.Plain(q.Target) {
		// Of an absolute one, the host was taken from it; one that HTTP/2 let
		// through with odd characters is what the route saw, in escapes.
		q.Target = r.URL.RequestURI()
	}
	if rw := x.route.Rewrite; rw != nil {
		if rw.Host != "" {
			q.Host = rw.Host
		}
		if q.Target != "*" && rewrite.ChangesPath(rw) {
			_, query, has := strings.Cut(q.Target, "?")
			if q.Target = rewrite.Path(rw, x.request.Path); has {
				q.Target += "?" + query
			}
		}
	}
	return q
}

// fields makes the header fields that a backend gets: those of the client
// without those that belong to its connection (RFC 9110 section 7.6.1), and who
// asked.
func (x *exchange) fields() http.Header {
	r := x.r
	h := make(http.Header, len(r.Header)+6)
	for name, v := range r.Header {
		switch name {
		case "Connection", "Keep-Alive", "Proxy-Connection", "Proxy-Authenticate", "Proxy-Authorization", "Te", "Trailer", "Transfer-Encoding", "Upgrade", "Content-Length":
			continue
		}
		if x.claims(name) || name == "Expect" && !x.expects {
			continue
		}
		h[name] = v
	}
	for _, line := range r.Header["Connection"] {
		for name := range strings.SplitSeq(line, ",") {
			if name = strings.TrimSpace(name); name != "" && !strings.EqualFold(name, "close") && !strings.EqualFold(name, "keep-alive") {
				h.Del(name)
			}
		}
	}
	x.hideSeat(h)
	if x.body != nil && len(r.Trailer) > 0 {
		for name := range r.Trailer {
			h["Trailer"] = append(h["Trailer"], name)
		}
	}
	x.forwarded(h)
	if prefix := rewrite.Dropped(x.route.Rewrite, x.request.Path); prefix != "" {
		// What a trusted proxy has dropped stands before; nobody else is believed.
		h["X-Forwarded-Prefix"] = []string{strings.TrimSuffix(h.Get("X-Forwarded-Prefix"), "/") + prefix}
	}
	addVia(h, r.ProtoMajor, r.ProtoMinor)
	x.carryID(h)
	x.carryTrace(h)
	if x.route.Headers != nil {
		rewrite.Fields(h, x.route.Headers.Request, x.facts())
	}
	return h
}

// claims reports whether a field is one by which applications trust their proxy,
// and the client, which is not trusted, sets it. Underscores count as well: some
// applications cannot tell the two apart.
func (x *exchange) claims(name string) bool {
	if x.trusted {
		return false
	}
	switch name[0] {
	case 'X', 'F', 'T', 'P', 'x', 'f', 't', 'p': // most fields are none of these
	default:
		return false
	}
	const forwarded = "X-Forwarded-"
	if strings.EqualFold(name, "Forwarded") || len(name) > len(forwarded) && config.SameField(name[:len(forwarded)], forwarded) {
		return true
	}
	same := func(other string) bool { return config.SameField(name, other) }
	return slices.ContainsFunc(config.ProxyFields, same) && !slices.ContainsFunc(x.entry.frontend.PassFields, func(f config.Placed[string]) bool { return same(f.Value) })
}

// hideSeat removes the cookie of our own from the fields for a backend: the cookie
// alone is the right to the seat.
func (x *exchange) hideSeat(h http.Header) {
	lines := h["Cookie"]
	if len(lines) == 0 || x.pool == nil {
		return
	}
	s := x.pool.Sticky()
	if s == nil || s.By != "cookie" || s.Pass {
		return
	}
	var kept []string
	for _, line := range lines {
		if strings.Contains(line, s.Name) {
			line = withoutCookie(line, s.Name)
		}
		if line != "" {
			kept = append(kept, line)
		}
	}
	if h["Cookie"] = kept; len(kept) == 0 {
		delete(h, "Cookie")
	}
}

// withoutCookie takes the cookies of a name out of a Cookie field (RFC 6265
// section 4.2.1); the others stay as they are.
func withoutCookie(line, name string) string {
	var kept []string
	for part := range strings.SplitSeq(line, ";") {
		if key, _, _ := strings.Cut(part, "="); strings.TrimSpace(key) != name {
			kept = append(kept, part)
		}
	}
	return strings.TrimLeft(strings.Join(kept, ";"), " ")
}

// mapBack changes what a backend says of its own paths and hosts to what the
// client knows.
func (x *exchange) mapBack(h http.Header, b *pool.Backend) {
	rw := x.route.Rewrite
	if rw == nil {
		return
	}
	hosts := rewrite.Hosts{Client: x.r.Host, Backend: x.r.Host, Address: b.Address.String(), Scheme: x.scheme, Spoken: b.Scheme()}
	if rw.Host != "" {
		hosts.Backend = rw.Host
	}
	for _, name := range []string{"Location", "Content-Location"} {
		for i, v := range h[name] {
			h[name][i] = rewrite.Location(rw, hosts, v)
		}
	}
	for i, v := range h["Set-Cookie"] {
		h["Set-Cookie"][i] = rewrite.Cookie(rw, hosts, v)
	}
}
