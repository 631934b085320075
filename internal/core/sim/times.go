package sim

import (
	"math"
	"time"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/rng"
)

// multiply takes an arrival in so many times as the case says, on average: the first
// at its moment, further ones within a second of it, each as if another client like
// it had sent it. So there is more, or less, to do at every moment of a trace, and it
// still rises and falls as it did.
func (e *Engine) multiply(a *ingest.Arrival) {
	e.met++
	if e.only >= 0 && (a.Route < 0 || e.refs[a.Route].Upstream != e.only) {
		return
	}
	whole, part := math.Modf(e.times)
	n := int(whole)
	if rng.Unit(rng.Bits(e.o.Seed, e.met, 0, rng.Copies)) < part {
		n++
	}
	clients := uint32(math.Ceil(e.times))
	for i := range n {
		c := *a
		c.Session = a.Session*clients + uint32(i)
		if i == 0 {
			e.ask(&c)
			continue
		}
		other := rng.Bits(uint64(i), 0, 0, rng.Copies)
		if c.Route < 0 || !e.sequence.Hashed(c.Route) {
			c.Key ^= other // a key that is not the client's is asked for again
		}
		if c.SeatKey != 0 {
			c.SeatKey ^= other
		}
		c.Limited ^= other
		later := rng.Unit(rng.Bits(e.o.Seed, e.met, uint64(i), rng.Copies))
		e.queue.Push(e.now.Add(time.Duration(later*1e9)), event{kind: another, req: e.keep(&c)})
	}
}

// keep keeps an arrival until it comes, and returns its place.
func (s *supply) keep(a *ingest.Arrival) int32 {
	if n := len(s.spare); n > 0 {
		i := s.spare[n-1]
		s.spare = s.spare[:n-1]
		s.again[i] = *a
		return i
	}
	s.again = append(s.again, *a)
	return int32(len(s.again) - 1)
}

// kept returns what was kept.
func (s *supply) kept(i int32) ingest.Arrival {
	s.spare = append(s.spare, i)
	return s.again[i]
}
