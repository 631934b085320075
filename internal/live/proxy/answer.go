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

	"kestrix/internal/core/cause"
	"kestrix/internal/core/request"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/pool"
	"kestrix/internal/live/socket"
)

var buffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// passOn sends a backend's answer to the client, as it comes, and settles the
// attempt at its end. Its fields stand in the client's already, and first is what
// has come of its body.
func (x *exchange) passOn(t roundTrip, b *pool.Backend, head answerHead, first []byte, cookie *http.Cookie, o upstream.Outcome) {
	h := x.w.Header()
	x.pool.Learn(h, x.q.Attempt.Backend)
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
	o.Final = true
	// Every piece of an event stream goes on at once.
	stream := isStream(h)
	if stream {
		x.access.Kind = trace.Stream
	}
	if stream || x.grpc {
		b.Opened(t, pool.OpenStream)
	}
	x.begun(stream)
	if len(first) > 0 && x.r.ProtoMajor == 2 {
		x.conn.guard.Follows(x.stream, len(first))
	}
	x.w.WriteHeader(head.status)
	err := x.copy(t, head.length, first, stream)
	if err == nil {
		err = x.passTrailer(t, &o)
	}
	ended := t.cause() // of the context
	switch {
	case err == nil:
		x.access.Cause = o.Cause()
		x.pool.Settle(&x.q, o)
		return
	case errors.Is(ended, errStreamOver):
		o.Kind = upstream.CutOff // it has lasted its time, and is answered
	case x.stalled:
		x.pool.Cancel(&x.q)
		x.access.Cause = cause.ClientTimeout
		if x.r.ProtoMajor == 2 {
			return // the stream has been reset
		}
		panic(http.ErrAbortHandler)
	case errors.As(err, new(*clientError)), errors.Is(ended, context.Canceled):
		x.left(o)
	case errors.Is(ended, pool.ErrTakenOut):
		o.Kind, x.access.Cause = upstream.TakenOut, cause.BackendOut
	case errors.Is(ended, errIdle) && (x.grpc || x.access.Kind == trace.Stream):
		o.Kind = upstream.IdleCut // a quiet stream is no failure of its backend
		x.access.Cause = cause.IdleTimeout
	case errors.Is(ended, errIdle):
		o.Kind = upstream.AnswerTimeout
		x.access.Cause = cause.AnswerTimeout
	default:
		o.Kind = upstream.Reset
		x.access.Cause = cause.Reset
		if stream {
			x.access.Cause = cause.BrokenStream
		}
	}
	x.pool.Settle(&x.q, o)
	// The client must not take half an answer for a whole one.
	panic(http.ErrAbortHandler)
}

// Why an answer was cut off.
var (
	errIdle       = errors.New("nothing moved for too long")
	errStreamOver = errors.New("the stream has lasted its time")
)

// isStream reports whether an answer is one that goes on and on (the HTML
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

// Answers of up to gathered bytes are awaited before anything of them goes to the
// client, and of larger ones the beginning: what a backend breaks off by then can
// still be answered as a failure, or be tried again.
const (
	gathered  = request.HeldBack
	beginning = 4 << 10
)

// gather reads the beginning of a body into buf. Where its length is not known
// only what is at hand is read: the head alone says something then, as that a
// stream has begun.
func gather(t roundTrip, length int64, buf []byte) ([]byte, error) {
	n, enough := 0, min(len(buf), gathered)
	if length > int64(enough) {
		enough = beginning
	}
	for n < enough && (length >= 0 || t.ready()) {
		k, err := t.Read(buf[n:])
		n += k
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
	}
	return buf[:n], nil
}

