package pool

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/live/socket"
	"kestrix/internal/live/wire"
)

// idleConns keeps the connections to one backend that wait for a request; the
// one used last is taken first, so that those there are too many of grow old.
type idleConns struct {
	mu     sync.Mutex
	free   []*wire.Conn // oldest first
	timer  *time.Timer  // closes what has waited too long; nil while none waits
	closed bool
}

// mostIdle is how many unused connections to a backend are kept.
const mostIdle = 512

// take returns a connection that is open, as far as can be seen, and not of a certain age; nil
// if there is none.
func (i *idleConns) take(age time.Duration) *wire.Conn {
	for {
		i.mu.Lock()
		n := len(i.free)
		if n == 0 {
			i.mu.Unlock()
			return nil
		}
		c := i.free[n-1]
		i.free[n-1] = nil
		i.free = i.free[:n-1]
		i.mu.Unlock()
		// Also one that was used just now: what a backend has sent behind its
		// answer must not be taken for the answer to somebody else's request.
		if (age == 0 || time.Since(c.Born) < age) && c.Alive() {
			return c
		}
		c.Close()
	}
}

// put keeps a connection for the next request.
func (i *idleConns) put(c *wire.Conn, kept time.Duration) {
	c.Release()
	c.Used++
	c.Idle = time.Now()
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.closed || len(i.free) >= mostIdle {
		c.Close()
		return
	}
	i.free = append(i.free, c)
	if i.timer == nil {
		i.timer = time.AfterFunc(kept, func() { i.reap(kept) })
	}
}

// reap closes what has waited for its time.
func (i *idleConns) reap(kept time.Duration) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.timer = nil
	now := time.Now()
	n, _ := slices.BinarySearchFunc(i.free, now.Add(-kept), func(c *wire.Conn, t time.Time) int {
		if c.Idle.After(t) {
			return 1
		}
		return -1
	})
	for _, c := range i.free[:n] {
		c.Close()
	}
	i.free = slices.Delete(i.free, 0, n)
	if len(i.free) > 0 && !i.closed {
		i.timer = time.AfterFunc(max(kept-now.Sub(i.free[0].Idle), time.Millisecond), func() { i.reap(kept) })
	}
}

// drop closes what waits, and returns how many connections that were.
func (i *idleConns) drop() int {
	i.mu.Lock()
	defer i.mu.Unlock()
	n := len(i.free)
	for _, c := range i.free {
		c.Close()
	}
	i.free = nil
	return n
}

// close closes what waits, and what is put back from now on.
func (i *idleConns) close() {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.closed = true
	for _, c := range i.free {
		c.Close()
	}
	i.free = nil
	if i.timer != nil {
		i.timer.Stop()
	}
}

// Connect connects within the connect timeout, the TLS handshake included, with
// a *DialError that says what failed.
func (b *Backend) Connect(ctx context.Context) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, b.within)
	defer cancel()
	c, err := b.counted(ctx)
	why := cause.Unreachable
	if errors.Is(err, syscall.ECONNREFUSED) || b.Address.Unix != "" && errors.Is(err, os.ErrNotExist) {
		why = cause.Refused
	}
	if err == nil {
		c, err = b.over(ctx, c)
		why = cause.TLSFailed
	}
	// The library's timer for the connection may come before that of ctx.
	if errors.Is(ctx.Err(), context.DeadlineExceeded) || os.IsTimeout(err) {
		why = cause.ConnectTimeout
	}
	if err != nil {
		return nil, &DialError{err, why}
	}
	return c, nil
}

// errAllUsed is the error of a connection that would be one too many.
var errAllUsed = &net.OpError{Op: "dial", Net: "tcp", Err: os.NewSyscallError("socket", syscall.EMFILE)}

// counted dials, and counts the connection among those that backends may have.
// Where there are too many, those that wait for a request are closed for it.
func (b *Backend) counted(ctx context.Context) (net.Conn, error) {
	t := &b.set.conns
	if !t.Take() && (!b.set.CloseUnused() || !t.Take()) {
		return nil, errAllUsed
	}
	c, err := b.dial(ctx, 0)
	if err != nil && socket.OutOfResources(err) && b.set.CloseUnused() {
		c, err = b.dial(ctx, 0)
	}
	if err != nil {
		t.Release()
		return nil, err
	}
	return &socket.CloseHook{Conn: c, Closed: t.Release}, nil
}

// secure connects, and speaks TLS where that is wanted.
func (b *Backend) secure(ctx context.Context, port int) (net.Conn, error) {
	c, err := b.dial(ctx, port)
	if err != nil {
		return nil, err
	}
	return b.over(ctx, c)
}

// over speaks TLS on a connection where that is wanted.
func (b *Backend) over(ctx context.Context, c net.Conn) (net.Conn, error) {
	if b.tls == nil {
		return c, nil
	}
	t := tls.Client(c, b.tls)
	if err := t.HandshakeContext(ctx); err != nil {
		c.Close()
		return nil, socket.TLSError(err)
	}
	if b.HTTP2 && t.ConnectionState().NegotiatedProtocol != "h2" {
		c.Close()
		return nil, errors.New("the backend does not speak HTTP/2")
	}
	return t, nil
}

// Scheme is http or https.
func (b *Backend) Scheme() string {
	if b.tls != nil {
		return "https"
	}
	return "http"
}

// ExpectWait is how long a body that the client holds back (Expect:
// 100-continue) is held back from a backend that says nothing (RFC 9110 section
// 10.1.1).
const ExpectWait = time.Second

// Transport returns the way for HTTP/2 requests whose answer is waited for so
// long: the library's, which puts many requests on one connection.
func (b *Backend) Transport(answer time.Duration) *http.Transport {
	b.mu.Lock()
	defer b.mu.Unlock()
	x := b.transports[answer]
	if x != nil && b.age > 0 && time.Since(x.born) >= b.age {
		x.CloseIdleConnections() // one in use is closed when it has waited for its time
		x = nil
	}
	if x == nil {
		dial := func(ctx context.Context, _, _ string) (net.Conn, error) { return b.Connect(ctx) }
		speaks := new(http.Protocols)
		speaks.SetHTTP2(b.tls != nil)
		speaks.SetUnencryptedHTTP2(b.tls == nil)
		x = &agingTransport{born: time.Now(), Transport: &http.Transport{
			DialContext: dial, DialTLSContext: dial, Protocols: speaks,
			DisableCompression:    true, // bodies are passed on as they are
			IdleConnTimeout:       b.kept,
			ResponseHeaderTimeout: answer,
			ExpectContinueTimeout: ExpectWait,
		}}
		b.transports[answer] = x
	}
	return x.Transport
}

// agingTransport is a way for HTTP/2 requests that is left for another at a certain age.
type agingTransport struct {
	*http.Transport
	born time.Time
}

// closeIdle lets go of what is not in use.
func (b *Backend) closeIdle() {
	b.idle.close()
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, t := range b.transports {
		t.CloseIdleConnections()
	}
}

// Host is what a request to the backend itself has for a host.
func (b *Backend) Host() string {
	if b.Address.Unix != "" {
		return "localhost"
	}
	return b.Address.String()
}
