package proxy

import (
	"context"
	"crypto/rand"
	"errors"
	"io"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/rewrite"
	"kestrix/internal/core/trace"
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
		URL:  &url.URL{Scheme: b.scheme(), Host: host, Opaque: "", Path: r.URL.Path, RawPath: r.URL.RawPath, RawQuery: r.URL.RawQuery, ForceQuery: r.URL.ForceQuery},
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
	x.forwarded(out.Header)
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
	hosts := rewrite.Hosts{Client: x.r.Host, Backend: x.r.Host, Address: b.address.String(), Scheme: x.scheme}
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

var buffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// passOn sends a backend's answer to the client, as it comes, and settles the
// attempt at its end.
func (x *exchange) passOn(ctx context.Context, cancel context.CancelCauseFunc, b *backend, res *http.Response, cookie *http.Cookie, o upstream.Outcome) {
	x.learn(res)
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
	stream := isStream(res)
	if stream {
		x.access.Kind = trace.Stream
	}
	err := x.copy(ctx, cancel, res, stream)
	cause := context.Cause(ctx)
	switch {
	case err == nil:
		x.pool.settle(&x.q, &x.attempt, o)
		return
	case errors.Is(cause, errStreamOver):
		o.Kind = upstream.CutOff
		x.access.Reason = "stream-over"
	case errors.As(err, new(*clientError)), x.r.Context().Err() != nil:
		status := x.access.Status
		x.left()
		x.access.Status = status // it had been sent
		return
	case errors.Is(cause, errIdle):
		o.Kind = upstream.AnswerTimeout
		x.access.Reason = "idle"
	default:
		o.Kind = upstream.Reset
		x.access.Reason = "answer-broke"
	}
	x.pool.settle(&x.q, &x.attempt, o)
	// The client must not take half an answer for a whole one.
	panic(http.ErrAbortHandler)
}

// Why an answer was cut off.
var (
	errIdle       = errors.New("nothing moved for too long")
	errStreamOver = errors.New("the stream has lasted its time")
)

// isStream says whether an answer is one that goes on and on (the HTML
// standard's server-sent events).
func isStream(res *http.Response) bool {
	kind, _, _ := strings.Cut(res.Header.Get("Content-Type"), ";")
	return strings.EqualFold(strings.TrimSpace(kind), "text/event-stream")
}

// clientError is an error of writing to the client.
type clientError struct{ error }

// copy passes a body on. It is cut off when nothing moves for too long, and a
// stream when it has lasted its time.
func (x *exchange) copy(ctx context.Context, cancel context.CancelCauseFunc, res *http.Response, stream bool) error {
	p := buffers.Get().(*[]byte)
	defer buffers.Put(p)
	buf := *p
	from, flush := res.Body, res.ContentLength < 0
	out := http.NewResponseController(x.w)
	// What the timer does must not reach the next request on this connection.
	var mu sync.Mutex
	ended, fired := false, false
	idle := time.AfterFunc(x.waits.Idle, func() {
		mu.Lock()
		defer mu.Unlock()
		if ended {
			return
		}
		fired = true
		cancel(errIdle)
		_ = out.SetWriteDeadline(time.Now()) // a client that takes nothing holds us up in Write
	})
	defer func() {
		mu.Lock()
		defer mu.Unlock()
		ended = true
		idle.Stop()
		if fired {
			_ = out.SetWriteDeadline(time.Time{})
		}
	}()
	if stream && x.waits.Stream > 0 {
		t := time.AfterFunc(x.waits.Stream, func() { cancel(errStreamOver) })
		defer t.Stop()
	}
	for {
		n, err := from.Read(buf)
		idle.Reset(x.waits.Idle)
		if n > 0 {
			x.access.Bytes += int64(n)
			if _, err := x.w.Write(buf[:n]); err != nil {
				return &clientError{err}
			}
			if flush {
				if err := out.Flush(); err != nil {
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
