package sim

import (
	"kestrix/internal/core/config"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/tick"
)

// ahead holds the service times of the requests that come next, as most backends
// take for them: a draw depends on nothing but the number of its request, and
// many made in a row cost a third of as many made one at a time.
type ahead struct {
	from  uint64 // the first request that takes is of
	takes [256]float64
	bits  [256]uint64
	drawn bool
}

// findUsual finds the behaviour whose service times are drawn ahead: the most
// frequent one.
func findUsual(servers []server) {
	counts := map[config.Distribution]int{}
	var usual config.Distribution
	for k := range servers {
		is := servers[k].service
		if counts[is]++; counts[is] > counts[usual] {
			usual = is
		}
	}
	for k := range servers {
		servers[k].usual = servers[k].service == usual
	}
}

// serviceTime is how long a worker takes for an attempt of a request, for which the
// trace says how long it took, or -1.
func (e *Engine) serviceTime(s *server, id uint64, attempt int16, took int64) tick.Time {
	switch s.draws {
	case fromTrace:
		if took >= 0 {
			return tick.Time(took)
		}
	case fixed:
		return tick.Time(s.service.Mean)
	}
	if s.usual && attempt == 1 {
		d := &e.ahead
		if k := id - d.from; d.drawn && k < uint64(len(d.takes)) {
			return tick.Time(d.takes[k])
		}
		if id >= d.from {
			d.from, d.drawn = id, true
			rng.Row(d.bits[:], e.o.Seed, id, 1, rng.Service)
			if s.draws == exponential {
				for k, b := range d.bits {
					d.takes[k] = float64(s.service.Mean) * rng.Exponential(b)
				}
			} else {
				s.log.DrawRow(e.shaper, d.takes[:], d.bits[:])
			}
			return tick.Time(d.takes[0])
		}
	}
	return s.draw(e.shaper, rng.Bits(e.o.Seed, id, uint64(attempt), rng.Service))
}

// draw turns random bits into a service time.
func (s *server) draw(shaper *rng.Shaper, bits uint64) tick.Time {
	if s.draws == exponential {
		return tick.Time(float64(s.service.Mean) * rng.Exponential(bits))
	}
	return tick.Time(s.log.Draw(shaper, bits))
}
