// Package control answers operators of a running proxy, and asks for them: its listener
// with status, events, metrics, the page and orders; and Client, by which status, watch and
// tell speak to it. The proxy opens it. It must never answer a stranger, nor do anything to
// a proxy but by its interface.
package control

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"io"
	"log"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/events"
	"kestrix/internal/live/metrics"
	"kestrix/internal/live/pool"
	"kestrix/internal/live/socket"
)

// Proxy is what is asked and told of. Its methods may be called from any goroutine.
type Proxy interface {
	metrics.Source
	// StatusWithRecent is Status with what was asked lately.
	StatusWithRecent() status.Status
	// Requests returns the kept requests that a query selects, the newest first.
	Requests(q status.RequestQuery) status.Requests
	// Configuration returns the sources of the configuration in force, without secrets.
	Configuration() []config.File
	// Alive returns when everything that decides has been reached: a proxy that is stuck
	// never does.
	Alive()
	// TakesConnections reports whether clients are served.
	TakesConnections() bool
	// Operate does what an operator wants; who is told in an event. The error is a
	// *pool.OrderError, and nothing was done.
	Operate(o status.Order, who string) (status.Told, error)
	// Zero begins all counts anew.
	Zero()
}

// Options of a control listener.
type Options struct {
	Events *events.Log
	// Reload reads the configuration again, for an operator who wants it, and says what
	// came of it, or what is wrong; nil if that cannot be had.
	Reload func() (string, error)
	// Pages makes what is shown in a browser; nil for nothing.
	Pages Pages
}

// Server answers operators. It is closed to strangers: without users only a unix socket
// or a loopback address answers, and with users only those.
type Server struct {
	proxy    Proxy
	o        Options
	address  config.Address
	state    atomic.Pointer[state]
	listener net.Listener
	serves   sync.Once // begun by the first Use
	http     *http.Server
	metrics  http.Handler
	leave    context.Context // over when those who follow are to go
	letGo    context.CancelFunc
	follow   followers
	logins   logins
	conns    socket.Table // connections
}

// state is what a reload may change.
type state struct {
	cfg *config.Control
	tls *tls.Config // nil: none
}

// Open begins to answer operators at an address that listen opens; nothing is answered
// before Use.
func Open(p Proxy, at config.Address, listen func(config.Address) (net.Listener, error), o Options) (*Server, error) {
	l, err := listenPrivately(at, listen)
	if err != nil {
		return nil, err
	}
	c := &Server{proxy: p, o: o, address: at, metrics: metrics.Handler(p)}
	c.conns.SetLimit(mostConns)
	c.leave, c.letGo = context.WithCancel(context.Background())
	c.http = &http.Server{Handler: c, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10, ErrorLog: log.New(io.Discard, "", 0), ConnState: c.track, ConnContext: c.connContext}
	c.listener = l
	return c, nil
}

// Address returns where operators are answered.
func (c *Server) Address() config.Address { return c.address }

// Listener returns what it listens with.
func (c *Server) Listener() net.Listener { return c.listener }

// Use has operators be answered as a configuration says, over TLS unless secure is nil.
func (c *Server) Use(cfg *config.Control, secure *tls.Config) {
	c.state.Store(&state{cfg, secure})
	c.serves.Do(func() {
		go func() { _ = c.http.Serve(&listener{c.listener, c}) }() // ends when it is closed
	})
}

// Unlisten frees the address. What is being asked goes on until Close.
func (c *Server) Unlisten() {
	if c != nil {
		c.listener.Close()
	}
}

// Close ends the listener and what is being asked, within a second. A nil Server has
// nothing to end.
func (c *Server) Close() {
	if c == nil {
		return
	}
	c.letGo()
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if c.http.Shutdown(ctx) != nil {
		c.http.Close()
	}
	c.listener.Close() // where it was never used
}

