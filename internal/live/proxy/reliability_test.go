package proxy

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
)

// These hold the proxy to what it is trusted with when things go wrong around
// it. Time is virtual, so that nothing depends on how fast the machine is.

// underRace is set where the race detector is at work. Its own bookkeeping gives
// out (tsan_rtl.cpp, epochs) after the many thousands of goroutines and timers
// that these tests go through in virtual time, so that they run without it; what
// they exercise is under it in the others.
var underRace bool

func heavy(t *testing.T) {
	if underRace {
		t.Skip("too much for the race detector")
	}
}

// works runs a backend that takes its time over a request.
func (w *world) works(address string, takes time.Duration) {
	w.start(address, func(out http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		time.Sleep(takes)
		_, _ = io.WriteString(out, address)
	})
}

// clients ask over and over for a time, and count what was not answered with
// 200, by method.
func (w *world) clients(n int, pause, last time.Duration) map[string]int {
	var wg sync.WaitGroup
	var mu sync.Mutex
	failed := map[string]int{}
	end := time.Now().Add(last)
	for i := range n {
		method := []string{"GET", "POST"}[i%2]
		wg.Go(func() {
			time.Sleep(time.Duration(i) * time.Millisecond)
			for time.Now().Before(end) {
				req, err := http.NewRequest(method, base+"/seats", strings.NewReader("one seat"))
				assert.NoError(w.t, err)
				res, err := w.client.Do(req)
				ok := err == nil && res.StatusCode == 200
				if err == nil {
					_, _ = io.Copy(io.Discard, res.Body)
					res.Body.Close()
				}
				if !ok {
					mu.Lock()
					failed[method]++
					mu.Unlock()
				}
				time.Sleep(pause)
			}
		})
	}
	wg.Wait()
	return failed
}

func TestABackendKilledUnderLoadLosesNoSafeRequest(t *testing.T) {
	heavy(t)
	for _, probe := range []string{"", "probe \"http\" {\n every = \"500ms\"\n timeout = \"200ms\"\n}\n"} {
		bubble(t, app("retry {\n}\nsuspend {\n after = 3\n rest = \"2s\"\n}\n"+probe), func(w *world) {
			for _, a := range addresses() {
				w.works(a, 20*time.Millisecond)
			}
			open := 0
			go func() {
				for range 3 { // killed and started again, over and over
					time.Sleep(2 * time.Second)
					open += w.proxy.Status().Upstreams[0].Backends[0].InFlight
					w.kill(here)
					time.Sleep(2 * time.Second)
					w.works(here, 20*time.Millisecond)
				}
			}()
			failed := w.clients(30, 20*time.Millisecond, 15*time.Second)
			assert.Zero(t, failed["GET"], "a safe request is repeated elsewhere")
			assert.LessOrEqual(t, failed["POST"], open, "of the others, those that the backend may have seen")
			assert.Positive(t, open)
			synctest.Wait()
			assert.Greater(t, len(w.log()), 9000)
			time.Sleep(5 * time.Second) // its last rest
			for range 6 {
				w.get(base + "/seats")
			}
			assert.Equal(t, "up", w.proxy.Status().Upstreams[0].Backends[0].State, "and it is back")
		})
	}
}

// TestProbesAloneLoseNoMoreThanPredicted: without retries, what fails until a
// probe finds a dead backend is what the replay says.
func TestProbesAloneLoseNoMoreThanPredicted(t *testing.T) {
	heavy(t)
	text := app("probe \"http\" {\n every = \"2s\"\n timeout = \"500ms\"\n down_after = 2\n up_after = 2\n}")
	const requests, pace = 3000, 10 * time.Millisecond
	c := parse(t, text)
	s, _, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte("behaviour \"*\" {\n connect = \"0s\"\n service = fixed(\"1ms\")\n}\nfault \"f\" {\n backend = \"app.a\"\n kind = \"refuse\"\n at = \"10s\"\n until = \"20s\"\n}\n")}, c)
	require.NoError(t, err)
	var b strings.Builder
	for i := range requests {
		fmt.Fprintf(&b, "{\"time\":%.3f,\"path\":\"/\",\"client\":\"a\",\"method\":\"GET\"}\n", 1000+float64(i)*pace.Seconds())
	}
	r, err := replay.Run(t.Context(), c, s, []ingest.Source{{Name: "t", Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(b.String())), nil }}}, replay.Options{Seed: 7})
	require.NoError(t, err)
	require.Positive(t, r.Failed)
	bubble(t, text, func(w *world) {
		for _, a := range addresses() {
			w.works(a, time.Millisecond)
		}
		go func() {
			time.Sleep(10*time.Second - time.Millisecond)
			w.kill(here)
			time.Sleep(10 * time.Second)
			w.works(here, time.Millisecond)
		}()
		failed := int64(0)
		var wg sync.WaitGroup
		for range requests {
			wg.Go(func() {
				if status, _ := w.get(base + "/"); status != 200 {
					atomic.AddInt64(&failed, 1)
				}
			})
			time.Sleep(pace)
		}
		wg.Wait()
		assert.Positive(t, failed)
		assert.InDelta(t, r.Failed, failed, 1)
	})
}

