package proxy

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/limit"
	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/pool"
	"kestrix/internal/live/socket"
	"kestrix/internal/live/wire"
)

// connection is one of a tcp frontend on its way through the proxy.
type connection struct {
	entry   *entry
	client  net.Conn
	pool    *pool.Pool
	waits   config.Waits
	q       pool.Request
	request request.Request // what routes and keys go by
	access  accesslog.Line
}

// stream carries a connection of a tcp frontend to its end.
func (s *server) stream(e *entry, c net.Conn) {
	p := s.proxy
	began := time.Now()
	client, addr := socket.ClientAddress(c.RemoteAddr().String())
	x := &connection{entry: e, client: c}
	x.access = accesslog.Line{Time: began, Client: client, Protocol: "tcp", Kind: trace.TCP, Frontend: e.frontend.Name, RequestID: p.ids.next(), Proxy: e.proxy}
	challenge := false // of the ACME server, which is nobody's connection
	defer func() {
		if challenge {
			return
		}
		lastTry(&x.access)
		x.access.Duration = time.Since(began)
		p.over(&x.access)
	}()
	if e.frontend.Limits.Rate > 0 && p.limited(e.frontend, nil, limit.Key(addr)) > 0 {
		x.access.Cause = cause.RateLimited
		return
	}
	sni := ""
	switch {
	case e.tls != nil:
		t := tls.Server(c, e.tls)
		ctx, cancel := context.WithTimeout(context.Background(), e.frontend.Timeouts.RequestHeader)
		err := t.HandshakeContext(ctx)
		cancel()
		if err != nil {
			x.access.Cause = cause.TLSFailed
			p.requests.connection(e.frontend.Name, cause.TLSFailed.String())
			return
		}
		if challenge = wasChallenge(t); challenge {
			return
		}
		state := t.ConnectionState()
		sni = state.ServerName
		x.access.TLS = tlsVersion(state.Version)
		x.client = t
	case e.table.Asks&route.AskSNI != 0:
		sni, x.client = serverName(c, e.frontend.Timeouts.RequestHeader)
	}
	x.request = request.OfConnection(addr, sni)
	x.access.Host, x.access.SNI = x.request.SNI, x.request.SNI
	i, _ := e.table.Match(&x.request)
	if i < 0 || e.pools[i] == nil {
		x.access.Cause = cause.NoRoute
		return
	}
	r := e.frontend.Routes[i]
	x.access.Route, x.pool, x.waits = r.Name, e.pools[i], e.waits[i]
	x.access.Upstream = x.pool.Name
	if r.Limits.Rate > 0 && p.limited(e.frontend, r, limit.Key(addr)) > 0 {
		x.access.Cause = cause.RateLimited
		return
	}
	x.q = pool.Request{Request: upstream.Request{ID: p.request.Add(1) - 1, Key: trace.ClientKey(client), Seat: upstream.None}, Parts: &x.request}
	x.access.ID = x.q.ID
	x.carry(s.gone)
}

