package proxy

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/status"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/journal"
)

// ledger is what was written of a proxy's work, and what its clients saw of it.
type ledger struct {
	mu      sync.Mutex
	lines   []accesslog.Line
	journal []journal.Entry
	seen    map[string]int // by path: the status of an answer that came whole
	think   time.Duration  // of clients, at most, between two requests
}

// changing is a backend that is killed and started again at its address.
type changing struct {
	at     string
	mu     sync.Mutex
	server *http.Server
}

func (b *changing) start() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.server != nil {
		return nil
	}
	l, err := net.Listen("tcp", b.at)
	if err != nil {
		return err
	}
	b.server = &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		switch {
		case strings.HasPrefix(r.URL.Path, "/ws"):
			c, rw, err := http.NewResponseController(w).Hijack()
			if err != nil {
				return
			}
			defer c.Close()
			_, _ = io.WriteString(rw, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n")
			_ = rw.Flush()
			_, _ = io.Copy(c, rw) // an echo
		case strings.HasPrefix(r.URL.Path, "/large"):
			_, _ = w.Write(make([]byte, 200_000))
		case strings.HasPrefix(r.URL.Path, "/hang"):
			select {
			case <-r.Context().Done():
			case <-time.After(3 * time.Second):
			}
		case strings.HasPrefix(r.URL.Path, "/bad"):
			w.WriteHeader(503)
		default:
			time.Sleep(time.Duration(rand.IntN(8)) * time.Millisecond)
			fmt.Fprint(w, n)
		}
	})}
	go func(s *http.Server) { _ = s.Serve(l) }(b.server)
	return nil
}

func (b *changing) kill() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.server != nil {
		b.server.Close()
		b.server = nil
	}
}

