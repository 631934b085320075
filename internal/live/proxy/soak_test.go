package proxy

import (
	"bufio"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/http2"

	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/wire"
)

// held is what a process holds.
type held struct {
	goroutines, files int
	heap              uint64
}

// holds counts what this process holds, once what is ending has ended.
func holds(t *testing.T, like held) (h held) {
	for range 100 {
		http.DefaultTransport.(*http.Transport).CloseIdleConnections()
		// What a pool or a finalizer holds is free after the second and third.
		for range 3 {
			runtime.GC()
		}
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		files, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		h = held{runtime.NumGoroutine(), len(files), m.HeapAlloc}
		if h.goroutines <= like.goroutines && h.files <= like.files {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	return h
}

// TestNothingIsLeftOfRequests: after many mixed and aborted requests over real
// sockets a proxy holds what it held before. With KESTRIX_LONG set there are
// 50,000 of them.
func TestNothingIsLeftOfRequests(t *testing.T) {
	if _, err := os.Stat("/proc/self/fd"); err != nil {
		t.Skip("descriptors cannot be counted here")
	}
	requests := 1000
	if os.Getenv("KESTRIX_LONG") != "" {
		requests = 50_000
	}
	back, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/large":
			_, _ = w.Write(make([]byte, 300_000))
		case "/slow":
			time.Sleep(20 * time.Millisecond)
		case "/broken":
			w.Header().Set("Content-Length", "1000")
			_, _ = io.WriteString(w, "half")
			_ = http.NewResponseController(w).Flush()
			panic(http.ErrAbortHandler)
		case "/early":
			w.WriteHeader(http.StatusForbidden)
		default:
			_, _ = io.Copy(w, r.Body)
		}
	})}
	go func() { _ = server.Serve(back) }()
	defer server.Close()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := free.Addr().String()
	free.Close()
	text := strings.ReplaceAll(in("clear_http2 = true\n timeouts {\n half_closed = \"100ms\"\n request_body = \"1s\"\n}", front), "127.0.0.1:8080", at) +
		"upstream \"app\" {\n backends = { a = \"" + back.Addr().String() + "\" }\n timeouts {\n idle = \"500ms\"\n kept = \"200ms\"\n}\n retry {\n}\n}\n"
	var mu sync.Mutex
	reasons := map[string]int{}
	p := New(Options{Seed: 7, Grace: 5 * time.Second, Access: func(a *accesslog.Line) {
		mu.Lock()
		defer mu.Unlock()
		reasons[a.Reason]++
	}})
	require.NoError(t, p.Apply(parse(t, text)))
	one := func(r *rand.Rand) {
		c, err := net.Dial("tcp", at)
		if err != nil {
			t.Error(err)
			return
		}
		defer c.Close()
		_ = c.SetDeadline(time.Now().Add(10 * time.Second))
		path := []string{"/", "/large", "/slow", "/broken", "/early"}[r.IntN(5)]
		get := "GET " + path + " HTTP/1.1\r\nHost: a\r\n\r\n"
		post := "POST " + path + " HTTP/1.1\r\nHost: a\r\nContent-Length: 40000\r\n\r\n"
		read := func(n int64) { _, _ = io.CopyN(io.Discard, c, n) }
		say := func(s string) { _, _ = io.WriteString(c, s) }
		switch r.IntN(12) {
		case 0, 1, 2: // a client that behaves
			say("GET " + path + " HTTP/1.0\r\nHost: a\r\n\r\n")
			read(1 << 20)
		case 3: // one that asks ahead, and ends its direction
			say(get + get)
			_ = c.(*net.TCPConn).CloseWrite()
			read(1 << 20)
		case 4: // one that leaves at once
			say(get)
		case 5: // in the middle of a head
			say(get[:r.IntN(len(get))])
		case 6: // of a body
			say(post + strings.Repeat("x", r.IntN(40000)))
		case 7: // of an answer, by a reset
			say(get)
			read(50)
			_ = c.(*net.TCPConn).SetLinger(0)
		case 8: // what cannot be understood
			say(get + "nonsense\r\n\r\n")
			read(1 << 20)
		case 9: // a body that is broken
			say("POST " + path + " HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhelloX")
			read(1 << 20)
		default: // HTTP/2: some streams, of which nothing is taken, some malformed, and away
			_ = c.SetDeadline(time.Now().Add(200 * time.Millisecond))
			f := &frames{t: t, line: &line{t, c, bufio.NewReader(c)}, Framer: http2.NewFramer(c, c)}
			say(wire.Preface)
			_ = f.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: uint32(r.IntN(2) * 65535)})
			for i := range 4 {
				block := append([]byte{0x82, 0x86, 0x41, 1, 'a', 0x04, byte(len(path))}, path...)
				if r.IntN(4) == 0 {
					block = append(block, 0x0f, 0x0d, 2, '+', '3') // content-length
				}
				_ = f.WriteHeaders(http2.HeadersFrameParam{StreamID: uint32(2*i + 1), BlockFragment: block, EndHeaders: true, EndStream: r.IntN(4) > 0})
			}
			if r.IntN(2) == 0 {
				_ = f.WriteRSTStream(3, http2.ErrCodeCancel)
			}
			for range r.IntN(12) {
				if _, err := f.ReadFrame(); err != nil {
					break
				}
			}
		}
	}
	many := func(n int) {
		var wg sync.WaitGroup
		for worker := range 16 {
			wg.Go(func() {
				r := rand.New(rand.NewPCG(7, uint64(worker)))
				for range n / 16 {
					one(r)
				}
			})
		}
		wg.Wait()
	}
	settled := func() { // connections to the backend are let go, and what clients left is noticed
		require.Eventually(t, func() bool {
			b := p.Status().Upstreams[0].Backends[0]
			return b.InFlight == 0
		}, 20*time.Second, 50*time.Millisecond)
		// The library's timer of a body that its client broke off holds the connection.
		time.Sleep(1500 * time.Millisecond)
	}
	many(400)
	settled()
	before := holds(t, held{})
	many(requests)
	settled()
	after := holds(t, before)
	assert.LessOrEqual(t, after.goroutines, before.goroutines+5, "goroutines")
	assert.LessOrEqual(t, after.files, before.files+5, "open files")
	assert.LessOrEqual(t, after.heap, before.heap+1<<20, "bytes")
	mu.Lock()
	defer mu.Unlock()
	t.Log(before, after, reasons)
	require.NoError(t, p.Stop())
}
