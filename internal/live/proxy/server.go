package proxy

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/peer"
	"kestrix/internal/core/status"
	"kestrix/internal/core/units"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/socket"
	"kestrix/internal/live/wire"
)

// server serves one listener. Which frontend it belongs to is looked up with
// each connection and request, so that it can outlive a reload.
type server struct {
	proxy         *Proxy
	address       config.Address
	listener      net.Listener
	gone          context.Context // ends when what is open is cut off
	cut           context.CancelFunc
	handshakes    context.Context // ends when handshakes are no longer waited for
	endHandshakes context.CancelFunc

	last     atomic.Pointer[entry] // its frontend as it was last configured
	ending   atomic.Bool           // answers of HTTP/1.1 are the last of their connections
	accepted chan struct{}         // closed when no more are
	unbound  chan struct{}         // closed when the address is free again, by free
	free     sync.Once

	connections atomic.Int64  // open ones of clients
	total       atomic.Uint64 // accepted ones, since the counters were reset

	mu       sync.Mutex   // guards all below
	front    *httpFront   // nil while the frontend speaks tcp
	retired  []*httpFront // with settings of before, as long as connections are open
	clients  map[netip.Addr]int
	streams  map[net.Conn]struct{} // connections that no http server looks after
	open     sync.WaitGroup        // of streams
	arriving int                   // of streams, those of which it is not known yet what they are for
	closing  bool                  // no more are accepted
	closed   bool                  // none are taken in either
}

// status returns how the listener stands.
func (s *server) status() status.Listener {
	return status.Listener{Address: s.address.String(), Frontend: s.entry().frontend.Name, Connections: s.connections.Load(), Accepted: s.total.Load()}
}

// entry returns the frontend that the listener's connections are for: that in force, or
// where it has gone from the configuration the last there was.
func (s *server) entry() *entry {
	if e := s.proxy.state.Load().byListen[s.address]; e != nil {
		return e
	}
	return s.last.Load()
}

// httpFront is the http server behind a listener, with the settings it was made
// with. Other settings take another one.
type httpFront struct {
	http     *http.Server
	settings frontSettings
	conns    *handover

	pending atomic.Int32 // connections that it is being handed

	mu   sync.Mutex
	open map[net.Conn]struct{}
}

// track follows the connections of the http server.
func (f *httpFront) track(c net.Conn, state http.ConnState) {
	f.mu.Lock()
	defer f.mu.Unlock()
	switch state {
	case http.StateNew:
		f.open[c] = struct{}{}
		f.pending.Add(-1)
	case http.StateClosed, http.StateHijacked:
		delete(f.open, c)
	}
}

// connections returns those that are open.
func (f *httpFront) connections() []net.Conn {
	f.mu.Lock()
	defer f.mu.Unlock()
	var all []net.Conn
	for c := range f.open {
		all = append(all, c)
	}
	return all
}

type frontSettings struct {
	timeouts   config.FrontTimeouts
	headerSize int64
}

// configure has the listener follow its frontend. Connections that are
// open keep the settings they came under until they end.
func (s *server) configure(f *config.Frontend) {
	s.mu.Lock()
	defer s.mu.Unlock()
	want := frontSettings{f.Timeouts, f.Limits.HeaderSize}
	old := s.front
	if f.Protocol == "tcp" {
		s.front = nil
	} else if old == nil || old.settings != want {
		s.front = s.newFront(want)
	}
	if old != nil && old != s.front {
		old.conns.Close()
		s.retired = append(s.retired, old)
	}
	s.retired = slices.DeleteFunc(s.retired, func(f *httpFront) bool {
		return len(f.connections()) == 0 && f != old
	})
}

func (s *server) newFront(want frontSettings) *httpFront {
	f := &httpFront{settings: want, conns: newHandover(s.listener.Addr()), open: map[net.Conn]struct{}{}}
	// TLS has ended, and the guard has looked at what begins, when the server is
	// handed a connection: so all of HTTP/2 is in clear text to it.
	speaks := new(http.Protocols)
	speaks.SetHTTP1(true)
	speaks.SetUnencryptedHTTP2(true)
	f.http = &http.Server{
		Handler: s, ReadHeaderTimeout: want.timeouts.RequestHeader, // The guard refuses what is larger than may be; so the server takes more.
		MaxHeaderBytes:               wire.MostLarger*int(want.headerSize) + 4<<10,
		DisableGeneralOptionsHandler: true, // every request comes to us
		// What the server says of single connections is of no use to anybody.
		ErrorLog:    log.New(io.Discard, "", 0),
		ConnState:   f.track,
		ConnContext: arrive,
		Protocols:   speaks,
		HTTP2:       &http.HTTP2Config{MaxReadFrameSize: wire.FrameMost},
	}
	go func() { _ = f.http.Serve(f.conns) }() // ends when it is shut down
	return f
}

