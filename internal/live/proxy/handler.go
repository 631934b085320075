package proxy

import (
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/http/httpguts"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/limit"
	"kestrix/internal/core/request"
	"kestrix/internal/core/rewrite"
	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/pool"
	"kestrix/internal/live/tracing"
	"kestrix/internal/live/wire"
)

// exchange is one request on its way through the proxy.
type exchange struct {
	proxy   *Proxy
	pool    *pool.Pool
	w       http.ResponseWriter
	r       *http.Request
	q       pool.Request
	request request.Request // what routes and keys go by
	access  accesslog.Line
	tries   [2]accesslog.Try // where those of access begin
	span    *tracing.Span    // nil: it is not traced
	tracer  *tracing.Tracer  // that of span
	client  string           // who asks, as trusted proxies say
	peer    string           // who the connection comes from
	scheme  string           // http or https, as the client sees it
	trusted bool             // whether the peer's word counts
	// believed is the field of trusted proxies that names the client.
	believed string
	waits    config.Waits
	body     *body
	route    *config.Route
	served   *pool.Backend // of the last attempt
	server   *server
	entry    *entry
	conn     *clientConn
	out      wire.Request // of the attempt at hand
	upgrade  string       // what the client needs the connection to become; empty for HTTP
	trailers bool         // the client takes trailers
	expects  bool         // it holds its body back, and the backend is to say whether it is missing
	grpc     bool         // an RPC of gRPC
	stream   uint32       // of HTTP/2
	passed   bool         // a part of the answer may have reached the client
	stalled  bool         // the client takes nothing of the answer
	gone     bool         // the client has closed its connection
}

