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

	"kestrix/internal/core/cause"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/pool"
	"kestrix/internal/live/socket"
	"kestrix/internal/live/wire"
)

// roundTrip is one request with a backend, up to the end of its answer.
type roundTrip interface {
	io.Reader    // of the answer's body
	ready() bool // more of it can be read without waiting
	trailer() (http.Header, error)
	cut(cause error) // ends it, from any goroutine
	pool.Open
	cause() error // that it was cut for, nil if it was not
	end()         // nothing more is missing; called once
}

// answerHead is the head of a backend's answer; its fields are in the header of
// the client's answer already.
type answerHead struct {
	status, major, minor int
	length               int64 // -1: not known
	upgrade              string
}

// http1Trip is a round trip on a connection of HTTP/1.1.
type http1Trip struct {
	x    *exchange
	b    *pool.Backend
	conn *wire.Conn
	stop func() bool // of the watch on the client

	mu       sync.Mutex
	why      error         // guarded by mu
	answered bool          // likewise: the head of the answer has come
	sent     chan struct{} // closed when the body has been sent or given up; nil if nobody sends beside
	sending  sync.Once
	failed   error // to send, once sent is closed
}

// overHTTP1 sends an attempt over HTTP/1.1. The answer's fields are added to the
// client's.
func (x *exchange) overHTTP1(b *pool.Backend, q *wire.Request) (roundTrip, answerHead, error) {
	fresh := b.PerClient() // a connection belongs to one client
	for {
		conn, err := x.connection(b, fresh)
		if err != nil {
			return nil, answerHead{}, err
		}
		t := &http1Trip{x: x, b: b, conn: conn}
		b.Opened(t, pool.OpenRequest)
		t.stop = context.AfterFunc(x.r.Context(), func() { t.cut(context.Canceled) })
		head, written, err := t.exchange(q)
		if err == nil {
			// A backend may respond to the end of its connection, as to the alert that
			// closes one over TLS, before that is closed here.
			err = t.cause()
		}
		if err == nil {
			return t, head, nil
		}
		reused := conn.Used > 0
		t.drop()
		// A backend may close a connection that waits just when it is used
		// again: that is no failure of anybody, and another one is taken.
		if reused && t.cause() == nil && errors.Is(err, wire.ErrNothing) && (!written || x.q.Repeatable) && x.body.repeats(func(can bool) bool { return can }) {
			if !x.body.wait(x.r.Context()) {
				return nil, answerHead{}, context.Canceled
			}
			fresh = true
			clear(x.w.Header())
			continue
		}
		if cause := t.cause(); cause != nil {
			err = cause
			if errors.Is(cause, context.Canceled) && t.sent != nil {
				// The library takes a body that did not come in time for a
				// client that left; who sends it knows, and has ended by that.
				if <-t.sent; t.failed != nil {
					err = t.failed
				}
			}
		}
		return nil, head, err
	}
}

// connection returns one that waits, or a new one.
func (x *exchange) connection(b *pool.Backend, fresh bool) (*wire.Conn, error) {
	x.access.Connect = 0
	if !fresh {
		if c := b.KeptConn(); c != nil {
			return c, nil
		}
	}
	ctx := x.r.Context()
	if b.PerClient() {
		local, _ := ctx.Value(http.LocalAddrContextKey).(net.Addr)
		ctx = socket.WithClient(ctx, remoteAddr(x.r.RemoteAddr), local)
	}
	began := time.Now()
	c, err := b.Connect(ctx)
	x.access.Connect = max(time.Since(began), 1)
	if err != nil {
		return nil, err
	}
	return wire.NewConn(c), nil
}

// exchange sends the request and reads the head of its answer. written says
// that the backend may have seen it.
func (t *http1Trip) exchange(q *wire.Request) (head answerHead, written bool, err error) {
	x, conn := t.x, t.conn
	if err := conn.SetDeadline(time.Now().Add(x.waits.Answer)); err != nil {
		return head, false, errors.Join(wire.ErrNothing, err)
	}
	held := x.expects
	concurrent := x.body != nil && !x.body.whole
	var short []byte
	if x.body != nil && x.body.whole {
		short = x.body.kept
	}
	if err := conn.Send(q, short); err != nil {
		return head, false, errors.Join(wire.ErrNothing, err)
	}
	interim := x.interim
	if concurrent {
		t.sent = make(chan struct{})
		x.bothWays()
		if !held {
			t.send()
		} else {
			timer := time.AfterFunc(pool.ExpectWait, t.send)
			defer timer.Stop()
			interim = func(status int, h http.Header) {
				if status == http.StatusContinue {
					t.send() // reading the body tells the client to go on
					return
				}
				x.interim(status, h)
			}
		}
	}
	a, err := conn.Receive(q.Method, x.w.Header(), interim)
	if err != nil {
		return head, true, err
	}
	t.mu.Lock()
	t.answered = true
	t.mu.Unlock()
	t.sending.Do(func() { // it is not wanted any more
		if t.sent != nil {
			t.failed = errNotWanted
			close(t.sent)
		}
	})
	delete(x.w.Header(), "Proxy-Authenticate")
	return answerHead{a.Status, 1, a.Minor, a.Length, a.Upgrade}, true, nil
}

