package proxy

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/bcrypt"

	"kestrix/internal/core/config"
	"kestrix/internal/core/upstream"
)

// control answers operators. It is closed to strangers: without users only a
// unix socket or a loopback address answers, and with users only those.
type control struct {
	proxy   *Proxy
	address config.Address
	state   atomic.Pointer[controlState]
	http    *http.Server

	mu     sync.Mutex
	known  map[string][sha256.Size]byte // passwords that were right, by user, as digests: a bcrypt check takes long on purpose
	failed int                          // log-ins that were wrong, lately
	since  time.Time
}

// controlState is what a reload may change.
type controlState struct {
	cfg *config.Control
	tls *tls.Config // nil: none
}

// controlListener speaks TLS where the state of the moment wants it.
type controlListener struct {
	net.Listener
	c *control
}

func (l *controlListener) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if s := l.c.state.Load(); err == nil && s.tls != nil {
		return tls.Server(conn, s.tls), nil
	}
	return conn, err
}

// Status is what control tells of a running proxy.
type Status struct {
	Began     time.Time        `json:"began"`
	Upstreams []UpstreamStatus `json:"upstreams"`
}

// UpstreamStatus is one upstream of a Status.
type UpstreamStatus struct {
	Name     string          `json:"name"`
	Waiting  int             `json:"waiting"` // requests in the queue
	Backends []BackendStatus `json:"backends"`
}

// BackendStatus is one backend of a Status.
type BackendStatus struct {
	Name     string  `json:"name"`
	Address  string  `json:"address"`
	State    string  `json:"state"`
	Weight   int     `json:"weight"`
	InFlight int     `json:"in_flight"`
	Rest     float64 `json:"rest"` // seconds that are left of a suspension
}

// Status gives how everything stands.
func (p *Proxy) Status() Status {
	s := Status{Began: p.began, Upstreams: []UpstreamStatus{}}
	p.mu.Lock()
	defer p.mu.Unlock()
	st := p.state.Load()
	if st == nil {
		return s
	}
	for _, u := range st.config.Upstreams {
		l := p.pools[u.Name]
		if l == nil {
			continue
		}
		l.mu.Lock()
		x := UpstreamStatus{Name: u.Name, Waiting: l.core.Waiting(), Backends: []BackendStatus{}}
		for _, m := range l.core.Members(p.now()) {
			x.Backends = append(x.Backends, BackendStatus{m.Name, l.core.Backend(m.ID).Address.String(), m.State.String(), m.Weight, m.InFlight, max(m.Rest, 0).Seconds()})
		}
		l.mu.Unlock()
		s.Upstreams = append(s.Upstreams, x)
	}
	return s
}

// Order is what an operator wants of a backend.
type Order struct {
	Backend string `json:"backend"` // UPSTREAM.BACKEND
	Do      string `json:"do"`      // park, drain, return, weight or forget
	Weight  *int   `json:"weight"`  // for weight
}

var orders = map[string]upstream.Operation{"park": upstream.Park, "drain": upstream.Drain, "return": upstream.Return, "weight": upstream.Weigh, "forget": upstream.Forget}

// Operate does what an operator wants. The error says what of it cannot be done.
func (p *Proxy) Operate(o Order) error {
	op, ok := orders[o.Do]
	if !ok {
		return fmt.Errorf("%q cannot be done; it is park, drain, return, weight or forget", o.Do)
	}
	weight := 0
	if op == upstream.Weigh {
		if o.Weight == nil || *o.Weight < 0 || *o.Weight > 10000 {
			return fmt.Errorf("a weight from 0 to 10000 is wanted")
		}
		weight = *o.Weight
	}
	name, backend, _ := strings.Cut(o.Backend, ".")
	p.mu.Lock()
	l := p.pools[name]
	p.mu.Unlock()
	if l == nil {
		return fmt.Errorf("there is no upstream %q", name)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	id, ok := l.core.Lookup(backend)
	if !ok {
		return fmt.Errorf("the upstream %q has no backend %q", name, backend)
	}
	l.core.Operate(p.now(), id, op, weight)
	l.noteLocked()
	return nil
}

// openControl begins to answer operators at an address; nothing is answered
// before use.
func (p *Proxy) openControl(at config.Placed[config.Address]) (*control, error) {
	s, err := p.listen(at.Value)
	if err != nil {
		return nil, placed(at.Range, err)
	}
	c := &control{proxy: p, address: at.Value, known: map[string][sha256.Size]byte{}}
	c.state.Store(&controlState{cfg: &config.Control{Listen: at}})
	c.http = &http.Server{Handler: c, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10, ErrorLog: log.New(io.Discard, "", 0)}
	if at.Value.Unix != "" {
		_ = os.Chmod(at.Value.Unix, 0o660) // its owner and group; where it fails the directory decides
	}
	go func() { _ = c.http.Serve(&controlListener{s.listener, c}) }() // ends when it is closed
	return c, nil
}

func (c *control) close() {
	if c == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if c.http.Shutdown(ctx) != nil {
		c.http.Close()
	}
}

// ServeHTTP answers an operator.
func (c *control) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	user, status, why := c.who(r)
	if status != 0 {
		c.proxy.event("control", "refused", "%s %s from %s: %s", r.Method, r.URL.Path, r.RemoteAddr, why)
		if status == http.StatusUnauthorized {
			w.Header().Set("WWW-Authenticate", `Basic realm="kestrix", charset="UTF-8"`)
		}
		http.Error(w, why, status)
		return
	}
	switch {
	case r.URL.Path == "/status" && (r.Method == http.MethodGet || r.Method == http.MethodHead):
		answerJSON(w, http.StatusOK, c.proxy.Status())
	case r.URL.Path == "/operate" && r.Method == http.MethodPost:
		c.operate(w, r, user)
	case r.URL.Path == "/status" || r.URL.Path == "/operate":
		http.Error(w, "this is asked by another method", http.StatusMethodNotAllowed)
	default:
		http.Error(w, "GET /status and POST /operate are answered here", http.StatusNotFound)
	}
}

