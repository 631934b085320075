package proxy

import (
	"context"
	"errors"
	"io"
	"net/http"
	"sync/atomic"
	"time"
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

	whole  bool          // all of it is kept
	pause  time.Duration // the longest in it
	client *http.ResponseController

	large atomic.Bool // it is larger than most
}

// wholeBody is the size up to which a body has to come whole before a backend is
// chosen, so that slow senders hold none.
const wholeBody = 16 << 10

// readOn reads from the client, who may pause for a while only.
func (b *body) readOn(p []byte) (int, error) {
	if b.client == nil {
		return b.src.Read(p)
	}
	_ = b.client.SetReadDeadline(time.Now().Add(b.pause)) // where none can be set, the connection's end is waited for
	n, err := b.src.Read(p)
	if errors.Is(err, io.EOF) {
		_ = b.client.SetReadDeadline(time.Time{}) // of the next request
	}
	return n, err
}

// readWhole reads all of it.
func (b *body) readWhole() error {
	a := &attemptBody{body: b, closed: make(chan struct{})}
	b.whole = true
	var buf [4 << 10]byte
	for {
		_, err := a.Read(buf[:])
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
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
	n, err := b.readOn(p)
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