// copy passes a body on, first what has come of it. Where its end is not known
// the head and each piece go on at once, unless more is at hand. It is cut off
// when nothing moves for too long, and a stream when it has lasted its time.
func (x *exchange) copy(t roundTrip, length int64, first []byte, stream bool) error {
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
	if p := x.conn.paced; x.r.ProtoMajor == 1 && p != nil {
		p.SetWait(x.waits.Idle)
	}
	write := func(b []byte) error {
		if len(b) > 0 {
			x.access.Bytes += int64(len(b))
			// A client may take as long over a piece as a backend. Over HTTP/1.1
			// the connection itself looks after the first one.
			if x.passed && x.r.ProtoMajor == 1 {
				timed = true
				_ = out.SetWriteDeadline(time.Now().Add(x.waits.Idle))
			}
			x.passed = true
			if err := x.toClient(func() error { _, err := x.w.Write(b); return err }); err != nil {
				return err
			}
		}
		if length < 0 && !t.ready() {
			return x.toClient(out.Flush)
		}
		return nil
	}
	if err := write(first); err != nil {
		return err
	}
	if moved, err := x.pour(t, &timed); moved || err != nil {
		return err
	}
	p := buffers.Get().(*[]byte)
	defer buffers.Put(p)
	for {
		n, err := t.Read(*p)
		if n > 0 {
			if err := write((*p)[:n]); err != nil {
				return err
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

// toClient does what may have to wait for the client. The error is a
// *clientError; x.stalled says that the client took nothing for too long.
func (x *exchange) toClient(write func() error) error {
	var err error
	if x.r.ProtoMajor == 1 {
		err = write()
		var ne net.Error
		x.stalled = x.stalled || errors.As(err, &ne) && ne.Timeout()
	} else {
		out := http.NewResponseController(x.w)
		w := x.conn.stalls.begin(&stall{
			guard: x.conn.guard, stream: x.stream, idle: x.clientTime(), most: x.mostStalled(),
			reset: func() { _ = out.SetWriteDeadline(time.Unix(1, 0)) },
		})
		err = write()
		x.stalled = x.conn.stalls.end(w) || x.stalled
	}
	if err != nil {
		return &clientError{err}
	}
	return nil
}

// lastPiece waits until a client of HTTP/2 has made room for what the library still
// has of the answer, where there may be none: once the handler has returned nobody
// watches the stream any more, and the library would wait for ever.
func (x *exchange) lastPiece() {
	if x.r.ProtoMajor == 1 || x.stalled || x.conn.guard.Room(x.stream) > beginning {
		return
	}
	if err := x.toClient(http.NewResponseController(x.w).Flush); err != nil && x.stalled {
		x.access.Cause = cause.ClientTimeout
	}
}

// clientTime is how long the client may take nothing of the answer.
func (x *exchange) clientTime() time.Duration {
	if x.waits.Idle > 0 {
		return x.waits.Idle
	}
	return writeBackstop // of an answer of our own
}

// mostStalled is how many streams of the connection may wait for their client.
func (x *exchange) mostStalled() int {
	if x.entry == nil { // the listener is being closed
		return 1
	}
	return x.entry.frontend.Limits.Stalled
}

// begun notes that the answer begins; stream, that it is one that goes on and on.
func (x *exchange) begun(stream bool) {
	if x.r.ProtoMajor == 1 {
		x.conn.guard.Begun(stream)
	}
}

// passTrailer passes on what stands behind the body, and notes the status of an RPC.
func (x *exchange) passTrailer(t roundTrip, o *upstream.Outcome) error {
	fields, err := t.trailer()
	if err != nil {
		return err
	}
	if status, ok := x.rpcStatus(fields); ok {
		o.RPC = status
	}
	h := x.w.Header()
	for name, v := range fields {
		if httpguts.ValidTrailerHeader(name) {
			h[http.TrailerPrefix+name] = v
		}
	}
	if len(fields) > 0 && x.r.ProtoMajor == 1 {
		// A short answer would get a length in place of chunks, and no trailer.
		return x.toClient(http.NewResponseController(x.w).Flush)
	}
	return nil
}

// requestTrailer returns what stands behind the client's body, once it has been
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
func (x *exchange) tunnel(t *http1Trip, b *pool.Backend, head answerHead, o upstream.Outcome) {
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
	x.conn.guard.Open()
	t.stop()
	client, rw, err := http.NewResponseController(x.w).Hijack()
	if err != nil {
		x.left(o)
		return
	}
	defer client.Close()
	if !x.server.keep(client) {
		x.left(o)
		return
	}
	defer x.server.letGo(client)
	x.access.Status, x.access.Kind = head.status, trace.Stream
	_ = t.conn.SetDeadline(time.Time{}) // where it fails, so will reading
	if _, err := client.Write(answer); err != nil {
		x.left(o)
		return
	}
	var backend net.Conn = t.conn.Conn
	if rest := t.conn.Rest(); len(rest) > 0 {
		backend = &replayed{Conn: backend, kept: rest, done: true}
	}
	b.Over(t)
	o, x.access.Cause = splice(b, pool.OpenStream, socket.NewBuffered(client, rw.Reader, client.RemoteAddr()), backend, x.waits, &x.access.Bytes, o, nil)
	x.pool.Settle(&x.q, o)
}