// carry has the core choose a backend and connects to it, over again while the
// core says so, and then passes bytes.
func (x *connection) carry(gone context.Context) {
	l := x.pool
	for {
		// Whether a client that waits has gone is only known when it is read from.
		d, ok := l.Decide(gone, &x.q)
		if !ok {
			x.access.Cause = cause.ClientLeft
			return
		}
		b, why := d.Backend, d.Reason
		endTry(&x.access)
		x.access.Attempts, x.access.Reason, x.access.Moved = int(x.q.Attempt.Number), why, x.access.Moved || d.Verdict.Moved()
		if b == nil {
			x.access.Backend, x.access.Address, x.access.Cause = "", "", d.Verdict.Reason.Cause()
			x.access.Attempts-- // nobody was asked
			return
		}
		x.access.Backend, x.access.Address = b.Name, b.Where
		x.access.Connect, x.access.FirstByte = 0, 0
		x.access.Tries = append(x.access.Tries, accesslog.Try{Backend: b.Name, Address: x.access.Address, Reason: why, Began: time.Since(x.access.Time)})
		defer func() { b.AddBytes(x.access.Bytes) }()
		ctx := socket.WithClient(gone, x.client.RemoteAddr(), x.client.LocalAddr())
		began := time.Now()
		c, err := b.Connect(ctx)
		if err != nil && socket.OutOfResources(err) {
			l.Cancel(&x.q)
			x.access.Cause = cause.Overloaded
			return
		}
		x.access.Connect = max(time.Since(began), 1)
		if err != nil {
			x.access.Tries[len(x.access.Tries)-1].Cause = pool.DialCause(err)
			if l.Settle(&x.q, upstream.Outcome{Kind: pool.ConnectKind(err)}) == upstream.Again {
				continue
			}
			x.access.Cause = pool.DialCause(err)
			return
		}
		x.access.FirstByte = time.Since(began)
		good := upstream.Outcome{Kind: upstream.Answered, Status: 200, FirstByte: max(x.access.FirstByte, 1)}
		var o upstream.Outcome
		o, x.access.Cause = splice(b, pool.OpenTCP, x.client, c, x.waits, &x.access.Bytes, good, func() { l.Begun(&x.q) })
		l.Settle(&x.q, o)
		return
	}
}

// splice passes bytes both ways until both have ended, each end being passed on
// by itself. It returns the outcome, good for a good end, and its cause. first is called at the backend's first byte; nil where its answer has begun
// already. b and kind are noted as long as it is open.
func splice(b *pool.Backend, kind pool.OpenKind, client, backend net.Conn, waits config.Waits, received *int64, good upstream.Outcome, first func()) (upstream.Outcome, cause.Cause) {
	defer backend.Close()
	var moved atomic.Int64 // the last movement, in nanoseconds since began
	began := time.Now()
	var cut atomic.Int32
	end := func(kind int32) {
		cut.CompareAndSwap(0, kind)
		client.Close()
		backend.Close()
	}
	const idle, over, out = 1, 2, 3
	open := &spliced{func() { end(out) }}
	b.Opened(open, kind)
	defer b.Over(open)
	var mu sync.Mutex // the timer may fire before it is known here
	var idleTimer *time.Timer
	mu.Lock()
	idleTimer = time.AfterFunc(waits.Idle, func() {
		mu.Lock()
		defer mu.Unlock()
		left := waits.Idle - (time.Since(began) - time.Duration(moved.Load()))
		if left <= 0 {
			end(idle)
			return
		}
		idleTimer.Reset(left)
	})
	mu.Unlock()
	defer idleTimer.Stop()
	if waits.Stream > 0 {
		t := time.AfterFunc(waits.Stream, func() { end(over) })
		defer t.Stop()
	}
	note := func(int) { moved.Store(int64(time.Since(began))) }
	var wg sync.WaitGroup
	var broke atomic.Int32 // who broke off first: what the other side then does is our doing
	const theClient, theBackend = 1, 2
	var answered atomic.Bool // the backend has ended its direction, and that was passed on
	wg.Go(func() {
		if isRead(passBytes(backend, client, note)) {
			broke.CompareAndSwap(0, theClient)
			backend.Close() // so must we
		}
	})
	wg.Go(func() {
		err := passBytes(client, backend, func(n int) {
			if n > 0 && first != nil {
				first()
				first = nil
			}
			*received += int64(n)
			note(n)
		})
		if isRead(err) {
			broke.CompareAndSwap(0, theBackend)
			client.Close()
		}
		answered.Store(err == nil)
	})
	wg.Wait()
	switch {
	case cut.Load() == idle && !answered.Load():
		return upstream.Outcome{Kind: upstream.IdleCut, Final: true}, cause.IdleTimeout
	case cut.Load() == over:
		return upstream.Outcome{Kind: upstream.CutOff, Final: true}, cause.None
	case cut.Load() == out:
		return upstream.Outcome{Kind: upstream.TakenOut, Final: true}, cause.BackendOut
	case broke.Load() == theClient && cut.Load() == 0:
		if first != nil {
			return upstream.Outcome{Kind: upstream.ClientLeft}, cause.ClientLeft
		}
		good.Final = true // it had been answered
		return good, cause.None
	case broke.Load() == theBackend && cut.Load() == 0:
		return upstream.Outcome{Kind: upstream.Reset, Final: true}, cause.BrokenStream
	}
	good.Final = true
	return good, cause.None
}