func TestAllBackendsDownAndBack(t *testing.T) {
	heavy(t)
	bubble(t, app("probe \"http\" {\n every = \"1s\"\n timeout = \"200ms\"\n}\nretry {\n}"), func(w *world) {
		for _, a := range addresses() {
			w.works(a, time.Millisecond)
		}
		time.Sleep(3 * time.Second)
		assert.Empty(t, w.clients(10, 10*time.Millisecond, 2*time.Second))
		for _, a := range addresses() {
			w.kill(a)
		}
		time.Sleep(3 * time.Second)
		began := time.Now()
		code, body := w.get(base + "/")
		assert.Equal(t, 503, code)
		assert.Contains(t, body, "no backend is available")
		assert.Zero(t, time.Since(began), "refused at once")
		assert.Equal(t, status.EventUnavailable, w.news("app")[0].Kind)
		for _, a := range addresses() {
			w.works(a, time.Millisecond)
		}
		time.Sleep(3 * time.Second)
		assert.Empty(t, w.clients(10, 10*time.Millisecond, 2*time.Second))
	})
}

// TestNothingIsLeftBehind: after requests that go wrong in every way, goroutines
// and open requests are what they were.
func TestNothingIsLeftBehind(t *testing.T) {
	bubble(t, in("timeouts {\n idle = \"5s\"\n request_body = \"2s\"\n}", front)+"upstream \"app\" {\n backends = { a = \""+here+"\", b = \"192.0.2.2:80\" }\n retry {\n}\n timeouts {\n answer = \"1s\"\n idle = \"1s\"\n kept = \"2s\"\n}\n}\n", func(w *world) {
		n := atomic.Int64{}
		misbehave := func(l *line) {
			l.head()
			say := func(text string) { _, _ = io.WriteString(l, text) } // to a proxy that may have had enough
			switch n.Add(1) % 8 {
			case 0:
				say("HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf")
			case 1:
				say("garbage")
			case 2:
				_, _ = l.r.ReadByte() // says nothing
			case 3:
				say("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhel")
				_, _ = l.r.ReadByte()
			case 4:
				say("HTTP/1.1 101 Switching Protocols\r\nUpgrade: tide\r\n\r\nhello")
			case 5:
				say("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
				l.head() // and is kept
			case 6:
				say("HTTP/1.1 103 Early\r\n\r\nHTTP/1.1 503 No\r\nConnection: close\r\n\r\nno")
			default:
				for range 200 {
					if _, err := io.WriteString(l, "HTTP/1.1 100 On\r\nA: b\r\n\r\n"); err != nil {
						return
					}
				}
			}
		}
		w.raw(here, misbehave)
		w.raw("192.0.2.2:80", misbehave)
		settle := func() int {
			w.client.CloseIdleConnections()
			time.Sleep(time.Minute)
			synctest.Wait()
			all := make([]byte, 1<<20) // those of this bubble: the process has others
			return strings.Count(string(all[:runtime.Stack(all, true)]), "synctest bubble")
		}
		before := settle()
		var wg sync.WaitGroup
		for i := range 400 {
			wg.Go(func() {
				c := w.call()
				defer c.Close()
				switch i % 5 {
				case 0:
					c.say("GET / HTTP/1.1\r\nHost: a\r\nConnection: Upgrade\r\nUpgrade: tide\r\n\r\n")
				case 1:
					c.say("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 100000\r\n\r\nnever all of it")
				case 2:
					c.say("POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\nbroken")
				case 3:
					c.say("PUT / HTTP/1.1\r\nHost: a\r\nExpect: 100-continue\r\nContent-Length: 5\r\n\r\n")
				default:
					c.say("GET / HTTP/1.1\r\nHost: a\r\n\r\nGET / HTTP/1.1\r\nHost: a\r\n\r\n")
				}
				if i%7 == 0 {
					return // leaves at once
				}
				_ = c.SetReadDeadline(time.Now().Add(20 * time.Second))
				c.head()
			})
		}
		wg.Wait()
		assert.Positive(t, before)
		assert.Equal(t, before, settle())
		for _, b := range w.proxy.Status().Upstreams[0].Backends {
			assert.Zero(t, b.InFlight, b.Name)
		}
	})
}

// TestIdleConnectionsCostLittle: ten thousand clients that asked once and wait.
func TestIdleConnectionsCostLittle(t *testing.T) {
	heavy(t)
	w := newWorld(t, front+one)
	w.start(here, nil)
	used := func() uint64 {
		runtime.GC()
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapInuse + m.StackInuse
	}
	const n = 10_000
	before := used()
	open := make([]*line, n)
	for i := range open {
		c, err := w.net.dial(context.Background(), "tcp", "127.0.0.1:8080")
		require.NoError(t, err)
		l := &line{t, c, nil}
		open[i] = l
		l.say("GET / HTTP/1.1\r\nHost: a\r\n\r\n")
		res, err := http.ReadResponse(bufio.NewReaderSize(c, 512), nil)
		require.NoError(t, err)
		_, err = io.Copy(io.Discard, res.Body)
		require.NoError(t, err)
	}
	each := (used() - before) / n
	t.Logf("%d bytes a connection", each)
	assert.Less(t, each, uint64(25_000))
	for _, c := range open {
		c.Close()
	}
	clear(open)
	for end := time.Now().Add(20 * time.Second); runtime.NumGoroutine() > n/100 && time.Now().Before(end); {
		runtime.Gosched()
	}
	w.mu.Lock()
	w.access, w.journal = nil, nil // the test's own
	w.mu.Unlock()
	runtime.KeepAlive(open)
	if after := used(); after > before {
		// Spans that are not wholly empty, and pools, stay for a while.
		assert.Less(t, after-before, uint64(n*each/5), "and it is given back")
	}
	w.close()
}