func (c *control) operate(w http.ResponseWriter, r *http.Request, user string) {
	// A page of another site can have a browser send a form, but not this.
	if kind, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";"); kind != "application/json" {
		http.Error(w, "the order is wanted as application/json", http.StatusUnsupportedMediaType)
		return
	}
	var o Order
	d := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10))
	d.DisallowUnknownFields()
	if err := d.Decode(&o); err != nil {
		http.Error(w, `the order cannot be read; it is like {"backend":"booking.auk","do":"drain"}`, http.StatusBadRequest)
		return
	}
	if err := c.proxy.Operate(o); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	c.proxy.event(o.Backend, "told", "%s, by %s from %s", o.Do, user, r.RemoteAddr)
	answerJSON(w, http.StatusOK, c.proxy.Status())
}

func answerJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // a client that left
}

// Log-ins that are wrong are answered this often in a minute; further ones are
// not looked at.
const wrongLogins = 20

// who gives the user that asks; or the status with which it is refused, and why.
func (c *control) who(r *http.Request) (user string, status int, why string) {
	if len(c.state.Load().cfg.Users) == 0 {
		local := c.address.Unix != ""
		if ip, err := netip.ParseAddr(c.address.Host); err == nil {
			local = local || ip.IsLoopback()
		}
		if !local {
			return "", http.StatusForbidden, "control has no users, and answers on a unix socket or loopback address only"
		}
		return "whoever is on this machine", 0, ""
	}
	name, password, ok := r.BasicAuth()
	if !ok {
		return "", http.StatusUnauthorized, "a user and a password are wanted"
	}
	u, right := c.login(name, password)
	switch {
	case u == nil && !right:
		return "", http.StatusTooManyRequests, "too many wrong log-ins; wait a minute"
	case !right:
		return "", http.StatusUnauthorized, "user or password is wrong"
	case !u.Operator && r.Method != http.MethodGet && r.Method != http.MethodHead:
		return "", http.StatusForbidden, "a reader cannot change anything"
	}
	return name, 0, ""
}

// nobody's hash is compared with where a user does not exist, so that the time
// an answer takes tells nothing.
var nobody = config.User{Password: "$2a$10$N9qo8uLOickgx2ZMRZoMyeIjZAgcfl7p92ldGxad68LJZdL17lhWy"}

// login checks a password; no user and false says that it was not looked at.
func (c *control) login(name, password string) (*config.User, bool) {
	u := &nobody
	users := c.state.Load().cfg.Users
	for i := range users {
		if users[i].Name == name {
			u = &users[i]
		}
	}
	digest := sha256.Sum256([]byte(u.Password + "\x00" + password))
	c.mu.Lock()
	seen, ok := c.known[name]
	if ok && subtle.ConstantTimeCompare(seen[:], digest[:]) == 1 {
		c.mu.Unlock()
		return u, true
	}
	if time.Since(c.since) > time.Minute {
		c.failed, c.since = 0, time.Now()
	}
	over := c.failed >= wrongLogins
	c.mu.Unlock()
	if over {
		return nil, false
	}
	right := bcrypt.CompareHashAndPassword([]byte(u.Password), []byte(password)) == nil && u != &nobody
	c.mu.Lock()
	defer c.mu.Unlock()
	if right {
		c.known[name] = digest
	} else {
		c.failed++
	}
	return u, right
}
