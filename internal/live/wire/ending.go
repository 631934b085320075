package wire

import (
	"os"
	"sync"
	"time"
)

// ending is what a Guard knows of the end of a connection: which requests have
// been answered, and since when the client sends no more. The zero value is ready.
type ending struct {
	mu       sync.Mutex // guards all below
	answered uint64     // requests
	answer   answerState
	wrote    time.Time     // to the client, of a stream
	since    time.Time     // the client has ended its direction; zero: it has not
	past     bool          // the deadline for reading is over
	closed   bool          // the connection is
	wake     chan struct{} // closed when something of this changes; nil while no reader waits
}

// answerState is how far the answer to the request at hand is.
type answerState uint8

const (
	answerAwaited answerState = iota
	answerBegun
	answerStream // likewise, of a kind that goes on and on
)

// begin notes that the client has ended its direction.
func (e *ending) begin() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.since = time.Now()
}

// changed wakes the reader that waits. e.mu must be held.
func (e *ending) changed() {
	if e.wake != nil {
		close(e.wake)
		e.wake = nil
	}
}

// unanswered reports whether a request that was handed out is being answered. It
// is for the reader.
func (g *Guard) unanswered() bool {
	g.ending.mu.Lock()
	defer g.ending.mu.Unlock()
	return g.number > g.ending.answered
}

// hold keeps the end of the client's direction from the reader, which would give
// up the request at hand, until all requests that came before it are answered. A
// client that ends its direction may still read (RFC 9112 section 9.6), or may
// have left: the answer has HalfClosed to begin, and then all the time it takes.
// One that goes on and on may pause for as long. The error is the reader's
// deadline.
func (g *Guard) hold() error {
	e := &g.ending
	for {
		e.mu.Lock()
		if e.past {
			e.mu.Unlock()
			return os.ErrDeadlineExceeded
		}
		left := time.Duration(-1) // for ever
		if !e.since.IsZero() && e.answer != answerBegun {
			last := e.since
			if e.answer == answerStream && e.wrote.After(last) {
				last = e.wrote
			}
			left = max(g.o.HalfClosed-time.Since(last), 0)
		}
		if e.closed || g.raw.Load() || g.number <= e.answered || left == 0 {
			e.mu.Unlock()
			return nil
		}
		wake := make(chan struct{})
		e.wake = wake
		e.mu.Unlock()
		if left < 0 {
			<-wake
			continue
		}
		timer := time.NewTimer(left)
		select {
		case <-wake:
		case <-timer.C:
		}
		timer.Stop()
	}
}

// Begun notes that the answer to the request at hand begins; stream, that it is
// of a kind that goes on and on. It may be called from any goroutine.
func (g *Guard) Begun(stream bool) {
	g.ending.mu.Lock()
	defer g.ending.mu.Unlock()
	if g.ending.answer = answerBegun; stream {
		g.ending.answer, g.ending.wrote = answerStream, time.Now()
	}
}

// Answered notes that the request at hand has been answered, or never will be.
// It may be called from any goroutine.
func (g *Guard) Answered() {
	g.ending.mu.Lock()
	defer g.ending.mu.Unlock()
	g.ending.answered++
	g.ending.answer = answerAwaited
	g.ending.changed()
}

// Ended returns when the client ended its direction, zero if it has not. It may
// be called from any goroutine.
func (g *Guard) Ended() time.Time {
	g.ending.mu.Lock()
	defer g.ending.mu.Unlock()
	return g.ending.since
}

// Idle returns since when nothing is being asked and answered on the connection,
// zero while something is. It may be called from any goroutine.
func (g *Guard) Idle() time.Time {
	if f := g.frames.Load(); f != nil {
		return f.idle()
	}
	if at := g.idle.Load(); at != 0 {
		return time.Unix(0, at)
	}
	return time.Time{}
}

// Write writes to the client.
func (g *Guard) Write(b []byte) (int, error) {
	if f := g.frames.Load(); f != nil {
		return f.write(g.Conn, b)
	}
	n, err := g.Conn.Write(b)
	g.ending.mu.Lock()
	defer g.ending.mu.Unlock()
	if g.ending.answer == answerStream {
		g.ending.wrote = time.Now()
	}
	return n, err
}

// SetReadDeadline sets when reading fails; the zero time is never. It may be called
// from any goroutine.
func (g *Guard) SetReadDeadline(t time.Time) error {
	e := &g.ending
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.past = !t.IsZero() && !t.After(time.Now()); e.past {
		e.changed()
	}
	if g.frames.Load() != nil && t.IsZero() {
		return nil // of HTTP/2 the guard sets it
	}
	return g.Conn.SetReadDeadline(t)
}

// within has the guard's own reading fail after a time, unless the library has just
// ended it: it does so, once a request is answered, to get back the goroutine that
// listens for the client's end, and waits for as long as that takes. The error is
// that deadline.
func (g *Guard) within(d time.Duration) error {
	g.ending.mu.Lock()
	defer g.ending.mu.Unlock()
	if g.ending.past {
		return os.ErrDeadlineExceeded
	}
	return g.Conn.SetReadDeadline(time.Now().Add(d))
}

// ended reports whether the library has ended reading, for now.
func (g *Guard) ended() bool {
	g.ending.mu.Lock()
	defer g.ending.mu.Unlock()
	return g.ending.past
}

// SetDeadline sets when reading and writing fail; the zero time is never.
func (g *Guard) SetDeadline(t time.Time) error {
	if err := g.SetReadDeadline(t); err != nil {
		return err
	}
	return g.Conn.SetWriteDeadline(t)
}

// close wakes the reader of a connection that is closed.
func (e *ending) close() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.closed = true
	e.changed()
}
