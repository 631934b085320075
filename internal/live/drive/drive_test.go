package drive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/pires/go-proxyproto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/result"
	"kestrix/internal/core/trace"
)

// pipes is a listener whose connections lie in memory.
type pipes struct {
	ch   chan net.Conn
	gone chan struct{}
	once sync.Once
}

func newPipes() *pipes { return &pipes{ch: make(chan net.Conn), gone: make(chan struct{})} }

func (p *pipes) Accept() (net.Conn, error) {
	select {
	case c := <-p.ch:
		return c, nil
	case <-p.gone:
		return nil, net.ErrClosed
	}
}
func (p *pipes) Close() error   { p.once.Do(func() { close(p.gone) }); return nil }
func (p *pipes) Addr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 8080} }
func (p *pipes) dial(ctx context.Context, _, _ string) (net.Conn, error) {
	a, b := net.Pipe()
	select {
	case p.ch <- b:
		return a, nil
	case <-p.gone:
		return nil, &net.OpError{Op: "dial", Err: errors.New("no listener")}
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// of returns records so far apart, of clients by turns.
func of(n, clients int, apart time.Duration) func() (*trace.Record, error) {
	i := 0
	return func() (*trace.Record, error) {
		if i == n {
			return nil, io.EOF
		}
		i++
		return &trace.Record{Time: int64(time.Duration(i) * apart), Client: fmt.Appendf(nil, "203.0.113.%d", i%clients), Method: []byte("GET"), Path: []byte("/seats"), Duration: -1, Bytes: -1}, nil
	}
}

// TestALateAnswerPutsNothingOff stalls a server for a second: each request goes out
// when it is due all the same, and its latency counts from then.
func TestALateAnswerPutsNothingOff(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := newPipes()
		began := time.Now()
		var seen []time.Duration
		var mu sync.Mutex
		server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			seen = append(seen, time.Since(began))
			mu.Unlock()
			time.Sleep(time.Second - time.Since(began)) // all are answered at that moment
			w.Header().Set("Stand-In", "booking.auk")
		})}
		go func() { _ = server.Serve(l) }()
		defer server.Close()
		d := New(Options{Targets: map[string]Target{"": {Scheme: "http", Address: "a:1", Host: "a"}}, Names: "Stand-In", Dial: l.dial, Reuse: true, Cookies: true})
		samples, err := d.Trace(t.Context(), of(8, 3, 100*time.Millisecond))
		require.NoError(t, err)
		require.Len(t, samples, 8)
		for i, at := range seen {
			assert.Equal(t, time.Duration(i)*100*time.Millisecond, at, "request %d went out when it was due", i)
		}
		for _, s := range samples {
			assert.Equal(t, []any{time.Second - s.Due, time.Duration(0), "booking.auk", ""}, []any{s.Took, s.Late, s.Backend, s.Fail.String()})
		}
		r := Result(samples, false)
		assert.Equal(t, []any{int64(8), int64(8), int64(3), 1.0}, []any{r.Requests, r.Answered, r.Trace.Clients, r.Latency.Max})
		assert.InDelta(t, 0.65, r.Latency.Mean, 1e-9)
		late := LatenessOf(samples)
		assert.True(t, late.KeptUp(&r.Latency))
		for _, short := range []Lateness{{P99: 0.02, due: 0.1}, {P99: 0.2, due: 10}} {
			assert.False(t, short.KeptUp(&result.Latency{P50: 1}), "%v is much beside a tenth of a second of sending, or a second of answering", short)
		}
		assert.True(t, (&Lateness{P99: 0.02, due: 10}).KeptUp(&result.Latency{P50: 1}))
		server.Close()
		synctest.Wait()
	})
}

