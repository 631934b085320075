// Package drive sends requests over the network: those of a trace at their own times,
// whatever becomes of earlier ones, or as many clients as wanted that each wait for
// their response. Each client has its own connections and cookies.
//
// The commands drive and rehearse use it. It must never wait for a response before it
// sends the next record: late requests are counted, not hidden.
package drive

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/netip"
	"net/url"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/trace"
)

// Target is where requests go.
type Target struct {
	Scheme  string // http, https, tcp for connections as they come, or tls for such over TLS
	Address string // host:port, or unix:/path
	Host    string // of requests whose record names none
	Header  bool   // connections begin with a PROXY protocol header that names the client
}

// Options say how requests are sent.
type Options struct {
	Targets  map[string]Target // by frontend; that of "" takes records that name none, or one that is not here
	Speed    float64           // times between requests are divided by it; 0 is 1
	HTTP2    bool              // over TLS as agreed, in clear text by prior knowledge
	Roots    *x509.CertPool    // nil: those of the machine
	Insecure bool              // certificates are taken as they are
	Cookies  bool              // clients keep them
	Reuse    bool              // clients keep their connections
	Forward  string            // name of the header field that names the client; empty for none
	Method   string            // in place of the records'; empty for theirs
	Headers  http.Header       // set on each request
	Names    string            // the field of answers that names the backend
	Timeout  time.Duration     // after which an answer is given up
	Lasts    time.Duration     // of streams and connections whose record does not say
	// Patience draws how long a client waits for the head of an answer before it leaves; nil:
	// it waits for Timeout. A request that failed or was left is repeated up to Again times,
	// each time after what After draws; streams are not.
	Patience, After func() time.Duration
	Again           int
	// Dial is how targets are reached; nil for the network.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// Sample is what came of one request.
type Sample struct {
	Due     time.Duration // when it was to be sent, from the start
	Late    time.Duration // how much later it was
	Took    time.Duration // from when it was due until its answer was whole, of a stream had begun, or it failed
	Held    time.Duration // of a stream or connection: from when it was due until it was over
	Status  int           // 0 without an answer
	Fail    cause.Cause   // why it failed; cause.None for an answered one
	Why     string        // the failure in the words of the library, where it is no answer's
	Backend string        // as the answer names it; empty if it does not
	Client  uint32        // numbers who sent it, from 0
	Kind    trace.Protocol
	Cut     bool // it was under way when the drive was ended
	Left    bool // its client left before the answer began
	Repeats int  // how often its client had asked for the same before
}

// Driver sends requests. It is for one drive.
type Driver struct {
	o     Options
	began time.Time

	mu      sync.Mutex
	clients map[string]*client
	samples []Sample
	pages   []PageSample
	open    atomic.Int64
	done    atomic.Int64
	failed  atomic.Int64
	late    atomic.Int64 // nanoseconds the last request was
}

// New makes a driver.
func New(o Options) *Driver {
	if o.Speed == 0 {
		o.Speed = 1
	}
	if o.Timeout == 0 {
		o.Timeout = time.Minute
	}
	if o.Lasts == 0 {
		o.Lasts = time.Minute
	}
	if o.Dial == nil {
		o.Dial = new(net.Dialer).DialContext
	}
	return &Driver{o: o, clients: map[string]*client{}}
}

// client is who sends requests: connections, cookies and an address of its own.
type client struct {
	n         uint32
	http      *http.Client
	transport *http.Transport
	address   netip.AddrPort // that it is said to have; invalid for none
}

// client returns who sent a record.
func (d *Driver) client(r *trace.Record) *client {
	key := string(r.Client) + "\x00" + string(r.UserAgent)
	if r.Session != nil {
		key = "\x01" + string(r.Session)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	c := d.clients[key]
	if c == nil {
		c = d.newClient(uint32(len(d.clients)), string(r.Client))
		d.clients[key] = c
	}
	return c
}

func (d *Driver) newClient(n uint32, said string) *client {
	c := &client{n: n}
	if ip, err := netip.ParseAddr(trace.CanonicalClient(said)); err == nil {
		c.address = netip.AddrPortFrom(ip, uint16(1024+n%60000))
	}
	c.transport = &http.Transport{
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			t, _ := ctx.Value(targetKey{}).(Target)
			return d.connect(ctx, t, c)
		},
		TLSClientConfig:     &tls.Config{RootCAs: d.o.Roots, InsecureSkipVerify: d.o.Insecure, MinVersion: tls.VersionTLS12}, // only if one says -insecure
		DisableKeepAlives:   !d.o.Reuse,
		DisableCompression:  true,
		MaxIdleConnsPerHost: 64,
		IdleConnTimeout:     5 * time.Minute,
		ForceAttemptHTTP2:   d.o.HTTP2,
	}
	protocols := new(http.Protocols)
	protocols.SetHTTP1(!d.o.HTTP2)
	protocols.SetHTTP2(d.o.HTTP2)
	protocols.SetUnencryptedHTTP2(d.o.HTTP2)
	c.transport.Protocols = protocols
	c.http = &http.Client{Transport: c.transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if d.o.Cookies {
		c.http.Jar, _ = cookiejar.New(nil) // never fails
	}
	return c
}

// targetKey has a dial know where to.
type targetKey struct{}

// connect opens a connection of a client.
func (d *Driver) connect(ctx context.Context, t Target, c *client) (net.Conn, error) {
	network, address := "tcp", t.Address
	if len(address) > 5 && address[:5] == "unix:" {
		network, address = "unix", address[5:]
	}
	conn, err := d.o.Dial(ctx, network, address)
	if err != nil || !t.Header {
		return conn, err
	}
	if err := writeProxyHeader(conn, c.address); err != nil {
		conn.Close()
		return nil, err
	}
	return conn, nil
}

// target returns where a record goes.
func (d *Driver) target(r *trace.Record) Target {
	if t, ok := d.o.Targets[string(r.Frontend)]; ok {
		return t
	}
	return d.o.Targets[""]
}

// Progress is how far a drive has come.
type Progress struct {
	Done, Failed, Open int64
	Late               time.Duration // of the request sent last
	For                time.Duration // since the start
}

// Progress returns how far it has come; it may be asked at any time.
func (d *Driver) Progress() Progress {
	p := Progress{Done: d.done.Load(), Failed: d.failed.Load(), Open: d.open.Load(), Late: time.Duration(d.late.Load())}
	d.mu.Lock()
	if !d.began.IsZero() {
		p.For = time.Since(d.began)
	}
	d.mu.Unlock()
	return p
}

// start notes when it began.
func (d *Driver) start() {
	d.mu.Lock()
	d.began = time.Now()
	d.mu.Unlock()
}

// finish waits for what is open, and returns the samples in the order in which
// requests were due.
func (d *Driver) finish(wg *sync.WaitGroup) []Sample {
	wg.Wait()
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range d.clients {
		c.transport.CloseIdleConnections()
	}
	slices.SortStableFunc(d.samples, func(a, b Sample) int { return cmp.Compare(a.Due, b.Due) })
	return d.samples
}

// Trace sends records at their own times, counted from the first: a late answer
// puts no other request off. next returns them in order and io.EOF at their end. It
// ends early with ctx; what is open then is cut.
func (d *Driver) Trace(ctx context.Context, next func() (*trace.Record, error)) ([]Sample, error) {
	var wg sync.WaitGroup
	var first int64
	begun := false
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		r, err := next()
		if err != nil {
			if errors.Is(err, io.EOF) || ctx.Err() != nil {
				err = nil
			}
			return d.finish(&wg), err
		}
		if !begun {
			begun, first = true, r.Time
			d.start()
		}
		due := time.Duration(float64(r.Time-first) / d.o.Speed)
		if wait := due - time.Since(d.began); wait > 0 {
			timer.Reset(wait)
			select {
			case <-timer.C:
			case <-ctx.Done():
				return d.finish(&wg), nil
			}
		}
		if ctx.Err() != nil {
			return d.finish(&wg), nil
		}
		c := d.client(r)
		var parts []*trace.Record
		if r.Page != nil {
			for range r.Page.Fetches { // right behind it
				if part, err := next(); err == nil {
					parts = append(parts, part)
				}
			}
		}
		wg.Go(func() { d.page(ctx, c, r, parts, due) })
	}
}

// Closed has so many clients send so many requests in all, each its next one when
// the one before has ended and it has thought, at once if think is nil. ask makes the next record of a
// client, and behind it those of the parts of a page, which do not count.
func (d *Driver) Closed(ctx context.Context, requests, clients int, think func() time.Duration, ask func(who int) []*trace.Record) []Sample {
	var wg sync.WaitGroup
	var left atomic.Int64
	left.Store(int64(requests))
	var asking sync.Mutex
	d.start()
	for who := range min(clients, requests) {
		wg.Go(func() {
			var c *client
			for left.Add(-1) >= 0 && ctx.Err() == nil {
				asking.Lock()
				r := ask(who)
				asking.Unlock()
				if c == nil {
					c = d.client(r[0])
				}
				d.page(ctx, c, r[0], r[1:], time.Since(d.began))
				if think != nil {
					pause(ctx, think())
				}
			}
		})
	}
	return d.finish(&wg)
}

// pause waits for a time, or until ctx ends.
func pause(ctx context.Context, d time.Duration) {
	if d > 0 {
		select {
		case <-time.After(d):
		case <-ctx.Done():
		}
	}
}

// insist sends a request, and repeats it as the options say. It reports whether it was answered.
func (d *Driver) insist(ctx context.Context, c *client, r *trace.Record, due time.Duration) bool {
	for n := 0; ; n++ {
		s := d.send(ctx, c, r, due, n)
		if n == d.o.Again || s.Fail == cause.None || s.Cut || s.Kind != trace.HTTP {
			return s.Fail == cause.None && !s.Cut
		}
		if pause(ctx, d.o.After()); ctx.Err() != nil {
			return false
		}
		due = time.Since(d.began)
	}
}

// PageSample is what came of a page: a request and what its client fetched after it.
type PageSample struct {
	N      int           // trace.Page.N
	Took   time.Duration // until all had ended
	Failed bool
}

// page sends a request, and when it was answered its parts, as many at a time as its page says.
func (d *Driver) page(ctx context.Context, c *client, r *trace.Record, parts []*trace.Record, due time.Duration) {
	var failed atomic.Bool
	failed.Store(!d.insist(ctx, c, r, due))
	if r.Page == nil {
		return
	}
	if !failed.Load() {
		var wg sync.WaitGroup
		room := make(chan struct{}, r.Page.AtOnce)
		for _, part := range parts {
			room <- struct{}{}
			wg.Go(func() {
				if !d.insist(ctx, c, part, time.Since(d.began)) {
					failed.Store(true)
				}
				<-room
			})
		}
		wg.Wait()
	}
	if ctx.Err() == nil {
		d.mu.Lock()
		d.pages = append(d.pages, PageSample{N: r.Page.N, Took: time.Since(d.began) - due, Failed: failed.Load()})
		d.mu.Unlock()
	}
}

// Pages returns what came of pages; it may be asked when the drive is over.
func (d *Driver) Pages() []PageSample { return d.pages }

// Every sends one request after the other at times apart, and tells of each; 0 is
// without end. ask makes the next record.
func (d *Driver) Every(ctx context.Context, every time.Duration, requests int, ask func() *trace.Record, tell func(Sample)) []Sample {
	var wg sync.WaitGroup
	d.start()
	tick := time.NewTicker(every)
	defer tick.Stop()
	for n := 0; ctx.Err() == nil && (requests == 0 || n < requests); n++ {
		r := ask()
		if s := d.send(ctx, d.client(r), r, time.Since(d.began), 0); !s.Cut {
			tell(s)
		}
		if requests > 0 && n == requests-1 {
			break
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
		}
	}
	return d.finish(&wg)
}

// begunNow stands in a sample's Held while its stream has begun, as Took says, and
// is not over.
const begunNow = -1

// send sends one request and notes what came of it.
func (d *Driver) send(ctx context.Context, c *client, r *trace.Record, due time.Duration, repeats int) Sample {
	s := Sample{Due: due, Client: c.n, Kind: r.Protocol, Repeats: repeats}
	if s.Late = time.Since(d.began) - due; s.Late < 0 {
		s.Late = 0
	}
	d.late.Store(int64(s.Late))
	d.open.Add(1)
	t := d.target(r)
	if t.Scheme == "tcp" || t.Scheme == "tls" {
		s.Kind = trace.TCP
		d.connection(ctx, c, t, r, &s)
	} else {
		d.request(ctx, c, t, r, &s)
	}
	begun := s.Held == begunNow
	s.Held = 0
	if over := time.Since(d.began) - due; begun && s.Fail == cause.None {
		s.Held = over
	} else {
		s.Took = over
	}
	if s.Cut = ctx.Err() != nil && s.Fail != cause.None; s.Cut {
		s.Fail, s.Why = cause.None, ""
	}
	d.open.Add(-1)
	d.done.Add(1)
	if s.Fail != cause.None && !s.Left {
		d.failed.Add(1)
	}
	d.mu.Lock()
	d.samples = append(d.samples, s)
	d.mu.Unlock()
	return s
}

// Private reports whether an address is this machine's or a private network's
// (RFC 1918, RFC 3927, RFC 4193, RFC 4291), to which anybody may send load.
func Private(ip netip.Addr) bool {
	ip = ip.Unmap()
	return ip.IsLoopback() || ip.IsPrivate() || ip.IsLinkLocalUnicast()
}

// ParseTarget reads a URL such as http://127.0.0.1:8080 or tcp://127.0.0.1:7000, and
// gives its path too. The error says what is wrong with it.
func ParseTarget(text string) (t Target, path string, err error) {
	u, err := url.Parse(text)
	if err != nil {
		return t, "", errors.New("it is no URL, as in http://127.0.0.1:8080")
	}
	switch u.Scheme {
	case "http", "https", "tcp", "tls":
	default:
		return t, "", errors.New("a URL begins with http://, https://, tcp:// or tls://")
	}
	if u.Hostname() == "" {
		return t, "", errors.New("the URL names no host")
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	if port == "" {
		return t, "", errors.New("tcp:// and tls:// want a port")
	}
	return Target{Scheme: u.Scheme, Address: net.JoinHostPort(u.Hostname(), port), Host: u.Host}, u.RequestURI(), nil
}