// facts are what the values of header fields may speak of.
func (x *exchange) facts() *rewrite.Facts {
	a := &x.access
	return &rewrite.Facts{
		Backend: a.Backend, Route: a.Route, Upstream: a.Upstream, Reason: a.Reason, Cause: a.Cause.String(), Client: x.client, Host: x.r.Host, Attempts: strconv.Itoa(a.Attempts), RequestID: a.RequestID,
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
	began := time.Now()
	entry := s.entry()
	x := &exchange{proxy: s.proxy, server: s, entry: entry, conn: clientConnOf(r), w: w, r: r}
	refused := x.startRequest()
	addr := x.who(entry)
	x.access = accesslog.Line{
		Time: began, Client: x.client, Method: r.Method, Host: r.Host, Path: r.RequestURI, Protocol: r.Proto,
		UserAgent: r.UserAgent(), Referer: r.Referer(), TraceID: tracing.TraceID(r.Header["Traceparent"]),
		RequestID: x.requestID(), Scheme: x.scheme, TLS: x.conn.secure, SNI: x.conn.sni, Header: r.Header,
	}
	if entry != nil {
		x.access.Proxy = entry.proxy
		x.traced()
	}
	if !strings.HasPrefix(r.RequestURI, "/") {
		x.access.Path = r.URL.RequestURI() // of an absolute one, host and path stand apart
	}
	defer func() {
		if x.served != nil {
			x.served.AddBytes(x.access.Bytes)
		}
		x.finish()
		lastTry(&x.access)
		x.access.Duration = time.Since(began)
		x.endRequest()
		x.over()
	}()
	if i := x.routeOf(refused, addr); i >= 0 {
		x.serve(i, addr)
	}
	x.lastPiece()
}

// serve answers a request of a route.
func (x *exchange) serve(i int, addr netip.Addr) {
	f := x.entry.frontend
	x.route = f.Routes[i]
	x.access.Route = x.route.Name
	most := x.mostBody()
	switch {
	case x.route.Limits.Rate > 0 && x.limited(f, x.route, addr):
	case most > 0 && x.r.ContentLength > most:
		x.tooLarge(most)
	case x.own(x.route), x.bare(i):
	case !x.prepare(i, most):
	default:
		x.forward()
	}
}

// routeOf returns the position of the route that takes the request, -1 if it has been
// answered because none does, or may.
func (x *exchange) routeOf(refused *wire.Refusal, addr netip.Addr) int {
	r, entry := x.r, x.entry
	if entry == nil {
		x.fail(http.StatusServiceUnavailable, cause.Closing, "this listener is being closed")
		return -1
	}
	x.access.Frontend = entry.frontend.Name
	if refused != nil {
		if r.ProtoMajor == 1 {
			x.access.Method, x.access.Path, x.access.Host = refused.Method, refused.Target, ""
		}
		x.fail(refused.Status, cause.Malformed, "the request has "+refused.Why)
		return -1
	}
	if x.unserved() || x.challenge() {
		return -1
	}
	f := entry.frontend
	if f.Limits.Rate > 0 && x.limited(f, nil, addr) {
		return -1
	}
	i := x.match(entry, addr)
	if other := ""; i < 0 {
		if other = entry.table.Ambiguous(&x.request); other != "" {
			x.fail(http.StatusBadRequest, cause.Malformed, "the path can also be read as "+other+", which another route takes")
			return -1
		}
		x.fail(http.StatusNotFound, cause.NoRoute, "nothing is served under this address")
		return -1
	}
	return i
}

// mostBody returns how many bytes the body of the request may have, 0 for any number.
func (x *exchange) mostBody() int64 {
	if x.route.Limits.BodySize > 0 {
		return x.route.Limits.BodySize
	}
	return x.entry.frontend.Limits.BodySize
}

// prepare makes the request ready to be forwarded by a route. It returns false for one
// that has been answered, because its body did not come.
func (x *exchange) prepare(i int, most int64) bool {
	r, entry := x.r, x.entry
	f := entry.frontend
	x.pool, x.waits = entry.pools[i], entry.waits[i]
	x.access.Upstream = x.pool.Name
	x.q = pool.Request{
		Request: upstream.Request{ID: x.proxy.request.Add(1) - 1, Key: trace.ClientKey(x.client), Seat: upstream.None, Repeatable: request.Idempotent(r.Method)},
		Parts:   &x.request, Cookies: r.CookiesNamed, Secure: x.scheme == "https",
	}
	x.access.ID = x.q.ID
	x.upgrade = upgradeWanted(r)
	x.trailers = httpguts.HeaderValuesContainsToken(r.Header["Te"], "trailers")
	if r.Body != nil && r.Body != http.NoBody && r.ContentLength != 0 && x.upgrade == "" {
		x.body = &body{src: r.Body, most: most, pause: f.Timeouts.RequestBody, client: http.NewResponseController(x.w)}
		if x.grpc || x.route.StreamRequests {
			x.expects = r.Header["Expect"] != nil
		} else {
			x.body.rate.least = f.Limits.BodyRate
			if err := x.body.collect(func() bool { return len(r.Trailer) == 0 }); err != nil {
				x.badBody(err)
				return false
			}
		}
	}
	return true
}

// startRequest notes what the guard knows of the request, and returns why it is
// refused, nil if it is not.
func (x *exchange) startRequest() *wire.Refusal {
	r, g := x.r, x.conn.guard
	x.grpc = isGRPC(r.Header)
	if r.ProtoMajor == 1 {
		x.conn.asked++
		if no := g.Refused(); no != nil && no.Number == x.conn.asked {
			return no
		}
		return nil
	}
	said := r.Header[wire.StreamField]
	delete(r.Header, wire.StreamField)
	delete(r.Header, "Host") // the same as :authority, or taken for it: the guard has seen to that
	stream, refused := wire.Stream(said)
	x.stream = stream
	return refused
}

// endRequest sees to what comes after the request: who left has left when the
// guard saw it.
func (x *exchange) endRequest() {
	if x.r.ProtoMajor != 1 {
		return
	}
	if at := x.conn.guard.Ended(); x.gone && !at.IsZero() {
		x.access.Duration = max(at.Sub(x.access.Time), 0)
	}
	x.conn.guard.Answered()
}

// unserved answers what is well formed and not served here.
func (x *exchange) unserved() bool {
	r := x.r
	switch {
	case r.Method == http.MethodConnect:
		x.fail(http.StatusNotImplemented, cause.NotImplemented, "tunnels are not opened here")
	case r.Method == http.MethodTrace:
		// What a client sent, credentials included, is not shown to scripts (RFC
		// 9110 section 9.3.8).
		x.fail(http.StatusNotImplemented, cause.NotImplemented, "TRACE is not answered here")
	case r.ProtoMajor == 2 && len(r.Header["Expect"]) > 0 && !strings.EqualFold(strings.Join(r.Header["Expect"], ","), "100-continue"):
		x.fail(http.StatusExpectationFailed, cause.Malformed, "the request has an expectation other than 100-continue")
	case r.URL.Scheme == "https" && x.scheme != "https":
		// RFC 9110 section 7.4: only over a connection that is secured for it.
		x.fail(http.StatusMisdirectedRequest, cause.Malformed, "the request is for https, and came in clear text")
	default:
		return false
	}
	return true
}

// upgradeWanted returns the protocol that a client wants to go over to (RFC 9110
// section 7.8). HTTP/2 is not begun that way any more (RFC 9113 section 3.1),
// and a body would have to come first.
func upgradeWanted(r *http.Request) string {
	v := r.Header["Upgrade"]
	if len(v) != 1 || r.ProtoMajor != 1 || r.ProtoMinor == 0 || r.ContentLength != 0 || !httpguts.HeaderValuesContainsToken(r.Header["Connection"], "upgrade") {
		return ""
	}
	if strings.EqualFold(v[0], "h2c") || strings.EqualFold(v[0], "h2") || strings.ContainsAny(v[0], ",") {
		return ""
	}
	return v[0]
}

// own answers what a route answers by itself.
func (x *exchange) own(route *config.Route) bool {
	switch {
	case route.Redirect != nil:
		x.w.Header().Set("Location", route.Redirect.Target(x.request.Host, x.r.URL.RequestURI()))
		x.access.Reason = "redirect"
		x.answer(route.Redirect.Status, "see "+x.w.Header().Get("Location"))
	case route.Reply != nil:
		x.access.Status, x.access.Reason = route.Reply.Status, "reply"
		x.w.Header().Set("Content-Type", route.Reply.ContentType)
		x.answerFields(x.w.Header())
		x.w.WriteHeader(route.Reply.Status)
		x.say([]byte(route.Reply.Body))
	default:
		return false
	}
	return true
}

// bare redirects a request for a prefix that its route drops to the same with a / behind
// it: relative links of the page would lead elsewhere otherwise.
func (x *exchange) bare(i int) bool {
	if !x.entry.table.Redirects(i, &x.request) {
		return false
	}
	to := x.request.Path + "/"
	if _, query, has := strings.Cut(x.r.RequestURI, "?"); has {
		to += "?" + query
	}
	x.w.Header().Set("Location", to)
	x.access.Reason = "redirect"
	x.answer(http.StatusPermanentRedirect, "see "+to)
	return true
}

// match returns the position of the route that takes the request.
func (x *exchange) match(e *entry, client netip.Addr) int {
	query := ""
	x.request, query = request.Of(x.r.Method, x.r.Host, x.r.RequestURI)
	q := &x.request
	q.Client, q.SNI = client, x.conn.sni
	q.Header, q.Query, q.Cookie = x.header, request.Query(query), request.Cookies(x.r.Header["Cookie"])
	if !client.IsValid() {
		q.Unknown |= route.AskClient
	}
	i, _ := e.table.Match(q)
	return i
}

// header returns the value of a header field.
func (x *exchange) header(name string) (string, bool) { return request.Joined(x.r.Header.Values(name)) }

// limited answers a client that asks too often.
func (x *exchange) limited(f *config.Frontend, r *config.Route, client netip.Addr) bool {
	wait := x.proxy.limited(f, r, limit.Key(client))
	if wait == 0 {
		return false
	}
	x.w.Header().Set("Retry-After", strconv.Itoa(int((wait+time.Second-1)/time.Second)))
	x.fail(http.StatusTooManyRequests, cause.RateLimited, "slow down")
	return true
}

// tooLarge refuses a body.
func (x *exchange) tooLarge(most int64) {
	x.w.Header().Set("Connection", "close") // what is left of it is not read
	x.fail(http.StatusRequestEntityTooLarge, cause.TooLarge, "a body may have "+config.FormatSize(most)+" here")
}

// forward has the core choose and sends the request, over again while the core
// says so.
func (x *exchange) forward() {
	for {
		d, ok := x.pool.Decide(x.r.Context(), &x.q)
		if !ok {
			x.abandoned()
			return
		}
		if x.q.Session != 0 {
			x.access.Session = sessionName(x.q.Session)
		}
		endTry(&x.access)
		x.access.Attempts, x.access.Reason, x.access.Moved = int(x.q.Attempt.Number), d.Reason, x.access.Moved || d.Verdict.Moved()
		if d.Backend == nil {
			x.access.Backend, x.access.Address = "", ""
			x.access.Attempts-- // nobody was asked
			x.fail(http.StatusServiceUnavailable, d.Verdict.Reason.Cause(), "no backend is available")
			return
		}
		x.access.Backend, x.access.Address, x.served = d.Backend.Name, d.Backend.Where, d.Backend
		x.beginTry(d.Reason)
		if !x.try(d.Backend, d.Cookie) {
			return
		}
		if !x.body.wait(x.r.Context()) {
			x.abandoned()
			return
		}
	}
}

// abandoned ends a request whose client left between two attempts, or sent a body
// that cannot be understood.
func (x *exchange) abandoned() {
	if x.conn.guard.BodyMalformed() {
		x.badBody(wire.ErrMalformed)
		return
	}
	x.clientLeft()
	panic(http.ErrAbortHandler)
}

// sessionName is how a session stands in the access log. It is no secret: what
// opens a seat is the sealed cookie.
func sessionName(id uint64) string { return strconv.FormatUint(id, 16) }
