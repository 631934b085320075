package proxy

import (
	"context"
	"errors"
	"io"
	"sync/atomic"
)

// keptBody is how much of a request's body is kept so that the request can be
// sent again.
const keptBody = 64 << 10

// body lets a request's body be sent more than once: what attempts read is kept
// up to a limit. Attempts read one after the other, never together.
type body struct {
	src  io.Reader
	most int64 // bytes it may have; 0 is no limit
	read int64
	kept []byte
	lost bool  // more was read than is kept
	err  error // that ended src
	last *attemptBody

	large atomic.Bool // it is larger than most
}

// attempt gives a reader from the beginning. The one before must have been
// closed, see wait.
func (b *body) attempt() *attemptBody {
	b.last = &attemptBody{body: b, closed: make(chan struct{})}
	return b.last
}

// errTooLarge ends a body that is larger than it may be.
var errTooLarge = errors.New("the body is larger than it may be")

// over says whether the body turned out too large.
func (b *body) over() bool { return b != nil && b.large.Load() }

// again says whether the body can be sent from its beginning.
func (b *body) again() bool { return b == nil || !b.lost }

// wait waits until the transport has let go of the last attempt's reader.
func (b *body) wait(ctx context.Context) {
	if b == nil || b.last == nil {
		return
	}
	select {
	case <-b.last.closed:
	case <-ctx.Done():
	}
}

// attemptBody is one reading of a body.
type attemptBody struct {
	body   *body
	at     int // in body.kept
	closed chan struct{}
	done   bool
}

func (a *attemptBody) Read(p []byte) (int, error) {
	b := a.body
	if a.at < len(b.kept) {
		n := copy(p, b.kept[a.at:])
		a.at += n
		return n, nil
	}
	if b.err != nil {
		return 0, b.err
	}
	n, err := b.src.Read(p)
	if b.read += int64(n); b.most > 0 && b.read > b.most {
		b.large.Store(true)
		n, err = 0, errTooLarge
	}
	b.err = err
	switch {
	case b.lost || n == 0:
	case len(b.kept)+n > keptBody:
		b.lost = true
		b.kept = nil
		a.at = 0
	default:
		b.kept = append(b.kept, p[:n]...)
		a.at = len(b.kept)
	}
	return n, err
}

// Close tells that the transport reads no more. The source is the server's to
// close.
func (a *attemptBody) Close() error {
	if !a.done {
		a.done = true
		close(a.closed)
	}
	return nil
}