// TestWhatFailsIsToldByItsCause has a server break, refuse in words, hang and be gone.
func TestWhatFailsIsToldByItsCause(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := newPipes()
		came := map[string]int{}
		server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			came[r.URL.Path]++
			assert.Equal(t, []any{int64(0), "", ""}, []any{r.ContentLength, r.Header.Get("Transfer-Encoding"), r.Header.Get("Content-Length")}, "%s has no body", r.URL.Path)
			switch r.URL.Path {
			case "/break":
				panic(http.ErrAbortHandler)
			case "/hang":
				<-r.Context().Done()
			case "/words":
				w.Header().Set("Content-Type", "application/problem+json")
				w.WriteHeader(503)
				_, _ = io.WriteString(w, `{"status":503,"cause":"queue_timeout"}`)
			case "/half":
				w.Header().Set("Content-Length", "10")
				_, _ = io.WriteString(w, "half")
			case "/stream":
				for range 3 {
					_, _ = io.WriteString(w, "x")
					_ = http.NewResponseController(w).Flush()
					time.Sleep(time.Second)
				}
			default:
				w.WriteHeader(500)
			}
		})}
		go func() { _ = server.Serve(l) }()
		d := New(Options{Targets: map[string]Target{"": {Scheme: "http", Address: "a:1", Host: "a"}}, Names: "Stand-In", Dial: l.dial, Timeout: 5 * time.Second, Reuse: true})
		ask := func(path string, protocol trace.Protocol, lasts time.Duration) Sample {
			r := &trace.Record{Client: []byte("a"), Method: []byte("GET"), Path: []byte(path), Duration: int64(lasts), Protocol: protocol}
			return d.send(t.Context(), d.client(r), r, time.Since(d.began), 0)
		}
		d.start()
		for path, want := range map[string]string{"/break": "reset", "/hang": "answer_timeout", "/words": "queue_timeout", "/half": "reset", "/other": "status_5xx"} {
			ask("/other", trace.HTTP, -1) // so that there is a connection that was kept
			before := came[path]
			assert.Equal(t, want, ask(path, trace.HTTP, -1).Fail.String(), path)
			assert.Equal(t, 1, came[path]-before, "%s is sent once", path)
		}
		assert.Equal(t, "broken_stream", ask("/stream", trace.Stream, time.Minute).Fail.String(), "it ended before its client wanted")
		s := ask("/stream", trace.Stream, 2*time.Second)
		assert.Equal(t, []any{"", time.Duration(0), 2 * time.Second}, []any{s.Fail.String(), s.Took, s.Held}, "its latency is that of its head")
		time.Sleep(5 * time.Second) // streams that were left end
		server.Close()
		synctest.Wait()
		assert.Equal(t, "connect_timeout", ask("/", trace.HTTP, -1).Fail.String())
		d.finish(new(sync.WaitGroup))
	})
}

// TestClientsAreKeptApart looks at who comes: over TLS, over HTTP/2, with a PROXY
// protocol header, with a field that names the client.
func TestClientsAreKeptApart(t *testing.T) {
	type seen struct{ conn, cookie, forwarded, proto, host string }
	var mu sync.Mutex
	var all []seen
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		cookie := ""
		if c, err := r.Cookie("seat"); err == nil {
			cookie = c.Value
		} else {
			http.SetCookie(w, &http.Cookie{Name: "seat", Value: fmt.Sprint(len(all))})
		}
		all = append(all, seen{r.RemoteAddr, cookie, r.Header.Get("Forwarded") + r.Header.Get("X-Forwarded-For"), r.Proto, r.Host})
	})
	drive := func(server *httptest.Server, o Options, header bool) (conns map[string]bool, cookies map[string]int) {
		mu.Lock()
		all = nil
		mu.Unlock()
		target, _, err := ParseTarget(server.URL)
		require.NoError(t, err)
		target.Header = header
		o.Targets = map[string]Target{"": target}
		d := New(o)
		n := 0
		samples := d.Every(t.Context(), time.Microsecond, 30, func() *trace.Record {
			n++
			return &trace.Record{Client: fmt.Appendf(nil, "203.0.113.%d", n%3+1), Method: []byte("GET"), Path: []byte("/"), Host: []byte("tern.example"), Duration: -1}
		}, func(Sample) {})
		require.Len(t, samples, 30)
		for _, s := range samples {
			require.Equal(t, []any{200, ""}, []any{s.Status, s.Fail.String()})
		}
		conns, cookies = map[string]bool{}, map[string]int{}
		for _, s := range all {
			conns[s.conn] = true
			cookies[s.cookie]++
			assert.Equal(t, "tern.example", s.host)
		}
		return conns, cookies
	}
	plain := httptest.NewServer(handler)
	defer plain.Close()
	conns, cookies := drive(plain, Options{Reuse: true, Cookies: true, Forward: "Forwarded"}, false)
	assert.Equal(t, []any{3, 3}, []any{len(conns), cookies[""]}, "three connections, each with a first request that has no cookie")
	given := map[string]map[string]bool{}
	for _, s := range all {
		if given[s.conn] == nil {
			given[s.conn] = map[string]bool{}
		}
		given[s.conn][s.cookie] = true
	}
	for conn, own := range given {
		assert.LessOrEqual(t, len(own), 2, "%s: none, then its own", conn)
	}
	assert.True(t, strings.HasPrefix(all[0].forwarded, "for=203.0.113."), all[0].forwarded)
	conns, cookies = drive(plain, Options{}, false)
	assert.Equal(t, []any{30, 30}, []any{len(conns), cookies[""]}, "neither kept")

	secure := httptest.NewUnstartedServer(handler)
	secure.EnableHTTP2 = true
	secure.StartTLS()
	defer secure.Close()
	drive(secure, Options{Reuse: true, HTTP2: true, Insecure: true}, false)
	assert.Equal(t, "HTTP/2.0", all[0].proto)
	drive(secure, Options{Reuse: true, Insecure: true}, false)
	assert.Equal(t, "HTTP/1.1", all[0].proto)

	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	named := httptest.NewUnstartedServer(handler)
	named.Listener = &proxyproto.Listener{Listener: l, ReadHeaderTimeout: 5 * time.Second}
	named.Start()
	defer named.Close()
	conns, _ = drive(named, Options{Reuse: true}, true)
	for c := range conns {
		assert.True(t, strings.HasPrefix(c, "203.0.113."), c)
	}
}