// TestTheBooksBalance has clients of all kinds, some of which break off or read slowly, work
// through a proxy whose configuration, backends and orders change at random. At the end each
// answer that a client saw has its one line, the lines are those that the status counts, the
// journal verifies, and nothing is left. KESTRIX_BOOKS says for how long, 3 s if it does not.
func TestTheBooksBalance(t *testing.T) {
	lasts := 3 * time.Second
	if s := os.Getenv("KESTRIX_BOOKS"); s != "" {
		var err error
		lasts, err = time.ParseDuration(s)
		require.NoError(t, err)
	}
	at := func() string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close()
		return l.Addr().String()
	}
	backends := []*changing{{at: at()}, {at: at()}, {at: at()}}
	for _, b := range backends {
		require.NoError(t, b.start())
		defer b.kill()
	}
	clear, secure, gate := at(), at(), at()
	has := files(t, "localhost")
	variant := func(r *rand.Rand) string {
		pick := func(all ...string) string { return all[r.IntN(len(all))] }
		front := func(name, at, more string) string {
			return "frontend \"" + name + "\" {\n listen = \"" + at + "\"\n " + more + "\n route \"all\" {\n send_to = upstream." + map[bool]string{true: "gate", false: "app"}[name == "gate"] + "\n}\n}\n"
		}
		members := "backends = {\n a = { address = \"" + backends[0].at + "\", max_in_flight = " + pick("20", "200") + " }\n b = \"" + backends[1].at + "\"\n c = \"" + backends[2].at + "\"\n}\n"
		return front("clear", clear, "clear_http2 = true\n limits {\n header_size = \""+pick("16KiB", "64KiB")+"\"\n}") +
			front("secure", secure, "tls {\n certificate = \"localhost.pem\"\n key = \"localhost.key\"\n}") + front("gate", gate, "protocol = \"tcp\"") +
			"upstream \"app\" {\n algorithm = \"" + pick("round-robin", "least-connections", "two-choices", "random", "least-latency") + "\"\n " + members + "timeouts {\n answer = \"2s\"\n idle = \"2s\"\n}\n" +
			pick("", "probe \"http\" {\n path = \"/ready\"\n every = \"100ms\"\n timeout = \"90ms\"\n}\n") + pick("", "suspend {\n after = 3\n rest = \"100ms\"\n}\n") + pick("", "retry {\n}\n") + pick("", "queue {\n limit = 50\n timeout = \"200ms\"\n}\n") + pick("", "on_down = \"close\"\n") + "}\n" +
			"upstream \"gate\" {\n " + strings.Replace(members, ", max_in_flight = 20 ", " ", 1) + "}\n"
	}
	before := holds(t, held{goroutines: 1 << 20, files: 1 << 20})
	books := &ledger{seen: map[string]int{}}
	if lasts > 10*time.Second {
		books.think = 40 * time.Millisecond // all of it is kept in memory until the end
	}
	p := New(Options{
		Seed: 7, Grace: 5 * time.Second, ReadFile: func(name string) ([]byte, error) { return has[name], nil },
		Access: func(a *accesslog.Line) {
			books.mu.Lock()
			defer books.mu.Unlock()
			books.lines = append(books.lines, *a)
		},
		Journal: func(e journal.Entry) {
			books.mu.Lock()
			defer books.mu.Unlock()
			books.journal = append(books.journal, e)
		},
	})
	chance := rand.New(rand.NewPCG(7, 7))
	require.NoError(t, p.Apply(parse(t, variant(chance))))
	<-p.Ready()

	ctx, end := context.WithTimeout(t.Context(), lasts)
	defer end()
	var wg sync.WaitGroup
	var n atomic.Int64
	books.clients(ctx, &wg, &n, clear, secure, gate)
	for ctx.Err() == nil {
		switch chance.IntN(8) {
		case 0, 1:
			require.NoError(t, p.Apply(parse(t, variant(chance))))
		case 2:
			backends[chance.IntN(3)].kill()
		case 3, 4:
			_ = backends[chance.IntN(3)].start() // the port may still be busy
		default:
			o := status.Order{Backend: []string{"app", "gate"}[chance.IntN(2)] + "." + string(rune('a'+chance.IntN(3))), Do: []string{"drain", "park", "return", "close", "forget"}[chance.IntN(5)], Insist: true}
			_, err := p.Operate(o, "the test")
			require.NoError(t, err)
		}
		time.Sleep(time.Duration(10+chance.IntN(60)) * time.Millisecond)
	}
	wg.Wait()
	require.Eventually(t, func() bool {
		open := 0
		for _, u := range p.Status().Upstreams {
			for _, b := range u.Backends {
				open += b.InFlight
			}
		}
		return open == 0
	}, 20*time.Second, 20*time.Millisecond, "nothing is in flight any more")
	s := p.Status()
	require.NoError(t, p.Stop())
	for _, b := range backends {
		b.kill()
	}
	after := holds(t, held{goroutines: before.goroutines + 3, files: before.files + 3})
	assert.LessOrEqual(t, after.goroutines, before.goroutines+3, "goroutines")
	assert.LessOrEqual(t, after.files, before.files+3, "open files")
	books.balance(t, &s, p.o.Seed)
}