// serve accepts connections, as soon as the proxy is ready, until the listener is
// closed.
func (s *server) serve() {
	go func() {
		select {
		case <-s.proxy.ready:
			s.accept()
		case <-s.gone.Done():
		}
		close(s.accepted)
	}()
}

func (s *server) accept() {
	wait, told := time.Duration(0), false
	for {
		c, err := s.listener.Accept()
		switch {
		case err == nil:
			if wait = 0; told {
				told = false
				s.proxy.events.Addf(s.address.String(), status.EventAccepting, "connections are accepted again")
			}
			if s.keep(c) {
				go s.took(c)
			} else {
				c.Close()
			}
		case socket.OutOfResources(err), errors.Is(err, syscall.ECONNABORTED):
			// Out of descriptors or memory: others have to end first.
			s.proxy.conns.CloseOne()
			s.proxy.pools.CloseUnused()
			if wait = min(max(2*wait, 5*time.Millisecond), time.Second); wait >= 100*time.Millisecond && !told {
				told = true
				s.proxy.events.Addf(s.address.String(), status.EventOverloaded, "connections cannot be accepted: %v", socket.ShortError(err))
			}
			time.Sleep(wait)
		default:
			s.mu.Lock()
			closing := s.closing
			s.mu.Unlock()
			if closing {
				for _, c := range socket.CloseAccepting(s.listener) {
					if s.keep(c) {
						go s.took(c)
					} else {
						c.Close()
					}
				}
			} else {
				select {
				case s.proxy.failed <- fmt.Errorf("%s: %w", s.address, err):
				default:
				}
			}
			return
		}
	}
}

// writeBackstop is how long a client may take nothing of what is written to it
// at once, whatever it is.
const writeBackstop = 2 * time.Minute

// took handles a new connection, which is kept, up to where http or tcp begins.
func (s *server) took(raw net.Conn) {
	e := s.entry()
	s.total.Add(1)
	arriving := true
	defer func() {
		if arriving {
			s.arrived()
		}
	}()
	_, addr := socket.ClientAddress(raw.RemoteAddr().String())
	listed, closed := s.proxy.conns.Add(raw, addr)
	if closed != nil {
		s.proxy.events.Limited(s.address.String(), status.EventOverloaded, "connections closed for others", "a connection from %s is closed for another: %s are open, as many as limits { connections_total } allows", closed.RemoteAddr(), units.Count(int64(s.proxy.conns.Limit())))
	}
	if closed != nil {
		s.proxy.requests.connection(e.frontend.Name, overTotal)
	}
	if closed == listed {
		s.letGo(raw)
		return
	}
	s.connections.Add(1)
	c, handed := net.Conn(&socket.CloseHook{Conn: raw, Closed: func() {
		s.connections.Add(-1)
		s.proxy.conns.Remove(listed)
	}}), false
	defer func() {
		if !handed {
			c.Close()
			s.letGo(raw)
		}
	}()
	if e.frontend.ProxyProtocol {
		named, err := e.readProxyHeader(c)
		if err != nil {
			s.proxy.events.Limited(s.address.String(), status.EventRefused, "refused PROXY headers", "a connection from %s: %v", raw.RemoteAddr(), err)
			s.proxy.requests.connection(e.frontend.Name, badProxyHeader)
			return
		}
		c = named
		_, addr = socket.ClientAddress(c.RemoteAddr().String())
		s.proxy.conns.SetClient(listed, addr)
	}
	if most := e.frontend.Limits.Connections; most > 0 {
		if !s.count(addr, most) {
			s.proxy.requests.connection(e.frontend.Name, overConnections)
			return
		}
		c = &socket.CloseHook{Conn: c, Closed: func() { s.uncount(addr) }}
	}
	if e.frontend.Protocol == "tcp" {
		s.arrived()
		arriving = false
		s.stream(e, c)
		return
	}
	c = wire.NewPaced(c, writeBackstop)
	o := wire.GuardOptions{
		Head: int(e.frontend.Limits.HeaderSize), Wait: e.frontend.Timeouts.RequestHeader, HalfClosed: e.frontend.Timeouts.HalfClosed, Idle: e.frontend.Timeouts.Idle,
		HTTP2: e.frontend.ClearHTTP2 && e.tls == nil,
	}
	if e.tls != nil {
		t := tls.Server(c, e.tls)
		ctx, cancel := context.WithTimeout(s.handshakes, o.Wait)
		err := t.HandshakeContext(ctx)
		cancel()
		if err != nil {
			s.proxy.requests.connection(e.frontend.Name, cause.TLSFailed.String())
			return
		}
		if wasChallenge(t) {
			return
		}
		c, o.OnlyHTTP2 = t, t.ConnectionState().NegotiatedProtocol == "h2"
	}
	v := newClientConn(c)
	o.Reset = func(r *wire.Refusal) { s.wasReset(v, r) }
	v.guard = wire.NewGuard(c, o)
	s.proxy.conns.SetIdle(listed, v.guard.Idle)
	handed = true
	s.letGo(raw)
	s.hand(&guardedConn{v.guard, v})
}

