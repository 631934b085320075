package sim

import (
	"fmt"
	"math"
	"time"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/result"
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
	defer e.pages.closePage(a.Page) // of which there are copies alone
	if !e.o.Resample {
		e.repeat(a, 0)
		return
	}
	d := e.draw(a.Session)
	for k := range uint32(d.times) {
		c := *a
		c.Session = d.first + k
		if k > 0 {
			e.disguise(&c, rng.Bits(uint64(k), 1, 0, rng.Copies))
		}
		e.repeat(&c, d.later*time.Duration(k))
	}
}

// repeat takes an arrival in as often as the case says, all of it later by some time.
func (e *Engine) repeat(a *ingest.Arrival, later time.Duration) {
	whole, part := math.Modf(e.times)
	n := int(whole)
	if part > 0 && rng.Unit(rng.Bits(e.o.Seed, e.met, 0, rng.Copies)) < part {
		n++
	}
	clients := uint32(math.Ceil(e.times))
	for i := range n {
		c := *a
		c.Session = a.Session*clients + uint32(i)
		wait := later
		other := uint64(0)
		if i > 0 {
			other = rng.Bits(uint64(i), 0, 0, rng.Copies)
			e.disguise(&c, other)
			wait += time.Duration(rng.Unit(rng.Bits(e.o.Seed, e.met, uint64(i), rng.Copies)) * 1e9)
		}
		c.Page = e.copyPage(a.Page, c.Session, other)
		if wait == 0 {
			e.ask(&c)
		} else {
			e.queue.Push(e.now.Add(wait), event{kind: another, req: e.keep(&c)})
		}
	}
}

// assumedCopies says from whom and when the additional requests of a scenario's load factor come.
func (e *Engine) assumedCopies() *result.Assumption {
	f := e.scenario.LoadFactor
	if f == 0 || f == 1 {
		return nil
	}
	return &result.Assumption{What: result.Copies, Value: fmt.Sprintf("each request comes %g times on average, copies from further clients within a second", f), Because: "the scenario has load_factor", Instead: "a trace of that load"}
}

// disguise makes an arrival that of another client.
func (e *Engine) disguise(a *ingest.Arrival, other uint64) {
	if a.Route < 0 || !e.sequence.Hashed(a.Route) {
		a.Key ^= other // a key that is not the client's is asked for again
	}
	if a.SeatKey != 0 {
		a.SeatKey ^= other
	}
	a.Limited ^= other
}

// drawn is how often a client of the trace was drawn: its copies have consecutive numbers,
// each comes that much later than the one before.
type drawn struct {
	first uint32
	times uint8
	later time.Duration
}

// mostDrawn is the largest number of copies of one client: more come once in 10 million.
const mostDrawn = 10

// draw returns how often a client was drawn, and draws those before it.
func (e *Engine) draw(client uint32) *drawn {
	for n := uint32(len(e.drawn)); n <= client; n++ {
		d := drawn{first: e.clients, times: uint8(TimesDrawn(e.o.Seed, n))}
		d.later = time.Duration(rng.Unit(rng.Bits(e.o.Seed, uint64(n), 1, rng.Drawn)) * 1e9 / mostDrawn)
		e.clients += uint32(d.times)
		e.drawn = append(e.drawn, d)
	}
	return &e.drawn[client]
}

// TimesDrawn returns how often a client is drawn, by its number in the trace. To draw from n
// clients n times with replacement needs n, which is known at the end of a trace alone.
// Instead each is drawn a Poisson-distributed number of times with the mean 1, which comes
// close where there are many clients (Chamandy et al.: Estimating Uncertainty for Massive
// Data Streams, 2012).
func TimesDrawn(seed uint64, client uint32) int {
	u, n := rng.Unit(rng.Bits(seed, uint64(client), 0, rng.Drawn)), 0
	for p, sum := 1/math.E, 1/math.E; u >= sum && n < mostDrawn; sum += p {
		n++
		p /= float64(n)
	}
	return n
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