// clients begins clients of all kinds, until ctx ends.
func (b *ledger) clients(ctx context.Context, wg *sync.WaitGroup, n *atomic.Int64, clear, secure, gate string) {
	behaved := func(c *http.Client, base string) {
		defer c.CloseIdleConnections()
		for ctx.Err() == nil {
			path := fmt.Sprintf("/%s/%d", []string{"small", "large", "bad"}[rand.IntN(3)], n.Add(1))
			res, err := c.Post(base+path, "text/plain", strings.NewReader(strings.Repeat("x", rand.IntN(3000))))
			if err != nil {
				continue
			}
			_, err = io.Copy(io.Discard, res.Body)
			res.Body.Close()
			if err == nil {
				b.mu.Lock()
				b.seen[path] = res.StatusCode
				b.mu.Unlock()
			}
			time.Sleep(rand.N(b.think + 1))
		}
	}
	prior := new(http.Protocols)
	prior.SetUnencryptedHTTP2(true)
	for range 3 {
		wg.Go(func() { behaved(&http.Client{Transport: &http.Transport{}}, "http://"+clear) })
		wg.Go(func() { behaved(&http.Client{Transport: &http.Transport{Protocols: prior}}, "http://"+clear) })
		wg.Go(func() {
			behaved(&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, ForceAttemptHTTP2: rand.IntN(2) == 0}}, "https://"+secure)
		})
	}
	raw := func(at, say string, then func(c net.Conn)) {
		for ctx.Err() == nil {
			c, err := net.Dial("tcp", at)
			if err != nil {
				continue
			}
			_ = c.SetDeadline(time.Now().Add(5 * time.Second))
			_, _ = fmt.Fprintf(c, say, n.Add(1))
			then(c)
			c.Close()
		}
	}
	pause := func() { time.Sleep(time.Duration(rand.IntN(30)) * time.Millisecond) }
	get := "GET /%s/%%d HTTP/1.1\r\nHost: a\r\n%s\r\n"
	wg.Go(func() { raw(clear, fmt.Sprintf(get, "gone", ""), func(net.Conn) { pause() }) })
	wg.Go(func() {
		raw(clear, "POST /half/%d HTTP/1.1\r\nHost: a\r\nContent-Length: 100\r\n\r\nhalf", func(net.Conn) { pause() })
	})
	wg.Go(func() {
		raw(clear, fmt.Sprintf(get, "large", ""), func(c net.Conn) {
			for range 5 { // slowly, and not all
				_, _ = io.CopyN(io.Discard, c, 10_000)
				pause()
			}
		})
	})
	wg.Go(func() {
		raw(clear, fmt.Sprintf(get, "ws", "Connection: Upgrade\r\nUpgrade: websocket\r\n"), func(c net.Conn) {
			_, _ = io.WriteString(c, "echo\n")
			_, _ = bufio.NewReader(c).ReadString('\n')
			pause()
		})
	})
	wg.Go(func() {
		raw(clear, fmt.Sprintf(get, "hang", ""), func(c net.Conn) { // it leaves at once
			pause()
			_ = c.(*net.TCPConn).SetLinger(0)
		})
	})
	wg.Go(func() { raw(clear, "nonsense %d\r\n\r\n", func(c net.Conn) { _, _ = io.Copy(io.Discard, c); pause() }) })
	wg.Go(func() {
		raw(gate, "GET /tcp/%d HTTP/1.0\r\n\r\n", func(c net.Conn) { _, _ = io.Copy(io.Discard, c); pause() })
	})
}

// balance holds what clients saw, the access lines, the status and the journal to each
// other.
func (b *ledger) balance(t *testing.T, s *status.Status, seed uint64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	byPath := map[string][]accesslog.Line{}
	counts := map[string]int{}
	refused := map[status.Refused]uint64{}
	for _, l := range b.lines {
		byPath[l.Path] = append(byPath[l.Path], l)
		switch l.Cause {
		case cause.None:
			counts["answered"]++
		case cause.ClientLeft:
			counts["client_left"]++
		default:
			counts["failed"]++
		}
		if l.Upstream == "" && l.Cause != cause.None {
			refused[status.Refused{Frontend: l.Frontend, Cause: l.Cause.String()}]++
		}
	}
	require.NotEmpty(t, b.seen)
	for path, code := range b.seen {
		if lines := byPath[path]; assert.Len(t, lines, 1, "%s has one line", path) {
			assert.Equal(t, code, lines[0].Status, "%s: %+v", path, lines[0])
		}
	}
	assert.Equal(t, len(b.lines), counts["answered"]+counts["failed"]+counts["client_left"])
	for _, r := range s.Refused {
		assert.Equal(t, refused[status.Refused{Frontend: r.Frontend, Cause: r.Cause}], r.Requests, "%+v", r)
	}
	settled, ended := 0, uint64(0)
	for _, e := range b.journal {
		if e.Call == "settle" {
			settled++
		}
	}
	for _, u := range s.Upstreams {
		for _, x := range u.Backends {
			ended += x.Requests
		}
	}
	assert.EqualValues(t, settled, ended, "attempts that ended")
	assert.NoError(t, journal.Verify(b.journal, seed))
	t.Logf("%d lines %v, %d answers seen, %d attempts", len(b.lines), counts, len(b.seen), settled)
}