func TestOnlyOwnNetworksAreDriven(t *testing.T) {
	for ip, own := range map[string]bool{"127.0.0.1": true, "::1": true, "10.1.2.3": true, "192.168.1.1": true, "fd00::1": true, "::ffff:127.0.0.1": true, "203.0.113.9": false, "8.8.4.4": false, "2001:db8::1": false} {
		assert.Equal(t, own, Private(netip.MustParseAddr(ip)), ip)
	}
	for text, why := range map[string]string{"127.0.0.1:80": "it is no URL", "ftp://a": "begins with http://", "http://": "names no host", "tcp://a": "want a port"} {
		_, _, err := ParseTarget(text)
		assert.ErrorContains(t, err, why, text)
	}
}

// TestClientsOfADriveLeaveAskAgainAndLoadPages holds a client to its patience, has it repeat what
// it left, and fetch the parts of a page two at a time once the page was answered.
func TestClientsOfADriveLeaveAskAgainAndLoadPages(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := newPipes()
		var mu sync.Mutex
		came := map[string]int{}
		server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			came[r.URL.Path]++
			n := came[r.URL.Path]
			mu.Unlock()
			switch {
			case r.URL.Path == "/page" && n == 1:
				w.WriteHeader(500)
			case r.URL.Path == "/c" && n < 3:
				time.Sleep(time.Minute)
			default:
				time.Sleep(time.Second)
			}
		})}
		go func() { _ = server.Serve(l) }()
		fixed := func(d time.Duration) func() time.Duration { return func() time.Duration { return d } }
		d := New(Options{Targets: map[string]Target{"": {Scheme: "http", Address: "a:1", Host: "a"}}, Dial: l.dial, Reuse: true, Patience: fixed(2 * time.Second), After: fixed(5 * time.Second), Again: 2})
		page := &trace.Page{N: 1, Path: "/page", AtOnce: 2, Fetches: []trace.WeightedPath{{Path: "/a"}, {Path: "/b"}, {Path: "/c"}}}
		var all []*trace.Record
		for _, path := range []string{"/page", "/a", "/b", "/c"} {
			all = append(all, &trace.Record{Client: []byte("a"), Method: []byte("GET"), Path: []byte(path), Duration: -1})
		}
		all[0].Page = page
		samples := d.Closed(t.Context(), 1, 1, nil, func(int) []*trace.Record { return all })
		r := Result(samples, false)
		assert.Equal(t, []int64{7, 4, 1, 2, 3, 0}, []int64{r.Requests, r.Answered, r.Failed, r.ClientLeft, r.AskedAgain, r.GivenUp})
		assert.Equal(t, map[string]int{"/page": 2, "/a": 1, "/b": 1, "/c": 3}, came)
		// The page fails at once, comes after 5 s and takes one; its first two parts take one; the
		// third is left twice after 2 s, asked again 5 s later, and takes one.
		assert.Equal(t, []PageSample{{N: 1, Took: (5 + 1 + 1 + 2*7 + 1) * time.Second}}, d.Pages())
		time.Sleep(2 * time.Minute) // what was left ends
		server.Close()
		synctest.Wait()
	})
}
