package proxy

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/rewrite"
	"kestrix/internal/core/route"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
)

// exchange is one request on its way through the proxy.
type exchange struct {
	proxy   *Proxy
	pool    *pool
	w       http.ResponseWriter
	r       *http.Request
	q       upstream.Request
	attempt upstream.Attempt
	access  Access
	client  string
	body    *body
	session uint64 // of the seat cookie, 0 without one
	route   *config.Route
}

// facts are what the values of header fields may speak of.
func (x *exchange) facts() *rewrite.Facts {
	a := &x.access
	return &rewrite.Facts{
		Backend: a.Backend, Route: a.Route, Upstream: a.Upstream, Reason: a.Reason, Client: x.client, Host: x.r.Host, Attempts: strconv.Itoa(a.Attempts),
	}
}

// answerFields changes the header fields of an answer as the route wants.
func (x *exchange) answerFields(h http.Header) {
	if x.route != nil && x.route.Headers != nil {
		rewrite.Fields(h, x.route.Headers.Answer, x.facts())
	}
}

// ServeHTTP takes a request of a listener.
func (s *server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p := s.proxy
	began := time.Now()
	client, addr := clientAddress(r.RemoteAddr)
	x := &exchange{proxy: p, w: w, r: r, client: client}
	x.access = Access{
		Time: began, Client: client, Method: r.Method, Host: r.Host, Path: r.URL.RequestURI(), Protocol: r.Proto,
		UserAgent: r.UserAgent(), Referer: r.Referer(),
	}
	defer func() {
		x.access.Duration = time.Since(began)
		p.o.Access(&x.access)
	}()
	entry := p.state.Load().byListen[s.address]
	if entry == nil {
		x.answer(http.StatusServiceUnavailable, "closing", "this listener is being closed")
		return
	}
	x.access.Frontend = entry.frontend.Name
	if r.Method == http.MethodConnect {
		x.answer(http.StatusNotImplemented, "no-tunnel", "tunnels are not opened here")
		return
	}
	i := x.match(entry, addr)
	if i < 0 {
		x.answer(http.StatusNotFound, "no-route", "nothing is served under this address")
		return
	}
	x.access.Route = entry.frontend.Routes[i].Name
	x.route = entry.frontend.Routes[i]
	if x.own(x.route) {
		return
	}
	x.pool = entry.pools[i]
	x.access.Upstream = x.pool.name
	x.q = upstream.Request{
		ID: p.request.Add(1) - 1, Client: trace.ClientKey(client), Seat: upstream.None, Repeatable: replay.Idempotent(r.Method),
	}
	if r.Body != nil && r.Body != http.NoBody && r.ContentLength != 0 {
		x.body = &body{src: r.Body}
	}
	x.forward()
}

// own answers what a route answers by itself.
func (x *exchange) own(route *config.Route) bool {
	switch {
	case route.Redirect != nil:
		x.w.Header().Set("Location", route.Redirect.Target(replay.HostName(x.r.Host), x.r.URL.RequestURI()))
		x.answer(route.Redirect.Status, "redirect", "see "+x.w.Header().Get("Location"))
	case route.Reply != nil:
		x.access.Status, x.access.Reason = route.Reply.Status, "reply"
		x.w.Header().Set("Content-Type", route.Reply.ContentType)
		x.answerFields(x.w.Header())
		x.w.WriteHeader(route.Reply.Status)
		if x.r.Method != http.MethodHead {
			n, _ := io.WriteString(x.w, route.Reply.Body) // a client that left is told by the count
			x.access.Bytes = int64(n)
		}
	default:
		return false
	}
	return true
}

// match gives the position of the route that takes the request.
func (x *exchange) match(e *entry, client netip.Addr) int {
	r := x.r
	q := route.Request{Method: r.Method, Host: replay.HostName(r.Host), Path: r.URL.EscapedPath(), Client: client}
	if e.table.Asks&route.AskHeader != 0 {
		q.Header = func(name string) (string, bool) {
			v := r.Header.Values(name)
			if len(v) == 0 {
				return "", false
			}
			return v[0], true
		}
	}
	if e.table.Asks&route.AskQuery != 0 {
		q.Query = replay.QueryLookup(r.URL.RawQuery)
	}
	if e.table.Asks&route.AskCookie != 0 {
		q.Cookie = func(name string) (string, bool) {
			c, err := r.Cookie(name)
			if err != nil {
				return "", false
			}
			return c.Value, true
		}
	}
	if !client.IsValid() {
		q.Unknown |= route.AskClient
	}
	i, _ := e.table.Match(&q)
	return i
}

// forward has the core choose and sends the request, over again while the core
// says so.
func (x *exchange) forward() {
	l := x.pool
	for {
		l.mu.Lock()
		if x.attempt.Number == 0 {
			x.findSeat()
		}
		v := l.core.Choose(l.proxy.now(), &x.q, &x.attempt)
		why := l.core.ReasonWord(v.Reason)
		var b *backend
		if v.Kind == upstream.Go {
			b = l.backends[v.Backend]
		}
		cookie := x.seatCookie(v)
		l.noteLocked()
		l.mu.Unlock()
		x.access.Attempts, x.access.Reason = x.attempt.Number, why
		if b == nil {
			x.access.Backend = ""
			x.answer(http.StatusServiceUnavailable, why, "no backend is available")
			return
		}
		x.access.Backend = b.name
		if !x.try(b, cookie) {
			return
		}
		x.body.wait(x.r.Context())
	}
}

