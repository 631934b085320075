package proxy

import (
	"context"
	"errors"
	"io"
	"maps"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"net/url"
	"sync"
	"time"

	"kestrix/internal/live/pool"
	"kestrix/internal/live/wire"
)

// http2Trip is a round trip on a stream of HTTP/2.
type http2Trip struct {
	b      *pool.Backend
	res    *http.Response
	ctx    context.Context
	cancel context.CancelCauseFunc
	idle   *time.Timer
	wait   time.Duration
}

// overHTTP2 sends an attempt over HTTP/2. The answer's fields are added to the
// client's.
func (x *exchange) overHTTP2(b *pool.Backend, q *wire.Request) (roundTrip, answerHead, error) {
	ctx, cancel := context.WithCancelCause(x.r.Context())
	t := &http2Trip{b: b, ctx: ctx, cancel: cancel, wait: x.waits.Idle}
	b.Opened(t, pool.OpenRequest)
	began := time.Now()
	x.access.Connect = 0
	// The library tells these from goroutines of its own, which may come late.
	var telling sync.Mutex
	over := false
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{
		GotConn: func(i httptrace.GotConnInfo) {
			telling.Lock()
			defer telling.Unlock()
			if !over && !i.Reused {
				x.access.Connect = max(time.Since(began), 1)
			}
		},
		Got1xxResponse: func(status int, h textproto.MIMEHeader) error {
			telling.Lock()
			defer telling.Unlock()
			if !over {
				x.interim(status, http.Header(h))
			}
			return nil
		},
	})
	res, err := b.Transport(x.waits.Answer).RoundTrip(x.outgoing(ctx, b, q))
	telling.Lock()
	over = true
	telling.Unlock()
	if err != nil {
		if errors.Is(context.Cause(ctx), pool.ErrTakenOut) {
			err = pool.ErrTakenOut
		}
		b.Over(t)
		cancel(nil)
		return nil, answerHead{}, err
	}
	t.res = res
	t.idle = time.AfterFunc(t.wait, func() { t.cut(errIdle) })
	removeHopByHop(res.Header)
	if len(res.Trailer) > 0 && x.r.ProtoMajor == 1 {
		// HTTP/1.1 has trailers behind bodies in chunks only.
		delete(res.Header, "Content-Length")
		for name := range res.Trailer {
			res.Header.Add("Trailer", name)
		}
	}
	maps.Copy(x.w.Header(), res.Header)
	return t, answerHead{res.StatusCode, res.ProtoMajor, res.ProtoMinor, res.ContentLength, ""}, nil
}

var errNotKept = errors.New("more of the body has been read than is kept")

// outgoing makes the request that the library sends.
func (x *exchange) outgoing(ctx context.Context, b *pool.Backend, q *wire.Request) *http.Request {
	u, err := url.ParseRequestURI(q.Target)
	if err != nil { // such as *
		u = &url.URL{Opaque: q.Target}
	}
	u.Scheme, u.Host = b.Scheme(), b.Host()
	out := (&http.Request{
		Method: q.Method, URL: u, Host: q.Host, Header: maps.Clone(q.Header), ContentLength: q.Length,
		Proto: "HTTP/2.0", ProtoMajor: 2,
	}).WithContext(ctx)
	if q.TE {
		out.Header["Te"] = []string{"trailers"}
	}
	if x.body != nil {
		x.bothWays()
		out.Body = x.body.attempt()
		// For a request that the backend says it has not looked at, as when it
		// ends a connection (RFC 9113 section 6.8): that is no failure of anybody.
		out.GetBody = func() (io.ReadCloser, error) {
			if !x.body.repeats(func(can bool) bool { return can }) {
				return nil, errNotKept
			}
			x.body.last.Close() // if it was never read, nobody has
			return x.body.attempt(), nil
		}
		out.Trailer = x.r.Trailer
	}
	if _, ok := out.Header["User-Agent"]; !ok {
		out.Header["User-Agent"] = []string{""} // do not invent one
	}
	return out
}

func (t *http2Trip) Read(p []byte) (int, error) {
	n, err := t.res.Body.Read(p)
	t.idle.Reset(t.wait)
	return n, err
}

func (t *http2Trip) ready() bool { return false }

func (t *http2Trip) trailer() (http.Header, error) { return t.res.Trailer, nil }

func (t *http2Trip) cut(cause error) { t.cancel(cause) }

// TakenOut ends the round trip, as its backend is taken out.
func (t *http2Trip) TakenOut() { t.cut(pool.ErrTakenOut) }

func (t *http2Trip) cause() error {
	if t.ctx.Err() == nil {
		return nil
	}
	return context.Cause(t.ctx)
}

func (t *http2Trip) end() {
	t.b.Over(t)
	t.idle.Stop()
	t.cancel(io.EOF)
	t.res.Body.Close()
}
