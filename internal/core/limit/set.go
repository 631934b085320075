package limit

import (
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/tick"
)

// Set holds the rates of a configuration's frontends and routes. The zero value
// is ready. It is not safe for concurrent use.
type Set struct{ rates map[place]*held }

type place struct{ front, route string }

type held struct {
	*Rate
	perSecond float64
	burst     int
}

// Front returns how long a client has to wait until it is within the rate of a
// frontend again; 0 if it is, and then the request counts.
func (s *Set) Front(now tick.Time, f *config.Frontend, client uint64) time.Duration {
	return s.take(now, place{f.Name, ""}, &f.Limits, client)
}

// Route is Front for the rate of a route.
func (s *Set) Route(now tick.Time, f *config.Frontend, r *config.Route, client uint64) time.Duration {
	return s.take(now, place{f.Name, r.Name}, &r.Limits, client)
}

// take asks the rate of a name. One whose limits are what they were goes on
// over a reload.
func (s *Set) take(now tick.Time, name place, l *config.Limits, client uint64) time.Duration {
	if l.Rate == 0 {
		return 0
	}
	h := s.rates[name]
	if h == nil || h.perSecond != l.Rate || h.burst != l.Burst {
		if s.rates == nil {
			s.rates = map[place]*held{}
		}
		h = &held{NewRate(l.Rate, l.Burst), l.Rate, l.Burst}
		s.rates[name] = h
	}
	if ok, wait := h.Take(now, client); !ok {
		return wait
	}
	return 0
}
