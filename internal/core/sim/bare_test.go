package sim

import (
	"fmt"
	"testing"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/queue"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/tick"
)

// BenchmarkBareLoop is what the event loop is held against: the same arrivals,
// the same queue of events and the same draws of service times for ten servers
// in turn, or a thousand, and nothing else.
func BenchmarkBareLoop(b *testing.B) {
	for _, servers := range []int32{10, 1000} {
		b.Run(fmt.Sprint(servers), func(b *testing.B) { bareLoop(b, servers) })
	}
}

func bareLoop(b *testing.B, servers int32) {
	var heap queue.Calendar[event]
	var connect queue.Heap[event]
	shaper := rng.NewShaper()
	takes := rng.NewLogNormal(40e6, 0.6)
	type job struct{ server int32 }
	jobs := make([]job, 0, 1<<12)
	free := []int32{}
	busy := make([]int, servers)
	arrivals := make([]ingest.Arrival, 1<<14)
	at := 0.0
	next := func(n uint64) {
		for i := range arrivals {
			at += rng.Exponential(rng.Bits(1, n+uint64(i), 0, rng.Arrival)) / (200 * float64(servers)) * 1e9
			arrivals[i].At = int64(at)
		}
	}
	next(0)
	id := uint64(0)
	handle := func(to tick.Time) {
		for {
			h, l := heap.At(), connect.At()
			now := min(h, l)
			if now > to {
				return
			}
			if l <= h {
				_, e := connect.Pop()
				id++
				t := takes.Draw(shaper, rng.Bits(1, id, 0, rng.Service))
				busy[jobs[e.req].server]++
				heap.Push(now+tick.Time(t), event{kind: done, req: e.req, server: jobs[e.req].server})
			} else {
				_, e := heap.Pop()
				busy[e.server]--
				free = append(free, e.req)
			}
		}
	}
	turn := int32(0)
	b.ReportAllocs()
	b.ResetTimer()
	for n := 0; n < b.N; {
		b.StopTimer()
		next(uint64(n))
		b.StartTimer()
		for i := range arrivals {
			now := tick.Time(arrivals[i].At)
			handle(now)
			var k int32
			if f := len(free); f > 0 {
				k = free[f-1]
				free = free[:f-1]
			} else {
				k = int32(len(jobs))
				jobs = append(jobs, job{})
			}
			jobs[k].server = turn
			turn = (turn + 1) % servers
			connect.Push(now.Add(1e6), event{kind: reach, req: k})
			if n++; n == b.N {
				break
			}
		}
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
}
