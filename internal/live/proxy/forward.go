package proxy

import (
	"context"
	"crypto/rand"
	"errors"
	"io"
	"maps"
	"net/http"
	"net/url"
	"sync"

	"kestrix/internal/core/rewrite"
	"kestrix/internal/core/upstream"
)

func fill(b []byte) { _, _ = rand.Read(b) } // never fails, as the package promises

// outgoing makes the request that the backend gets.
func (x *exchange) outgoing(ctx context.Context, b *backend) *http.Request {
	r := x.r
	host := b.address.String()
	if b.address.Unix != "" {
		host = "localhost"
	}
	out := (&http.Request{
		Method: r.Method,
		// The path goes on as it came, whatever its escapes.
		URL:  &url.URL{Scheme: "http", Host: host, Opaque: "", Path: r.URL.Path, RawPath: r.URL.RawPath, RawQuery: r.URL.RawQuery, ForceQuery: r.URL.ForceQuery},
		Host: r.Host, Header: maps.Clone(r.Header), ContentLength: r.ContentLength,
		Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
	}).WithContext(ctx)
	if r.URL.Path == "" && r.URL.Opaque != "" || r.RequestURI == "*" {
		out.URL.Opaque = r.RequestURI // OPTIONS *
	}
	x.rewrite(out)
	if x.body != nil {
		out.Body = x.body.attempt()
	}
	removeHopByHop(out.Header)
	proto := "http"
	if r.TLS != nil {
		proto = "https"
	}
	forwarded(out.Header, x.client, r.Host, proto)
	addVia(out.Header, r.ProtoMajor, r.ProtoMinor)
	if x.route.Headers != nil {
		rewrite.Fields(out.Header, x.route.Headers.Request, x.facts())
	}
	if _, ok := out.Header["User-Agent"]; !ok {
		out.Header["User-Agent"] = []string{""} // do not invent one
	}
	return out
}

// rewrite changes path and host as the route wants.
func (x *exchange) rewrite(out *http.Request) {
	rw := x.route.Rewrite
	if rw == nil {
		return
	}
	if rw.Host != "" {
		out.Host = rw.Host
	}
	escaped := rewrite.Path(rw, out.URL.EscapedPath())
	if plain, err := url.PathUnescape(escaped); err == nil && out.URL.Opaque == "" {
		out.URL.Path, out.URL.RawPath = plain, escaped
	}
}

// mapBack changes what a backend says of its own paths and hosts to what the
// client knows.
func (x *exchange) mapBack(h http.Header, b *backend) {
	rw := x.route.Rewrite
	if rw == nil {
		return
	}
	hosts := rewrite.Hosts{Client: x.r.Host, Backend: x.r.Host, Address: b.address.String(), Scheme: "http"}
	if rw.Host != "" {
		hosts.Backend = rw.Host
	}
	if x.r.TLS != nil {
		hosts.Scheme = "https"
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

var buffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// passOn sends a backend's answer to the client, as it comes, and settles the
// attempt at its end.
func (x *exchange) passOn(b *backend, res *http.Response, cookie *http.Cookie, o upstream.Outcome) {
	h := x.w.Header()
	maps.Copy(h, res.Header)
	removeHopByHop(h)
	addVia(h, res.ProtoMajor, res.ProtoMinor)
	x.mapBack(h, b)
	x.answerFields(h)
	if cookie != nil {
		http.SetCookie(x.w, cookie)
	}
	x.access.Status = res.StatusCode
	o.Passed = true
	x.w.WriteHeader(res.StatusCode)
	// An answer without a length may be an event stream: every piece goes on
	// at once.
	err := x.copy(res.Body, res.ContentLength < 0)
	switch {
	case err == nil:
		x.settle(o)
	case x.r.Context().Err() != nil, errors.As(err, new(*clientError)):
		status := x.access.Status
		x.left()
		x.access.Status = status // it had been sent
	default:
		o.Kind = upstream.Reset
		x.settle(o)
		x.access.Reason = "answer-broke"
		// The client must not take half an answer for a whole one.
		panic(http.ErrAbortHandler)
	}
}

// clientError is an error of writing to the client.
type clientError struct{ error }

func (x *exchange) copy(from io.Reader, flush bool) error {
	p := buffers.Get().(*[]byte)
	defer buffers.Put(p)
	buf := *p
	var flusher *http.ResponseController
	if flush {
		flusher = http.NewResponseController(x.w)
	}
	for {
		n, err := from.Read(buf)
		if n > 0 {
			x.access.Bytes += int64(n)
			if _, err := x.w.Write(buf[:n]); err != nil {
				return &clientError{err}
			}
			if flush {
				if err := flusher.Flush(); err != nil {
					return &clientError{err}
				}
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