// ServeHTTP answers an operator.
func (c *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("Content-Security-Policy", "default-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	w.Header().Set("X-Frame-Options", "DENY")
	w.Header().Set("Referrer-Policy", "no-referrer")
	if r.Method == http.MethodGet && (r.URL.Path == "/alive" || r.URL.Path == "/ready") {
		c.probed(w, r.URL.Path == "/ready") // for everybody: it tells nothing but that
		return
	}
	user, code, why := c.who(r)
	if code != 0 {
		c.o.Events.Limited("control", status.EventRefused, "refused requests", "%s %.200q from %s: %s", r.Method, r.URL.Path, r.RemoteAddr, why)
		if code == http.StatusUnauthorized {
			w.Header().Set("WWW-Authenticate", `Basic realm="kestrix", charset="UTF-8"`)
		}
		http.Error(w, why, code)
		return
	}
	c.answer(w, r, user)
}

// paths are what is answered, each with how: asked, or told.
var paths = map[string]struct {
	tells bool
	do    func(c *Server, w http.ResponseWriter, r *http.Request, user string)
}{
	"/":              {do: (*Server).page},
	"/live":          {do: (*Server).live},
	"/status":        {do: (*Server).status},
	"/status.csv":    {do: (*Server).statusCSV},
	"/events":        {do: (*Server).listEvents},
	"/events.html":   {do: (*Server).eventsPage},
	"/requests":      {do: (*Server).listRequests},
	"/requests.html": {do: (*Server).requestsPage},
	"/configuration": {do: (*Server).configuration},
	"/metrics":       {do: func(c *Server, w http.ResponseWriter, r *http.Request, _ string) { c.metrics.ServeHTTP(w, r) }},
	"/operate":       {true, (*Server).operate},
	"/zero":          {true, (*Server).zero},
	"/reload":        {true, (*Server).reload},
}

// answer does what a user may ask or tell.
func (c *Server) answer(w http.ResponseWriter, r *http.Request, user string) {
	asks := r.Method == http.MethodGet || r.Method == http.MethodHead
	p, ok := paths[r.URL.Path]
	switch {
	case !ok && asks && c.asset(w, r):
	case !ok:
		http.Error(w, "GET /, /status, /status.csv, /requests, /events, /metrics, /configuration, /alive and /ready, and POST /operate, /zero and /reload are answered here", http.StatusNotFound)
	case p.tells != (r.Method == http.MethodPost) || !p.tells && !asks:
		w.Header().Set("Allow", map[bool]string{true: "POST", false: "GET, HEAD"}[p.tells])
		http.Error(w, "this is asked by another method", http.StatusMethodNotAllowed)
	case !p.tells || meant(w, r):
		p.do(c, w, r, user)
	}
}

// status answers with how everything stands.
func (c *Server) status(w http.ResponseWriter, r *http.Request, _ string) {
	if r.URL.Query().Has("recent") {
		answerJSON(w, http.StatusOK, c.proxy.StatusWithRecent())
		return
	}
	answerJSON(w, http.StatusOK, c.proxy.Status())
}

// Sources are the files of a configuration, with digests in the place of secrets.
type Sources struct {
	Files []Source `json:"files"`
}

// Source is a file of a configuration.
type Source struct {
	Name   string `json:"name"`
	Source string `json:"source"`
}

// configuration answers operators with what is in force; readers need not know it.
func (c *Server) configuration(w http.ResponseWriter, _ *http.Request, user string) {
	if !c.operates(user) {
		http.Error(w, "a reader is not shown the configuration", http.StatusForbidden)
		return
	}
	var out Sources
	for _, f := range c.proxy.Configuration() {
		out.Files = append(out.Files, Source{f.Name, string(f.Source)})
	}
	answerJSON(w, http.StatusOK, out)
}

// operates reports whether a user may do what operators may.
func (c *Server) operates(user string) bool {
	users := c.state.Load().cfg.Users
	i := slices.IndexFunc(users, func(u config.User) bool { return u.Name == user })
	return len(users) == 0 || i >= 0 && users[i].Operator
}

// zero has counts begin anew.
func (c *Server) zero(w http.ResponseWriter, r *http.Request, user string) {
	if err := order(w, r, &struct{}{}); err != nil {
		http.Error(w, "the body must be an empty object, {}", http.StatusBadRequest)
		return
	}
	c.proxy.Zero()
	c.o.Events.Addf("control", status.EventOrder, "counts begin anew, by %s", c.from(user, r))
	answerJSON(w, http.StatusOK, c.proxy.Status())
}

// probed answers those who look whether the proxy itself is well: alive once all
// that decides has been reached, ready while it takes connections.
func (c *Server) probed(w http.ResponseWriter, ready bool) {
	c.proxy.Alive()
	if ready && !c.proxy.TakesConnections() {
		http.Error(w, "it takes no connections", http.StatusServiceUnavailable)
		return
	}
	_, _ = io.WriteString(w, "yes\n") // whoever asked may have left
}

// orderSize is how many bytes an order may have.
const orderSize = 4 << 10

// order decodes the body of a request into a value. The body must be one JSON object
// of at most orderSize bytes with nothing behind it.
func order(w http.ResponseWriter, r *http.Request, into any) error {
	d := json.NewDecoder(http.MaxBytesReader(w, r.Body, orderSize))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return errors.New("something stands behind the order")
	}
	return nil
}

