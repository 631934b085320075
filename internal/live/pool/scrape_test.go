package pool

import (
	"context"
	"fmt"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// BenchmarkScrape asks a pool of a thousand backends, all with answers, how it stands and
// for its latencies, as a scrape does, while another goroutine wants the pool's lock all the
// time. Reported beside is what that one waited where it had to wait: the 99th percentile,
// because the longest is the scheduler's.
func BenchmarkScrape(b *testing.B) {
	var text strings.Builder
	text.WriteString("frontend \"web\" {\n listen = \"127.0.0.1:1\"\n route \"all\" {\n send_to = upstream.app\n}\n}\nupstream \"app\" {\n backends = {\n")
	for i := range 1000 {
		fmt.Fprintf(&text, " b%d = \"192.0.2.1:%d\"\n", i, i+1)
	}
	text.WriteString("}\n}\n")
	c, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(text.String())}})
	require.NoError(b, err)
	require.Empty(b, found)
	began := time.Now()
	s := NewSet(Options{
		Now: func() tick.Time { return tick.Time(time.Since(began)) }, Seed: 7, Event: func(string, status.EventKind, string, ...any) {},
		Dial: func(context.Context, string, string) (net.Conn, error) { return nil, net.ErrClosed },
	})
	defer s.Stop()
	s.Put(c.Upstreams[0], nil)
	l := s.Get("app")
	for i := range 100_000 {
		q := &Request{Request: upstream.Request{ID: uint64(i), Seat: upstream.None}}
		_, ok := l.Decide(b.Context(), q)
		require.True(b, ok)
		l.Settle(q, upstream.Outcome{Kind: upstream.Answered, Status: 200, FirstByte: time.Duration(1+i%500) * time.Millisecond})
	}
	var stop atomic.Bool
	waits := make(chan *hdrhistogram.Histogram)
	go func() {
		waited := hdrhistogram.New(1, time.Minute.Nanoseconds(), 2)
		for !stop.Load() {
			if l.mu.TryLock() {
				l.mu.Unlock()
				continue
			}
			at := time.Now()
			l.mu.Lock()
			_ = waited.RecordValue(time.Since(at).Nanoseconds()) // it is within the bounds
			l.mu.Unlock()
		}
		waits <- waited
	}()
	for b.Loop() {
		l.Status(time.Now(), false)
		l.FirstBytes()
	}
	stop.Store(true)
	b.ReportMetric(float64((<-waits).ValueAtPercentile(99))/1e3, "µs-p99-wait")
}