var errNotWanted = errors.New("the backend answered without wanting the body")

// interim passes an answer on that is not the last (RFC 9110 section 15.2).
func (x *exchange) interim(status int, h http.Header) {
	if status == http.StatusContinue || x.r.ProtoMinor == 0 && x.r.ProtoMajor == 1 {
		return
	}
	out := x.w.Header()
	for name, v := range h {
		out[name] = v
	}
	x.w.WriteHeader(status)
	for name := range h {
		delete(out, name)
	}
}

// send sends the body beside, once.
func (t *http1Trip) send() {
	t.sending.Do(func() {
		_ = t.conn.SetReadDeadline(time.Time{}) // the answer is waited for from the body's end on
		x, attempt := t.x, t.x.body.attempt()   // before anybody can wait for its end
		go func() {
			err := t.conn.SendBody(&wire.Sender{Body: attempt, Length: x.r.ContentLength, Trailer: x.requestTrailer, Wait: x.waits.Idle})
			attempt.Close()
			t.failed = err
			var own *wire.ReadError
			switch {
			case err == nil:
				t.mu.Lock()
				if !t.answered {
					_ = t.conn.SetReadDeadline(time.Now().Add(x.waits.Answer)) // where it fails, so will reading
				}
				t.mu.Unlock()
			case errors.As(err, &own):
				t.cut(err) // the backend cannot go on without
			}
			close(t.sent)
		}()
	})
}

func (t *http1Trip) Read(p []byte) (int, error) {
	if !t.conn.Buffered() {
		if err := t.conn.SetReadDeadline(time.Now().Add(t.x.waits.Idle)); err != nil {
			return 0, err
		}
	}
	n, err := t.conn.Read(p)
	var ne net.Error
	if err != nil && errors.As(err, &ne) && ne.Timeout() {
		t.cut(errIdle)
	}
	return n, err
}

func (t *http1Trip) ready() bool { return t.conn.Buffered() }

func (t *http1Trip) trailer() (http.Header, error) { return t.conn.Trailer() }

func (t *http1Trip) cut(cause error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.why == nil {
		t.why = cause
		t.conn.Conn.Close()
	}
}

// TakenOut ends the round trip, as its backend is taken out.
func (t *http1Trip) TakenOut() { t.cut(pool.ErrTakenOut) }

func (t *http1Trip) cause() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.why
}

// end keeps the connection if it can serve another request.
func (t *http1Trip) end() {
	if t.sent != nil {
		select {
		case <-t.sent:
			if t.failed == nil && t.over() {
				return
			}
		default:
		}
		t.drop()
		return
	}
	if !t.over() {
		t.drop()
	}
}

// over puts the connection back; false if it cannot be used again.
func (t *http1Trip) over() bool {
	if !t.conn.Done() || t.b.PerClient() || !t.stop() {
		return false
	}
	t.b.Over(t)
	t.b.Keep(t.conn)
	return true
}

// drop closes the connection. Who sends the body ends by that, or when the
// client's body does, see exchange.finish.
func (t *http1Trip) drop() {
	t.b.Over(t)
	t.stop()
	t.conn.Conn.Close()
	t.sending.Do(func() {
		if t.sent != nil {
			close(t.sent)
		}
	})
	t.conn.Release()
}

// try sends one attempt; true asks for another.
func (x *exchange) try(b *pool.Backend, cookie *http.Cookie) bool {
	sent := time.Now()
	x.access.GRPC = ""
	q := x.wireRequest()
	if err := q.Check(); err != nil { // no fault of the backend
		x.pool.Cancel(&x.q)
		x.fail(http.StatusBadRequest, cause.Malformed, "the request cannot be passed on")
		return false
	}
	over := x.overHTTP1
	if b.HTTP2 {
		over = x.overHTTP2
	}
	t, head, err := over(b, q)
	if err != nil {
		clear(x.w.Header())
		return x.broke(b, err)
	}
	defer t.end()
	if head.status == http.StatusSwitchingProtocols && (x.upgrade == "" || !strings.EqualFold(head.upgrade, x.upgrade)) {
		clear(x.w.Header())
		return x.broke(b, errors.New("the backend switched protocols without being asked"))
	}
	x.access.FirstByte = max(time.Since(sent), 1)
	o := upstream.Outcome{Kind: upstream.Answered, Status: head.status, FirstByte: x.access.FirstByte}
	o.RPC, _ = x.rpcStatus(x.w.Header()) // of an answer without messages ("Trailers-Only")
	if x.body.repeats(func(can bool) bool {
		o.Final = !can
		return x.pool.Repeat(&x.q, o)
	}) {
		x.failedTry(o.Cause(), head.status)
		clear(x.w.Header())
		return true
	}
	if head.status == http.StatusSwitchingProtocols {
		x.tunnel(t.(*http1Trip), b, head, o)
		return false
	}
	p := buffers.Get().(*[]byte)
	defer buffers.Put(p)
	first, err := gather(t, head.length, *p)
	if err != nil {
		clear(x.w.Header())
		if cause := t.cause(); cause != nil {
			err = cause
		}
		return x.broke(b, err)
	}
	x.passOn(t, b, head, first, cookie, o)
	return false
}