// meant reports whether a request that changes something is no page's of another
// site: a browser can be had to send a form for one, but not this.
func meant(w http.ResponseWriter, r *http.Request) bool {
	if kind, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";"); kind != "application/json" {
		http.Error(w, "the order must be sent as application/json", http.StatusUnsupportedMediaType)
		return false
	}
	return true
}

// from words who tells something.
func (c *Server) from(user string, r *http.Request) string {
	peer := peerName(r)
	switch {
	case peer != "" && user == anybody:
		return peer
	case peer != "":
		return user + ", as " + peer
	case c.address.Unix != "":
		return user
	}
	return user + " from " + r.RemoteAddr
}

// anybody is the user where control has none.
const anybody = "any user of this machine"

// reload has the configuration read again.
func (c *Server) reload(w http.ResponseWriter, r *http.Request, user string) {
	if c.o.Reload == nil {
		http.Error(w, "this proxy cannot be told to read its configuration", http.StatusNotImplemented)
		return
	}
	if err := order(w, r, &struct{}{}); err != nil {
		http.Error(w, "the body must be an empty object, {}", http.StatusBadRequest)
		return
	}
	c.o.Events.Addf("control", status.EventOrder, "reload, by %s", c.from(user, r))
	said, err := c.o.Reload()
	if err != nil {
		http.Error(w, strings.TrimSpace(said+"\n"+err.Error()), http.StatusConflict)
		return
	}
	answerJSON(w, http.StatusOK, struct {
		Reloaded string `json:"reloaded"`
	}{said})
}

func (c *Server) operate(w http.ResponseWriter, r *http.Request, user string) {
	var o status.Order
	if err := order(w, r, &o); err != nil {
		http.Error(w, `the order cannot be read; it is like {"backend":"booking.auk","do":"drain"}`, http.StatusBadRequest)
		return
	}
	told, err := c.proxy.Operate(o, c.from(user, r))
	var no *pool.OrderError
	switch {
	case errors.As(err, &no) && no.Conflict:
		http.Error(w, err.Error(), http.StatusConflict)
	case errors.As(err, &no) && no.Stale:
		http.Error(w, err.Error(), http.StatusPreconditionFailed)
	case err != nil:
		http.Error(w, err.Error(), http.StatusBadRequest)
	default:
		answerJSON(w, http.StatusOK, told)
	}
}

func answerJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // a client that left
}

// who returns the user that asks; or the status with which it is refused, and why.
func (c *Server) who(r *http.Request) (user string, status int, why string) {
	if origin := r.Header.Get("Origin"); origin != "" {
		if u, err := url.Parse(origin); err != nil || !strings.EqualFold(u.Host, r.Host) {
			return "", http.StatusForbidden, "a page of another site asks"
		}
	}
	if len(c.state.Load().cfg.Users) == 0 {
		local := c.address.Unix != ""
		if ip, err := netip.ParseAddr(c.address.Host); err == nil {
			local = local || ip.IsLoopback()
		}
		if !local {
			return "", http.StatusForbidden, "control has no users, and answers on a unix socket or loopback address only"
		}
		// A page can have its own name lead to this machine, and be of the same
		// site then; it cannot ask for an address.
		if !byAddress(r.Host) {
			return "", http.StatusForbidden, "without users control is asked for by its address, and not by a name"
		}
		return anybody, 0, ""
	}
	name, password, ok := r.BasicAuth()
	if !ok {
		return "", http.StatusUnauthorized, "a user and a password are missing"
	}
	u, how := c.logins.check(c.state.Load().cfg.Users, source(r.RemoteAddr), name, password)
	switch {
	case how == loginTooMany:
		return "", http.StatusTooManyRequests, "too many wrong log-ins from this address; wait a minute"
	case how == loginBusy:
		return "", http.StatusServiceUnavailable, "other log-ins are being checked; try again"
	case how == loginWrong:
		return "", http.StatusUnauthorized, "user or password is wrong"
	case !u.Operator && r.Method != http.MethodGet && r.Method != http.MethodHead:
		return "", http.StatusForbidden, "a reader cannot change anything"
	}
	return name, 0, ""
}

// byAddress reports whether a Host is an address, or the name that every machine
// has for itself.
func byAddress(host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	_, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err == nil || strings.EqualFold(host, "localhost")
}
