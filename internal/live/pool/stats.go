package pool

import (
	"runtime"
	"sync/atomic"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/status"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/measure"
)

// counts is what is counted of a backend, and what else is told of it. It is
// guarded by the pool's mu, bytes aside.
type counts struct {
	requests, failed, left, seats uint64 // left: clients left before the answer began
	statuses                      [5]uint64
	first                         *hdrhistogram.Histogram // to the head of an answer, in microseconds; made on first use
	buckets                       measure.Histogram       // to the header of a response, for collectors
	firsts, elapsed               *window                 // of the last minutes: the same, and of all attempts to their end
	bytes                         atomic.Uint64
	recent                        [rateOver]uint32     // requests in each of the last seconds, by second
	second                        int64                // that recent was last written in
	steps                         [stepsKept][2]uint32 // requests and failures in each of the last steps, by step
	step                          int64                // that steps was last written in
	why                           string               // of the last change of state
	probe                         *status.ProbeSeen
	probes                        status.Probes
}

// rateOver is over how many seconds a rate is taken.
const rateOver = 10

// Steps of the last minutes: five, and the one that is not over yet.
const (
	stepOver  = 5 * time.Second
	stepsKept = 61
)

// window is a histogram of the last minutes, in microseconds.
type window struct {
	*hdrhistogram.WindowedHistogram
	minute int64 // of what is being recorded
}

// windowMinutes are kept, and the one that is not over yet. A digit is enough to see by, and
// takes an eighth of the room of two.
const windowMinutes = 5

// at goes on to the minute of a time, never back: a look may have read the clock before a
// request that it waited for. A nil one is made.
func (w *window) at(now tick.Time) *window {
	minute := int64(now) / int64(time.Minute)
	if w == nil {
		w = &window{hdrhistogram.NewWindowed(windowMinutes+1, 1, longestCounted.Microseconds(), 1), minute}
	}
	for n := min(minute-w.minute, windowMinutes+1); n > 0; n-- {
		w.Rotate()
	}
	w.minute = max(minute, w.minute)
	return w
}

// record notes a time, in the window that it returns.
func (w *window) record(now tick.Time, took time.Duration) *window {
	w = w.at(now)
	_ = w.Current.RecordValue(min(max(took, 0), longestCounted).Microseconds()) // it is within the bounds
	return w
}

// merged returns all of it, nil for nothing.
func (w *window) merged(now tick.Time) *hdrhistogram.Histogram {
	if w == nil {
		return nil
	}
	return w.at(now).Merge()
}

// longestCounted bounds what is told of latencies.
const longestCounted = time.Hour

// countLocked counts an attempt that has ended. l.mu is held.
func (l *Pool) countLocked(now tick.Time, a *upstream.Attempt, o upstream.Outcome) {
	if int(a.Backend) >= len(l.backends) || l.backends[a.Backend] == nil {
		return // it is gone
	}
	c := l.backends[a.Backend].counts
	c.requests++
	c.at(now)
	c.recent[c.second%rateOver]++
	c.stepAt(now)
	step := &c.steps[c.step%stepsKept]
	step[0]++
	if class := o.Status/100 - 1; o.Kind == upstream.Answered && class >= 0 && class < len(c.statuses) {
		c.statuses[class]++
	}
	switch {
	case o.Kind == upstream.ClientLeft:
		c.left++
	case o.Kind == upstream.CutOff, o.Kind == upstream.IdleCut, o.Kind == upstream.TakenOut: // the proxy's doing
	case o.Kind != upstream.Answered || o.Cause() != cause.None:
		c.failed++
		step[1]++
	}
	if o.FirstByte > 0 {
		if c.first == nil {
			c.first = hdrhistogram.New(1, longestCounted.Microseconds(), 2)
		}
		c.buckets.Add(o.FirstByte)
		_ = c.first.RecordValue(min(o.FirstByte, longestCounted).Microseconds()) // it is within the bounds
		c.firsts = c.firsts.record(now, o.FirstByte)
	}
	c.elapsed = c.elapsed.record(now, now.Sub(a.Began))
}

// at goes on to the second of a time.
func (c *counts) at(now tick.Time) {
	second := int64(now) / int64(time.Second)
	for n := min(second-c.second, rateOver); n > 0; n-- {
		c.recent[(second-n+1)%rateOver] = 0
	}
	c.second = max(second, c.second)
}

// stepAt goes on to the step of a time.
func (c *counts) stepAt(now tick.Time) {
	step := int64(now) / int64(stepOver)
	for n := min(step-c.step, stepsKept); n > 0; n-- {
		c.steps[(step-n+1)%stepsKept] = [2]uint32{}
	}
	c.step = max(step, c.step)
}

// lately returns the steps of the last minutes, as far back as the proxy goes.
func (c *counts) lately(now tick.Time) *status.Recent {
	c.stepAt(now)
	n := min(c.step+1, stepsKept)
	r := &status.Recent{Step: stepOver.Seconds(), Requests: make([]uint32, n), Failed: make([]uint32, n)}
	for i := range n {
		step := c.steps[(c.step-n+1+i)%stepsKept]
		r.Requests[i], r.Failed[i] = step[0], step[1]
	}
	return r
}

// rate is requests a second, over nine seconds and what has passed of this one; in the
// proxy's first seconds over its life, which counts as one at least.
func (c *counts) rate(now tick.Time) float64 {
	c.at(now)
	sum := uint32(0)
	for _, n := range c.recent {
		sum += n
	}
	over := time.Duration(now) % time.Second
	over += min(rateOver-1, time.Duration(c.second)) * time.Second
	return float64(sum) / max(over, time.Second).Seconds()
}

