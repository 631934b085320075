package proxy

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/journal"
)

// network is an in-memory one, so that tests run in virtual time and need no
// ports.
type network struct {
	mu        sync.Mutex
	listeners map[string]*listener
	accepts   map[string]bool // addresses that accept and never answer
	room      int             // bytes that wait to be read on each connection; 0: any number
}

func newNetwork() *network {
	return &network{listeners: map[string]*listener{}, accepts: map[string]bool{}}
}

type listener struct {
	net     *network
	addr    string
	conns   chan net.Conn
	closed  chan struct{}
	once    sync.Once
	clients int
}

func (n *network) listen(_, address string) (net.Listener, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.listeners[address] != nil {
		return nil, &net.OpError{Op: "listen", Err: syscall.EADDRINUSE}
	}
	l := &listener{net: n, addr: address, conns: make(chan net.Conn), closed: make(chan struct{})}
	n.listeners[address] = l
	return l, nil
}

func (n *network) dial(ctx context.Context, _, address string) (net.Conn, error) {
	n.mu.Lock()
	l, hung := n.listeners[address], n.accepts[address]
	n.mu.Unlock()
	if hung {
		here, there := bufferedPipe(nil, nil)
		go func() { _, _ = io.Copy(io.Discard, there) }() // reads, never answers
		return here, nil
	}
	if l == nil {
		return nil, &net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}
	}
	n.mu.Lock()
	l.clients++
	from := net.TCPAddrFromAddrPort(netip.AddrPortFrom(netip.MustParseAddr("203.0.113.9"), uint16(40000+l.clients%20000)))
	n.mu.Unlock()
	to := net.TCPAddrFromAddrPort(netip.MustParseAddrPort(address))
	here, there := bufferedPipe(from, to)
	n.mu.Lock()
	here.(*pipeEnd).in.room, here.(*pipeEnd).out.room = n.room, n.room
	n.mu.Unlock()
	select {
	case l.conns <- there:
		return here, nil
	case <-l.closed:
		return nil, &net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// hang makes an address accept and never answer, or ends that.
func (n *network) hang(address string, on bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.accepts[address] = on
}

func (l *listener) Accept() (net.Conn, error) {
	select {
	case c := <-l.conns:
		return c, nil
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

func (l *listener) Close() error {
	l.once.Do(func() {
		close(l.closed)
		l.net.mu.Lock()
		delete(l.net.listeners, l.addr)
		l.net.mu.Unlock()
	})
	return nil
}

func (l *listener) Addr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)} }

// world is a proxy with backends on a network in memory.
type world struct {
	t        *testing.T
	net      *network
	proxy    *Proxy
	client   *http.Client
	mu       sync.Mutex
	backends map[string]*http.Server
	events   []status.Event
	access   []accesslog.Line
	probes   []time.Time // of app.a
	began    time.Time
	journal  []journal.Entry
}

// newWorld serves a configuration; backends are started with start.
func newWorld(t *testing.T, text string) *world { return newWorldWith(t, text, func(*Options) {}) }

// newWorldWith is newWorld with some options of its own.
func newWorldWith(t *testing.T, text string, change func(*Options)) *world {
	w := &world{t: t, net: newNetwork(), backends: map[string]*http.Server{}, began: time.Now()}
	o := Options{
		Seed: 7, Grace: 5 * time.Second, Listen: w.net.listen,
		Dial: func(ctx context.Context, network, address string) (net.Conn, error) {
			c, err := w.net.dial(ctx, network, address)
			if err != nil && time.Since(w.began) == 0 {
				time.Sleep(time.Nanosecond) // what a test starts in the same moment may not be there yet
				return w.net.dial(ctx, network, address)
			}
			return c, err
		},
		Event: func(e status.Event) {
			w.mu.Lock()
			defer w.mu.Unlock()
			w.events = append(w.events, e)
		},
		Journal: func(e journal.Entry) {
			w.mu.Lock()
			defer w.mu.Unlock()
			w.journal = append(w.journal, e)
		},
		Probe: func(who string, _ time.Duration, _ string) {
			w.mu.Lock()
			defer w.mu.Unlock()
			if who == "app.a" {
				w.probes = append(w.probes, time.Now())
			}
		},
		Access: func(a *accesslog.Line) {
			w.mu.Lock()
			defer w.mu.Unlock()
			w.access = append(w.access, a.Detached())
		},
	}
	change(&o)
	w.proxy = New(o)
	w.client = &http.Client{Transport: &http.Transport{DialContext: w.net.dial}}
	if text != "" {
		require.NoError(t, w.proxy.Apply(parse(t, text)))
	}
	return w
}

func parse(t *testing.T, text string) *config.Config {
	c, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	for _, f := range found {
		require.Fail(t, f.Message)
	}
	return c
}

// start runs a backend; handler nil answers with its address.
func (w *world) start(address string, handler http.HandlerFunc) {
	l, err := w.net.listen("tcp", address)
	require.NoError(w.t, err)
	if handler == nil {
		handler = func(out http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(out, address) }
	}
	speaks := new(http.Protocols)
	speaks.SetHTTP1(true)
	speaks.SetUnencryptedHTTP2(true)
	s := &http.Server{Handler: handler, Protocols: speaks}
	w.backends[address] = s
	go func() { _ = s.Serve(l) }()
}

// kill ends a backend like a process that is killed.
func (w *world) kill(address string) { _ = w.backends[address].Close() }

// get asks and returns status and body; an error of the client returns status 0.
func (w *world) get(url string) (int, string) {
	res, err := w.client.Get(url)
	if err != nil {
		return 0, err.Error()
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		return res.StatusCode, err.Error()
	}
	return res.StatusCode, string(b)
}

// close ends everything; a bubble wants no goroutine left. Whatever a test did,
// the core decides it again in the same way.
func (w *world) close() {
	w.client.CloseIdleConnections()
	if err := w.proxy.Stop(); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		w.t.Log(err)
	}
	for _, s := range w.backends {
		_ = s.Close()
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	assert.NoError(w.t, journal.Verify(w.journal, w.proxy.o.Seed))
	var file bytes.Buffer
	out := journal.NewWriter(&file, journal.Head{Seed: w.proxy.o.Seed, Began: w.began}, journal.WriterOptions{Broken: func(err error) { assert.NoError(w.t, err) }})
	for _, e := range w.journal {
		out.Add(e)
	}
	out.Flush()
	j, err := journal.Read(&file)
	if assert.NoError(w.t, err) {
		assert.NoError(w.t, journal.Verify(j.Entries, j.Seed), "as it was written and read")
	}
}

// log returns a copy of the access lines so far.
func (w *world) log() []accesslog.Line {
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]accesslog.Line(nil), w.access...)
}

// news returns the events of one who, as seconds and what.
func (w *world) news(who string) []status.Event {
	w.mu.Lock()
	defer w.mu.Unlock()
	var out []status.Event
	for _, e := range w.events {
		if e.Object == who {
			out = append(out, e)
		}
	}
	return out
}
