package proxy

import (
	"testing"
	"time"

	"kestrix/internal/core/upstream"
	"kestrix/internal/live/pool"
)

// BenchmarkDecide is what picking and statistics cost a request: the choice, the
// reason in words, the count and the latency.
func BenchmarkDecide(b *testing.B) {
	for _, algorithm := range []string{"round-robin", "least-connections", "two-choices"} {
		b.Run(algorithm, func(b *testing.B) {
			w := newWorldWith(&testing.T{}, app("algorithm = \""+algorithm+"\"\nretry {\n}\nsuspend {\n}\nprobe \"tcp\" {\n}"), func(o *Options) { o.Journal = nil })
			defer w.close()
			l := w.proxy.pools.Get("app")
			ctx := b.Context()
			var q pool.Request // in the proxy it is part of the exchange
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				q = pool.Request{Request: upstream.Request{ID: uint64(i), Key: uint64(i), Seat: upstream.None, Repeatable: true}}
				if _, ok := l.Decide(ctx, &q); !ok {
					b.Fatal("not decided")
				}
				l.Settle(&q, upstream.Outcome{Kind: upstream.Answered, Status: 200, FirstByte: time.Millisecond})
			}
		})
	}
}