// wasReset logs a request of HTTP/2 that was reset before a handler saw it.
func (s *server) wasReset(v *clientConn, r *wire.Refusal) {
	a := accesslog.Line{Time: time.Now(), Client: v.peer, Method: r.Method, Host: r.Host, Path: r.Target, Protocol: "HTTP/2.0", Status: r.Status, Cause: cause.Malformed}
	a.Frontend = s.entry().frontend.Name
	s.proxy.over(&a)
}

// hand hands a connection to the http server. One that a reload has just put
// away does not take it any more; its successor does.
func (s *server) hand(c net.Conn) {
	var before *httpFront
	for {
		s.mu.Lock()
		f := s.front
		s.mu.Unlock()
		if f == nil || f == before {
			c.Close() // the listener is closing, or its frontend has become tcp
			return
		}
		f.pending.Add(1)
		if f.conns.give(c) {
			return
		}
		f.pending.Add(-1)
		before = f
	}
}

// keep notes a connection, so that stopping can wait for it and cut it off;
// false if there is no more time for new ones.
func (s *server) keep(c net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return false
	}
	s.streams[c] = struct{}{}
	s.open.Add(1)
	s.arriving++
	return true
}

// arrived notes that a connection that was kept is in the hands of whoever is to serve it.
func (s *server) arrived() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.arriving--
}

func (s *server) letGo(c net.Conn) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.streams, c)
	s.open.Done()
}

// count takes a connection of a client in, unless it has too many.
func (s *server) count(a netip.Addr, most int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.clients[a] >= most {
		return false
	}
	s.clients[a]++
	return true
}

func (s *server) uncount(a netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.clients[a]--; s.clients[a] <= 0 {
		delete(s.clients, a)
	}
}

// readProxyHeader reads the PROXY protocol header of a connection, which only a trusted
// proxy may send.
func (e *entry) readProxyHeader(c net.Conn) (net.Conn, error) {
	if !e.trusts(c.RemoteAddr()) {
		return nil, errors.New("it is not one of trusted_proxies, and only those may name clients")
	}
	return socket.ReadProxyHeader(c, e.frontend.Timeouts.RequestHeader)
}

// trusts reports whether a peer is one of the proxies whose word counts. Who
// connects to a unix socket is on this machine, and was let in by its
// permissions.
func (e *entry) trusts(a net.Addr) bool {
	if a.Network() == "unix" {
		return true
	}
	_, ip := socket.ClientAddress(a.String())
	return peer.Inside(e.trusted, ip)
}

// handover is a listener whose connections are given to it.
type handover struct {
	addr   net.Addr
	conns  chan net.Conn
	closed chan struct{}
	once   sync.Once
}

func newHandover(addr net.Addr) *handover {
	return &handover{addr: addr, conns: make(chan net.Conn), closed: make(chan struct{})}
}

func (h *handover) give(c net.Conn) bool {
	select {
	case <-h.closed:
		return false // for certain: below either may be taken
	default:
	}
	select {
	case h.conns <- c:
		return true
	case <-h.closed:
		return false
	}
}

func (h *handover) Accept() (net.Conn, error) {
	select {
	case c := <-h.conns:
		return c, nil
	case <-h.closed:
		return nil, net.ErrClosed
	}
}

func (h *handover) Close() error {
	h.once.Do(func() { close(h.closed) })
	return nil
}

func (h *handover) Addr() net.Addr { return h.addr }
