package proxy

import (
	"context"
	"errors"
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"kestrix/internal/live/wire"
)

// keptBody is how much of a request's body is kept so that the request can be
// sent again.
const keptBody = 64 << 10

// body lets a request's body be sent more than once: what attempts read is kept
// up to a limit. Attempts read one after the other, never together.
type body struct {
	src  io.Reader
	most int64 // bytes it may have; 0 is no limit
	last *attemptBody

	mu         sync.Mutex // guards what follows, up to the empty line
	generation int        // goes up when the body is to be sent again: earlier attempts read no more
	read       int64
	kept       []byte
	lost       bool  // more was read than is kept
	err        error // that ended src

	whole  bool          // all of it is kept, and nothing stands behind it
	pause  time.Duration // the longest in it
	rate   bodyRate      // the least it may have
	client *http.ResponseController
	duplex bool // the library leaves it alone, see bothWays

	large atomic.Bool // it is larger than most
}

// wholeBody is how much of a body has to come before a backend is chosen, so that
// slow senders hold none.
const wholeBody = 16 << 10

// readOn reads from the client, who may pause for a while only.
func (b *body) readOn(p []byte) (int, error) {
	if b.client == nil {
		return b.src.Read(p)
	}
	began := time.Now()
	_ = b.client.SetReadDeadline(began.Add(min(b.pause, b.rate.left()))) // where none can be set, the connection's end is waited for
	n, err := b.src.Read(p)
	b.rate.came(n, time.Since(began))
	if errors.Is(err, io.EOF) {
		_ = b.client.SetReadDeadline(time.Time{}) // of the next request
	}
	return n, err
}

// collect reads the body up to wholeBody, so that a slow sender holds no backend.
// alone reports, once all of it has come, whether nothing stands behind it.
func (b *body) collect(alone func() bool) error {
	a := b.newAttempt()
	var buf [4 << 10]byte
	for b.read <= wholeBody {
		_, err := a.Read(buf[:])
		if errors.Is(err, io.EOF) {
			b.whole = alone()
			return nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// attempt returns a reader from the beginning. The one before must have been
// closed, see wait.
func (b *body) attempt() *attemptBody {
	b.last = b.newAttempt()
	return b.last
}

func (b *body) newAttempt() *attemptBody {
	b.mu.Lock()
	defer b.mu.Unlock()
	return &attemptBody{body: b, generation: b.generation, closed: make(chan struct{})}
}

// errTooLarge ends a body that is larger than it may be.
var errTooLarge = errors.New("the body is larger than it may be")

// over reports whether the body turned out too large.
func (b *body) over() bool { return b != nil && b.large.Load() }

// repeats has it decided whether the body is sent once more, knowing whether it
// can be. Nothing is read meanwhile, and nothing of what is on its way is lost if
// it is.
func (b *body) repeats(decide func(can bool) bool) bool {
	if b == nil {
		return decide(true)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if !decide(!b.lost) {
		return false
	}
	b.generation++
	return true
}

// wait waits until the transport has let go of the last attempt's reader; false if
// the client left before.
func (b *body) wait(ctx context.Context) bool {
	if b == nil || b.last == nil {
		return true
	}
	select {
	case <-b.last.closed:
		return true
	case <-ctx.Done():
		return false
	}
}

// bothWays lets an answer begin while the body still comes. HTTP/2 always lets
// it. With HTTP/1.1 the library then leaves what is not read of the body to us.
func (x *exchange) bothWays() {
	if b := x.body; x.r.ProtoMajor == 1 && !b.duplex {
		b.duplex = true
		_ = b.client.EnableFullDuplex() // every server of ours can
	}
}

// unread returns the connection of a body that the library leaves alone and that
// has not come whole; nil if there is none such.
func (x *exchange) unread() *wire.Guard {
	if b := x.body; b != nil && b.duplex && x.conn.guard != nil && !x.conn.guard.Whole(x.conn.asked) {
		return x.conn.guard
	}
	return nil
}

// partly tells a client, before its answer begins, that the connection ends with
// it: if its body has not come whole by now, as what is left of it may not be read
// any more (RFC 9112 section 9.3), and where the listener is being closed.
func (x *exchange) partly() {
	if x.unread() != nil || x.r.ProtoMajor == 1 && x.server.ending.Load() {
		x.w.Header().Set("Connection", "close")
	}
}

// finish sees to it that nobody reads the client's body any more, that what is
// left of it is not waited for long, and that it is never taken for a request.
func (x *exchange) finish() {
	b := x.body
	if b == nil || b.last == nil && !b.duplex {
		// Over HTTP/1.1 the library reads what is left before it answers.
		if x.r.ProtoMajor == 1 && x.entry != nil && x.r.ContentLength != 0 && x.r.Body != http.NoBody && (b == nil || !b.whole) {
			_ = http.NewResponseController(x.w).SetReadDeadline(time.Now().Add(x.entry.frontend.Timeouts.RequestBody))
		}
		return
	}
	if b.last != nil {
		select {
		case <-b.last.closed:
		default:
			// A deadline of the connection must not be set here over HTTP/1.1:
			// once the body has come whole, the library looks out for a client
			// that leaves, and would take it for one.
			if x.r.ProtoMajor != 1 {
				_ = b.client.SetReadDeadline(time.Now())
			} else if g := x.unread(); g != nil {
				g.Leave(x.conn.asked)
			}
			<-b.last.closed
		}
	}
	if g := x.unread(); g != nil {
		g.Leave(x.conn.asked)
	}
}

// attemptBody is one reading of a body. Whoever sends it may close it from
// another goroutine while it is read (net/http.RoundTripper); it is closed when
// that has come back.
type attemptBody struct {
	body       *body
	generation int // of the body, when it began
	closed     chan struct{}

	mu   sync.Mutex // held while it is read
	at   int        // in body.kept
	done bool
}

func (a *attemptBody) Read(p []byte) (int, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.done {
		return 0, errOver
	}
	b := a.body
	if n, err := a.known(p); n > 0 || err != nil {
		return n, err
	}
	n, err := b.readOn(p)
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.read += int64(n); b.most > 0 && b.read > b.most {
		b.large.Store(true)
		n, err = 0, errTooLarge
	}
	b.err = err
	over := a.generation != b.generation
	switch {
	case b.lost || n == 0:
	case len(b.kept)+n > keptBody && !over:
		b.lost = true
		b.kept = nil
		a.at = 0
	default:
		b.kept = append(b.kept, p[:n]...)
		a.at = len(b.kept)
	}
	if over {
		return 0, errOver
	}
	return n, err
}

// errOver ends the reading for an attempt that is over.
var errOver = errors.New("this attempt is over")

// known returns what was read before, or what ended it; nothing if more is to be read.
func (a *attemptBody) known(p []byte) (int, error) {
	b := a.body
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case a.generation != b.generation:
		return 0, errOver
	case a.at < len(b.kept):
		n := copy(p, b.kept[a.at:])
		a.at += n
		return n, nil
	}
	return 0, b.err
}

// Close tells that the transport reads no more. The source is the server's to
// close.
func (a *attemptBody) Close() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if !a.done {
		a.done = true
		close(a.closed)
	}
	return nil
}