// spliced is what is open with a backend while bytes are passed.
type spliced struct{ end func() }

// TakenOut ends it.
func (s *spliced) TakenOut() { s.end() }

// readError is an error of the side that was read from.
type readError struct{ error }

func isRead(err error) bool { return errors.As(err, new(*readError)) }

// passBytes passes bytes until the end of from, and passes that end on.
func passBytes(to, from net.Conn, moved func(int)) error {
	p := buffers.Get().(*[]byte)
	defer buffers.Put(p)
	for {
		n, err := from.Read(*p)
		if n > 0 {
			moved(n)
			if _, err := to.Write((*p)[:n]); err != nil {
				from.Close()
				return err
			}
			moved(0)
		}
		if errors.Is(err, io.EOF) {
			return wire.CloseWrite(to)
		}
		if err != nil {
			return &readError{err}
		}
	}
}

// serverName reads the name in a TLS handshake's first message (RFC 8446 section
// 4.1.2, RFC 6066 section 3) without taking part in it, and returns a connection
// on which everything can be read again. What is no TLS has no name.
func serverName(c net.Conn, within time.Duration) (string, net.Conn) {
	_ = c.SetReadDeadline(time.Now().Add(within)) // where it fails, so will reading
	seen := &replayed{Conn: c}
	name := ""
	enough := errors.New("seen enough")
	_ = tls.Server(seen, &tls.Config{
		MinVersion: tls.VersionTLS10, // whatever the backend speaks
		GetConfigForClient: func(h *tls.ClientHelloInfo) (*tls.Config, error) {
			name = h.ServerName
			return nil, enough
		},
	}).Handshake() // always fails: here, or because it is no TLS
	_ = c.SetReadDeadline(time.Time{})
	seen.done = true
	return name, seen
}

// replayed is a connection whose first bytes were read to look at them, and
// are read again. While it is looked at nothing is written to it.
type replayed struct {
	net.Conn
	kept []byte
	done bool
}

// handshakeRecord is the first byte of a TLS connection (RFC 8446 section 5.1).
const handshakeRecord = 22

// maxHello bounds what is read of a first message.
const maxHello = 64 << 10

func (r *replayed) Read(b []byte) (int, error) {
	if r.done {
		if len(r.kept) > 0 {
			n := copy(b, r.kept)
			r.kept = r.kept[n:]
			return n, nil
		}
		return r.Conn.Read(b)
	}
	if len(r.kept) > maxHello {
		return 0, os.ErrDeadlineExceeded
	}
	n, err := r.Conn.Read(b)
	r.kept = append(r.kept, b[:n]...)
	if len(r.kept) > 0 && r.kept[0] != handshakeRecord {
		return 0, errors.New("not TLS") // without waiting for the rest of a header
	}
	return n, err
}

func (r *replayed) Write(b []byte) (int, error) {
	if !r.done {
		return len(b), nil // an alert of a handshake that is not ours
	}
	return r.Conn.Write(b)
}

func (r *replayed) Close() error {
	if !r.done {
		return nil
	}
	return r.Conn.Close()
}

// CloseWrite ends one direction, where the connection can.
func (r *replayed) CloseWrite() error { return wire.CloseWrite(r.Conn) }