// findSeat reads the seat cookie. l.mu is held.
func (x *exchange) findSeat() {
	l := x.pool
	if l.sealer == nil || l.cfg.Sticky == nil || l.cfg.Sticky.By != "cookie" {
		return
	}
	c, err := x.r.Cookie(l.cfg.Sticky.Name)
	if err != nil {
		return
	}
	t, err := l.sealer.Open(l.name, c.Value)
	if err != nil {
		return
	}
	x.q.Seat = l.core.Seat(t.Backend)
	x.q.SeatAge = max(time.Since(t.Issued), 0)
	x.session = t.Session
	x.access.Session = sessionName(t.Session)
}

// seatCookie makes the cookie that a verdict wants given, nil for none. l.mu is
// held.
func (x *exchange) seatCookie(v upstream.Verdict) *http.Cookie {
	l := x.pool
	if v.Seat == upstream.None || l.sealer == nil || l.cfg.Sticky == nil || l.cfg.Sticky.By != "cookie" {
		return nil
	}
	if x.session == 0 {
		x.session = randomNumber()
		x.access.Session = sessionName(x.session)
	}
	var nonce [sticky.NonceSize]byte
	fill(nonce[:])
	value := l.sealer.Seal(nonce, l.name, sticky.Ticket{
		Session: x.session, Backend: sticky.BackendHash(l.name, l.core.Backend(v.Seat).Name), Issued: time.Now(),
	})
	return &http.Cookie{
		Name: l.cfg.Sticky.Name, Value: value, Path: "/", MaxAge: int(l.cfg.Sticky.TTL.Seconds()),
		HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: x.r.TLS != nil,
	}
}

// sessionName is how a session stands in the access log. It is no secret: what
// opens a seat is the sealed cookie.
func sessionName(id uint64) string { return strconv.FormatUint(id, 16) }

// try sends one attempt; true asks for another.
func (x *exchange) try(b *backend, cookie *http.Cookie) bool {
	ctx, cancel := context.WithCancel(x.r.Context())
	defer cancel()
	sent := time.Now()
	res, err := b.transport.RoundTrip(x.outgoing(ctx, b))
	if err != nil {
		return x.broke(err)
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusSwitchingProtocols {
		return x.broke(errors.New("the backend switched protocols without being asked"))
	}
	x.access.FirstByte = time.Since(sent)
	o := upstream.Outcome{Kind: upstream.Answered, Status: res.StatusCode, NoRetry: !x.body.again()}
	if x.repeats(o) {
		return x.settle(o) == upstream.Again
	}
	x.passOn(b, res, cookie, o)
	return false
}

func (x *exchange) repeats(o upstream.Outcome) bool {
	x.pool.mu.Lock()
	defer x.pool.mu.Unlock()
	return x.pool.core.Repeats(&x.q, &x.attempt, o)
}

func (x *exchange) settle(o upstream.Outcome) upstream.Step {
	l := x.pool
	l.mu.Lock()
	defer l.mu.Unlock()
	step := l.core.Settle(l.proxy.now(), &x.q, &x.attempt, o)
	l.noteLocked()
	return step
}

// left tells the core that the client went away, which says nothing of the
// backend.
func (x *exchange) left() {
	l := x.pool
	l.mu.Lock()
	defer l.mu.Unlock()
	l.core.Cancel(l.proxy.now(), &x.attempt)
	x.access.Status = 0 // none was sent
	x.access.Reason = "client-left"
}

// broke handles an attempt without an answer; true asks for another.
func (x *exchange) broke(err error) bool {
	if x.r.Context().Err() != nil {
		x.left()
		return false
	}
	o := upstream.Outcome{Kind: upstream.Reset, NoRetry: !x.body.again()}
	status, text := http.StatusBadGateway, "the backend broke the connection"
	var de *dialError
	var ne net.Error
	switch {
	case errors.As(err, &de) && de.timeout:
		o.Kind, status, text = upstream.ConnectTimeout, http.StatusGatewayTimeout, "the backend cannot be reached"
	case errors.As(err, &de):
		o.Kind, status, text = upstream.ConnectRefused, http.StatusBadGateway, "the backend refuses connections"
	case errors.As(err, &ne) && ne.Timeout():
		o.Kind, status, text = upstream.AnswerTimeout, http.StatusGatewayTimeout, "the backend did not answer in time"
	}
	if x.settle(o) == upstream.Again {
		return true
	}
	x.answer(status, strings.ReplaceAll(o.Kind.String(), " ", "-"), text)
	return false
}

// answer gives an answer of the proxy's own.
func (x *exchange) answer(status int, why, text string) {
	x.access.Status, x.access.Reason = status, why
	h := x.w.Header()
	h.Set("Content-Type", "text/plain; charset=utf-8")
	h.Set("Cache-Control", "no-store")
	addVia(h, 1, 1)
	if status == http.StatusServiceUnavailable {
		h.Set("Retry-After", "5")
	}
	x.answerFields(h)
	x.w.WriteHeader(status)
	if x.r.Method != http.MethodHead {
		n, _ := x.w.Write([]byte(http.StatusText(status) + ": " + text + "\n"))
		x.access.Bytes = int64(n)
	}
}
