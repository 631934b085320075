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
	if _, ok := out.Header["User-Agent"]; !ok {
		out.Header["User-Agent"] = []string{""} // do not invent one
	}
	return out
}

var buffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// passOn sends a backend's answer to the client, as it comes, and settles the
// attempt at its end.
func (x *exchange) passOn(res *http.Response, cookie *http.Cookie, o upstream.Outcome) {
	h := x.w.Header()
	maps.Copy(h, res.Header)
	removeHopByHop(h)
	addVia(h, res.ProtoMajor, res.ProtoMinor)
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
