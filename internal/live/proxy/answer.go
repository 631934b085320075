package proxy

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/http/httpguts"

	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
)

var buffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// passOn sends a backend's answer to the client, as it comes, and settles the
// attempt at its end. Its fields stand in the client's already.
func (x *exchange) passOn(t turn, b *backend, head answerHead, cookie *http.Cookie, o upstream.Outcome) {
	h := x.w.Header()
	x.learn(h)
	addVia(h, head.major, head.minor)
	x.mapBack(h, b)
	x.answerFields(h)
	if cookie != nil {
		http.SetCookie(x.w, cookie)
	}
	if _, ok := h["Content-Type"]; !ok {
		h["Content-Type"] = nil // else the library would guess one
	}
	x.partly()
	x.access.Status = head.status
	o.Passed = true
	// Every piece of an event stream goes on at once.
	stream := isStream(h)
	if stream {
		x.access.Kind = trace.Stream
	}
	x.w.WriteHeader(head.status)
	err := x.copy(t, head.length, stream)
	if err == nil {
		err = x.passTrailer(t)
	}
	cause := t.cause()
	switch {
	case err == nil:
		x.pool.settle(&x.q, &x.attempt, o)
		return
	case errors.Is(cause, errStreamOver):
		o.Kind = upstream.CutOff
		x.access.Reason = "stream-over"
	case errors.As(err, new(*clientError)), errors.Is(cause, context.Canceled):
		x.left()
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
func isStream(h http.Header) bool {
	v := h["Content-Type"]
	if len(v) == 0 {
		return false
	}
	kind, _, _ := strings.Cut(v[0], ";")
	return strings.EqualFold(strings.TrimSpace(kind), "text/event-stream")
}

// clientError is an error of writing to the client.
type clientError struct{ error }

// copy passes a body on. Where its end is not known the head and each piece go on
// at once, unless more is at hand. It is cut off when nothing moves for too long, and a
// stream when it has lasted its time.
func (x *exchange) copy(t turn, length int64, stream bool) error {
	p := buffers.Get().(*[]byte)
	defer buffers.Put(p)
	buf := *p
	out := http.NewResponseController(x.w)
	if stream && x.waits.Stream > 0 {
		timer := time.AfterFunc(x.waits.Stream, func() { t.cut(errStreamOver) })
		defer timer.Stop()
	}
	timed := false
	defer func() {
		if timed {
			_ = out.SetWriteDeadline(time.Time{}) // must not reach the next request
		}
	}()
	if length < 0 && !t.ready() {
		// The head alone says something, as that a stream has begun.
		if err := out.Flush(); err != nil {
			return &clientError{err}
		}
	}
	for pieces := 0; ; pieces++ {
		n, err := t.Read(buf)
		if n > 0 {
			x.access.Bytes += int64(n)
			// A client may take as long over a piece as a backend. The first
			// is looked after by the connection itself.
			if pieces > 0 {
				timed = true
				_ = out.SetWriteDeadline(time.Now().Add(x.waits.Idle))
			}
			if _, err := x.w.Write(buf[:n]); err != nil {
				return &clientError{err}
			}
			if length < 0 && !t.ready() {
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

// passTrailer passes on what stands behind the body.
func (x *exchange) passTrailer(t turn) error {
	fields, err := t.trailer()
	if err != nil {
		return err
	}
	h := x.w.Header()
	for name, v := range fields {
		if httpguts.ValidTrailerHeader(name) {
			h[http.TrailerPrefix+name] = v
		}
	}
	return nil
}

// requestTrailer gives what stands behind the client's body, once it has been
// read.
func (x *exchange) requestTrailer() http.Header {
	out := http.Header{}
	for name, v := range x.r.Trailer {
		if httpguts.ValidTrailerHeader(name) && len(v) > 0 && !x.claims(name) {
			out[name] = v
		}
	}
	return out
}

// tunnel makes the connection what client and backend have agreed on (RFC 9110
// section 7.8), and passes bytes until one of them ends it.
func (x *exchange) tunnel(t *oneTurn, b *backend, head answerHead, o upstream.Outcome) {
	h := x.w.Header()
	addVia(h, head.major, head.minor)
	x.answerFields(h)
	answer := append([]byte("HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: "), head.upgrade...)
	answer = append(answer, '\r', '\n')
	for name, values := range h {
		for _, v := range values {
			answer = append(append(append(append(answer, name...), ": "...), v...), "\r\n"...)
		}
	}
	answer = append(answer, '\r', '\n')
	x.visitor.guard.Open()
	t.stop()
	client, rw, err := http.NewResponseController(x.w).Hijack()
	if err != nil {
		x.left()
		return
	}
	defer client.Close()
	if !x.server.keep(client) {
		x.left()
		return
	}
	defer x.server.letGo(client)
	x.access.Status, x.access.Kind = head.status, trace.Stream
	_ = t.conn.SetDeadline(time.Time{}) // where it fails, so will reading
	if _, err := client.Write(answer); err != nil {
		x.left()
		return
	}
	var backend net.Conn = t.conn.Conn
	if rest := t.conn.Rest(); len(rest) > 0 {
		backend = &replayed{Conn: backend, kept: rest, done: true}
	}
	o, how := splice(&namedPeer{Conn: client, r: rw.Reader, remote: client.RemoteAddr()}, backend, x.waits, &x.access.Bytes, o)
	if how != "" {
		x.access.Reason = how
	}
	if o.Kind == upstream.ClientLeft {
		x.pool.cancel(&x.q, &x.attempt)
		return
	}
	x.pool.settle(&x.q, &x.attempt, o)
}