// left settles an attempt whose client went away, and ends the request: without
// the abort the library would answer 200 for us. Before the head of the answer the
// client has left; a backend whose answer had begun has answered.
func (x *exchange) left(o upstream.Outcome) {
	x.pool.Settle(&x.q, o)
	x.clientLeft()
	panic(http.ErrAbortHandler)
}

// clientLeft notes that the client has closed its connection. A stream of which it had
// the head is a good end.
func (x *exchange) clientLeft() {
	x.gone = true
	if x.access.Kind != trace.Stream {
		x.access.Cause = cause.ClientLeft
	}
}

// broke handles an attempt without an answer; true asks for another.
func (x *exchange) broke(b *pool.Backend, err error) bool {
	var own *wire.ReadError
	switch {
	case x.body.over():
		x.pool.Cancel(&x.q)
		x.tooLarge(x.body.most)
		return false
	case errors.As(err, &own):
		x.pool.Cancel(&x.q)
		x.badBody(own.Err)
		return false
	case x.r.Context().Err() != nil && x.conn.guard.BodyMalformed():
		// The library takes this for a client that left, too.
		x.pool.Cancel(&x.q)
		x.badBody(wire.ErrMalformed)
		return false
	case x.r.Context().Err() != nil:
		x.left(upstream.Outcome{Kind: upstream.ClientLeft})
	case socket.OutOfResources(err):
		x.pool.Cancel(&x.q)
		x.fail(http.StatusServiceUnavailable, cause.Overloaded, "the proxy has no more connections to give")
		return false
	}
	o, status, text := upstream.Outcome{Kind: upstream.Reset}, http.StatusBadGateway, "the backend broke the connection"
	why := cause.None // that of the outcome
	var de *pool.DialError
	var ne net.Error
	switch {
	case errors.As(err, &de):
		o.Kind, why, text = pool.ConnectKind(err), de.Cause, map[cause.Cause]string{
			cause.Refused: "the backend refuses connections", cause.Unreachable: "the backend cannot be reached",
			cause.ConnectTimeout: "the backend cannot be reached in time", cause.TLSFailed: "no TLS connection to the backend could be made",
		}[de.Cause]
		if why == cause.ConnectTimeout {
			status = http.StatusGatewayTimeout
		}
	case errors.Is(err, pool.ErrTakenOut):
		o.Kind, text = upstream.TakenOut, "the backend was taken out"
	case errors.Is(err, errIdle):
		o.Kind, status, text = upstream.AnswerTimeout, http.StatusGatewayTimeout, "the backend stopped in the middle of its answer"
	case errors.As(err, &ne) && ne.Timeout():
		o.Kind, status, text = upstream.AnswerTimeout, http.StatusGatewayTimeout, "the backend did not answer in time"
	case errors.Is(err, wire.ErrMalformed):
		why, text = cause.BadAnswer, "the backend's answer is not HTTP that can be understood"
	}
	if why == cause.None {
		why = o.Cause()
	}
	x.failedTry(why, 0)
	if x.body.repeats(func(can bool) bool {
		o.Final = !can
		return x.pool.Settle(&x.q, o) == upstream.Again
	}) {
		return true
	}
	x.fail(status, why, text)
	return false
}

// badBody answers a request whose body could not be read.
func (x *exchange) badBody(err error) {
	var ne net.Error
	switch {
	case x.body.over():
		x.tooLarge(x.body.most)
	case errors.As(err, &ne) && ne.Timeout():
		x.w.Header().Set("Connection", "close")
		x.fail(http.StatusRequestTimeout, cause.ClientTimeout, "the body of the request did not come in time")
	case errors.Is(err, wire.ErrMalformed), x.conn.guard.BodyMalformed():
		x.w.Header().Set("Connection", "close")
		x.fail(http.StatusBadRequest, cause.Malformed, "the body of the request cannot be understood")
	default:
		x.access.Status = 0
		x.clientLeft()
		panic(http.ErrAbortHandler)
	}
}