// tell fills in what was counted.
func (c *counts) tell(b *status.Backend, now tick.Time, recent, probed bool) {
	b.Why, b.Rate = c.why, c.rate(now)
	if probed {
		b.Probe = c.probe
	}
	if recent {
		b.Recent = c.lately(now)
	}
	b.Probes = c.probes
	b.Requests, b.Failed, b.ClientLeft, b.Seats, b.Statuses, b.Bytes = c.requests, c.failed, c.left, c.seats, c.statuses, c.bytes.Load()
	if c.first != nil {
		b.Total = percentiles(c.first)
	}
	lately := percentiles(c.firsts.merged(now))
	b.P50, b.P99, b.Elapsed = lately.P50, lately.P99, percentiles(c.elapsed.merged(now))
}

// percentiles returns those of a histogram in microseconds; 0 of an empty one, or nil.
func percentiles(h *hdrhistogram.Histogram) (e status.Elapsed) {
	if h != nil && h.TotalCount() > 0 {
		e.P50, e.P99 = float64(h.ValueAtPercentile(50))/1e6, float64(h.ValueAtPercentile(99))/1e6
	}
	return e
}

// zero begins anew.
func (c *counts) zero() {
	c.requests, c.failed, c.left, c.seats, c.statuses, c.first = 0, 0, 0, 0, [5]uint64{}, nil
	c.buckets, c.firsts, c.elapsed, c.probes = measure.Histogram{}, nil, nil, status.Probes{}
	c.bytes.Store(0)
}

// Status returns how the upstream stands, with what was asked lately if that is
// wanted. What is counted of backends is looked at one after the other: a request waits for
// the lock no longer than one of them takes, however many there are (BenchmarkScrape).
func (l *Pool) Status(at time.Time, recent bool) status.Upstream {
	l.mu.Lock()
	now := l.set.o.Now()
	u := status.Upstream{Name: l.Name, Algorithm: l.cfg.Algorithm, Waiting: l.core.Waiting(), Queued: l.queued, Retries: l.retries, Refused: l.refused, Backends: []status.Backend{}, Groups: []status.Group{}}
	if left, ok := l.core.RetryBudget(); ok {
		u.RetryBudget = &left
	}
	for _, g := range l.core.Shares() {
		x := status.Group{Tier: g.Tier, OwnZone: g.OwnZone, Share: g.Share, InFlight: g.InFlight}
		if l.cfg.Failover != nil && l.cfg.Failover.SpillAt > 0 {
			x.Room = &g.Room
		}
		u.Groups = append(u.Groups, x)
	}
	members := l.core.Members(now)
	all := make([]*counts, len(members))
	configured := make([]config.Backend, len(members))
	for i, m := range members {
		all[i], configured[i] = l.backends[m.ID].counts, *l.core.Backend(m.ID)
	}
	cfg := l.cfg // nobody changes it, a reload puts another in its place
	l.mu.Unlock()

	fair, probed := upstream.FairShares(cfg), cfg.Probe != nil
	// Rounded, so that a moment is told alike each time although the clocks drift.
	wall := func(t tick.Time) time.Time { return at.Add(-now.Sub(t)).Round(time.Millisecond) }
	total := uint64(0)
	for i := range members {
		m, as := &members[i], &configured[i]
		b := status.Backend{
			Name: m.Name, Address: as.Address.String(), State: m.State.String(), Since: wall(m.Since), Rest: max(m.Rest, 0).Seconds(), ByHand: m.ByHand,
			Zone: as.Zone, Tier: as.Tier, Weight: m.Weight, FairShare: fair[m.Name], InFlight: m.InFlight,
		}
		if m.Beneath != m.State && m.Beneath != health.Up {
			b.Beneath = m.Beneath.String()
		}
		if m.Share != 1 {
			b.ReportedShare = &m.Share
		}
		if m.SilentSince != tick.Never {
			since := wall(m.SilentSince)
			b.SilentSince = &since
		}
		l.mu.Lock()
		b.Orders = l.ordersOfLocked(as)
		all[i].tell(&b, now, recent, probed)
		l.mu.Unlock()
		runtime.Gosched() // lets a request that waits for the lock have it first
		for _, h := range b.Orders {
			if h.Until != nil && (b.Until == nil || h.Until.Before(*b.Until)) {
				b.Until = h.Until
			}
		}
		total += b.Requests
		u.Backends = append(u.Backends, b)
	}
	for i := range u.Backends {
		if b := &u.Backends[i]; total > 0 {
			b.Share = float64(b.Requests) / float64(total)
		}
	}
	return u
}

// zero begins the counts anew.
func (l *Pool) zero() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.refused, l.queued, l.retries = 0, 0, 0
	for _, b := range l.backends {
		if b != nil {
			b.counts.zero()
		}
	}
}

// FirstBytes returns the times to the header of a response of its backends, by name.
func (l *Pool) FirstBytes() map[string]measure.Buckets {
	l.mu.Lock()
	names, all := make([]string, 0, len(l.backends)), make([]measure.Histogram, 0, len(l.backends))
	for _, b := range l.backends {
		if b != nil {
			names, all = append(names, b.Name), append(all, b.counts.buckets)
		}
	}
	l.mu.Unlock()
	out := make(map[string]measure.Buckets, len(names))
	for i := range all {
		out[names[i]] = all[i].Buckets()
	}
	return out
}
