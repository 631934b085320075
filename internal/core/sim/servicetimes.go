package sim

import (
	"kestrix/internal/core/config"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/tick"
	"slices"
	"time"
)

// serviceKind is where service times come from.
type serviceKind uint8

const (
	fromTrace serviceKind = iota // else lognormal
	fixed
	exponential
	lognormal
)

// sourceOf returns where the service times of a distribution come from, and the lognormal one
// that is drawn from where it, or what stands in for the trace, is one.
func sourceOf(d config.Distribution) (serviceKind, rng.LogNormal) {
	kind := map[string]serviceKind{"fixed": fixed, "exponential": exponential, "lognormal": lognormal}[d.Kind]
	if kind == fromTrace {
		d = scenario.UnknownService
	}
	return kind, rng.NewLogNormal(float64(d.Mean), d.CV)
}

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

// serviceTime is how long a worker takes for the attempt of a request that is under way.
func (e *Engine) serviceTime(s *server, r *inFlight) tick.Time {
	if r.paths != 0 {
		for k := range s.ofPaths {
			if p := &s.ofPaths[k]; p.set&r.paths != 0 {
				return p.takes(e, r)
			}
		}
	}
	id, attempt := r.q.ID, r.a.Number
	switch s.draws {
	case fromTrace:
		if r.duration >= 0 {
			return tick.Time(r.duration)
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
	return draw(s.draws, s.service.Mean, &s.log, e.shaper, e.serviceBits(r))
}

// serviceBits are the random bits of an attempt's service time.
func (e *Engine) serviceBits(r *inFlight) uint64 {
	return rng.Bits(e.o.Seed, r.q.ID, uint64(r.a.Number), rng.Service)
}

// draw turns random bits into a service time.
func draw(kind serviceKind, mean time.Duration, log *rng.LogNormal, shaper *rng.Shaper, bits uint64) tick.Time {
	if kind == exponential {
		return tick.Time(float64(mean) * rng.Exponential(bits))
	}
	return tick.Time(log.Draw(shaper, bits))
}

// pathService is how long a backend works on requests of some paths.
type pathService struct {
	set     scenario.PathSet
	draws   serviceKind
	list    scenario.PathList
	service config.Distribution
	log     rng.LogNormal
}

// takes is how long a worker takes for the attempt of such a request.
func (p *pathService) takes(e *Engine, r *inFlight) tick.Time {
	switch {
	case p.draws == fixed:
		return tick.Time(p.service.Mean)
	case p.draws == fromTrace && r.duration >= 0:
		return tick.Time(r.duration)
	}
	return draw(p.draws, p.service.Mean, &p.log, e.shaper, e.serviceBits(r))
}

// takesAsSaid reports of each set of paths whether every backend of an upstream takes as long
// for its requests as the scenario says, whatever the trace does.
func (u *up) takesAsSaid(lists int) []bool {
	out := make([]bool, 1<<lists)
	for set := range out {
		out[set] = true
		for k := range u.servers {
			s := &u.servers[k]
			draws := s.draws
			if i := slices.IndexFunc(s.ofPaths, func(p pathService) bool { return p.set&scenario.PathSet(set) != 0 }); i >= 0 {
				draws = s.ofPaths[i].draws
			}
			out[set] = out[set] && draws != fromTrace
		}
	}
	return out
}

// serviceText words how long a backend works on a request.
func (s *server) serviceText() string {
	text := func(d config.Distribution) string {
		if d.Kind == "" {
			return "the trace's durations, else " + scenario.UnknownService.String()
		}
		return d.String()
	}
	out := text(s.service)
	for _, p := range s.ofPaths {
		out += "; for " + p.list.String() + " " + text(p.service)
	}
	return out
}
