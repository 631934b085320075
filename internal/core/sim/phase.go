package sim

import (
	"kestrix/internal/core/histogram"
	"kestrix/internal/core/result"
	"kestrix/internal/core/tick"
)

// phase is a part of the replay in which no fault begins or ends. Requests
// belong to the one in which they arrived.
type phase struct {
	began                            tick.Time
	requests, answered, failed, left int64               // answered: without a backend; the rest is in the latencies
	elsewhere                        histogram.Histogram // requests that came to no upstream
}

// newPhase begins one now, and returns its number.
func (e *Engine) newPhase() int {
	n := len(e.phases)
	if last := &e.phases[n-1]; last.began == e.now && last.requests == 0 {
		return n - 1
	}
	e.phases = append(e.phases, phase{began: e.now})
	for _, u := range e.ups {
		u.latency = append(u.latency, histogram.Histogram{})
		u.unanswered = append(u.unanswered, histogram.Histogram{})
	}
	return n
}

// phase puts several together.
func (e *Engine) phase(from, to int) result.Phase {
	var p result.Phase
	var answered, others []*histogram.Histogram
	for i := from; i < to; i++ {
		p.Requests += e.phases[i].requests
		p.Answered += e.phases[i].answered
		p.Failed += e.phases[i].failed
		p.ClientLeft += e.phases[i].left
		for _, u := range e.ups {
			p.Answered += u.latency[i].Count
			answered, others = append(answered, &u.latency[i]), append(others, &u.unanswered[i])
		}
		others = append(others, &e.phases[i].elsewhere)
	}
	if p.Requests > 0 {
		p.ErrorRate = float64(p.Failed) / float64(p.Requests)
	}
	p.Latency, p.Elapsed = e.latencies.Latency(answered...), e.latencies.Latency(append(answered, others...)...)
	return p
}

// overloadAfter is for how long something must have waited without a pause,
// up to the last arrival, to be told of.
const overloadAfter = tick.Time(20e9)

// waits returns how many requests wait for a worker of an upstream, or in its
// queue.
func (u *up) waits() int64 {
	n := int64(0)
	for k := range u.servers {
		n += int64(u.servers[k].queued)
	}
	for _, v := range u.views {
		n += int64(v.core.Waiting())
	}
	return n
}

// breathe notes which upstreams have nothing waiting and turned nobody away. It is
// called once in a bucket of the timeline.
func (e *Engine) breathe() {
	for _, u := range e.ups {
		u.durations.bucketEnds(e.timeline.width)
		n := u.waits()
		switch {
		case n == 0 && u.turned == 0:
			u.calm, u.waited = e.now, 0
		case e.now <= e.lastAt:
			u.waited = max(n, 1)
		}
		u.turned = 0
	}
}

// turnsAway notes a request for which there was no room, unless a fault is the
// reason.
func (u *up) turnsAway() {
	if u.turned > 0 {
		return // it has been noted
	}
	for k := range u.servers {
		if u.servers[k].under != 0 {
			return
		}
	}
	u.turned++
}

// overloaded returns the upstreams in which something waited from some moment up
// to the last arrival.
func (e *Engine) overloaded() []result.Overload {
	out := []result.Overload{}
	for _, u := range e.ups {
		if u.requests > 0 && u.waited > 0 && e.lastAt-u.calm >= max(overloadAfter, e.lastAt/20) {
			out = append(out, result.Overload{Upstream: u.cfg.Name, From: u.calm.Seconds(), Until: e.lastAt.Seconds(), Waiting: u.waited})
		}
	}
	return out
}
