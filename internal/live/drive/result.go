package drive

import (
	"math"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// Result puts what came of a drive into the form of a replay's result. Backends
// are those that answers name, as UPSTREAM.BACKEND or alone; shares are of them.
// partial says that it was ended early.
func Result(samples []Sample, partial bool) *result.Replay {
	r := &result.Replay{
		Routes: map[string]int64{}, Upstreams: map[string]*result.Upstream{}, Health: []result.HealthChange{}, Faults: []result.Fault{}, Expectations: []scenario.Verdict{},
		Overloaded: []result.Overload{}, Assumed: result.Assumptions{}, Pages: []result.Page{}, Dependencies: map[string]*result.Dependency{}, Partial: partial,
	}
	r.Trace.Unknown, r.Trace.Spread = map[string]int64{}, "none"
	r.Model.Backends, r.Model.Dependencies, r.Model.Instances, r.Model.Stamp = map[string]result.BackendModel{}, map[string]string{}, 1, "start"
	clients := map[uint32]bool{}
	last := time.Duration(0)
	var took Times
	by := map[string][]Sample{}
	for i := range samples {
		s := &samples[i]
		r.Requests++
		r.AskedAgain += int64(min(s.Repeats, 1))
		clients[s.Client] = true
		last = max(last, s.Due+max(s.Took, s.Held))
		switch {
		case s.Cut:
			r.Unfinished++
		case s.Left:
			r.ClientLeft++
		case s.Fail != cause.None:
			r.Failed++
			r.Errors[s.Fail]++
		default:
			r.Answered++
		}
		took.Add(s)
		if s.Backend != "" {
			by[s.Backend] = append(by[s.Backend], *s)
		}
	}
	r.GivenUp = r.Failed + r.ClientLeft - r.AskedAgain
	r.Trace.Records, r.Trace.Clients = r.Requests, int64(len(clients))
	r.Duration = last.Seconds()
	if r.Requests > 0 {
		r.ErrorRate = float64(r.Failed) / float64(r.Requests)
	}
	if r.Duration > 0 {
		r.Throughput = float64(r.Answered) / r.Duration
	}
	r.Latency, r.Elapsed = took.Latencies()
	for name, of := range by {
		up, backend, ok := strings.Cut(name, ".")
		if !ok {
			up, backend = "answers", name
		}
		u := r.Upstreams[up]
		if u == nil {
			u = &result.Upstream{Backends: map[string]*result.Backend{}}
			r.Upstreams[up] = u
		}
		b := &result.Backend{State: "up", Requests: int64(len(of))}
		var took Times
		for i := range of {
			took.Add(&of[i])
			if of[i].Fail == cause.None && !of[i].Cut {
				b.Answered++
			} else if of[i].Left {
				b.ClientLeft++
			} else if of[i].Fail != cause.None {
				b.Failed++
			}
		}
		b.Latency, b.Elapsed = took.Latencies()
		u.Backends[backend] = b
		u.Order = append(u.Order, backend)
		u.Requests, u.Answered, u.Failed = u.Requests+b.Requests, u.Answered+b.Answered, u.Failed+b.Failed
	}
	for up, u := range r.Upstreams {
		slices.Sort(u.Order)
		var took Times
		for _, name := range u.Order {
			b := u.Backends[name]
			b.Share, b.FairShare = float64(b.Requests)/float64(u.Requests), 1/float64(len(u.Order))
			full := up + "." + name
			if up == "answers" {
				full = name
			}
			for i := range by[full] {
				took.Add(&by[full][i])
			}
		}
		u.Latency, u.Elapsed = took.Latencies()
		Unevenness(u, nil)
	}
	sessions(r, samples)
	r.Timeline = Timeline(samples, bucketFor(r.Duration))
	r.Engine.WallSeconds = r.Duration
	r.Engine.RequestsPerSecond = r.Throughput
	return r
}

// Times are how long requests took. The zero value has none.
type Times struct{ answered, all []time.Duration }

// Add adds a request, unless it was cut off.
func (t *Times) Add(s *Sample) {
	if s.Cut {
		return
	}
	t.all = append(t.all, s.Took)
	if s.Fail == cause.None {
		t.answered = append(t.answered, s.Took)
	}
}

// Latencies returns those of answered requests, and of all.
func (t *Times) Latencies() (answered, all result.Latency) {
	return Latency(t.answered), Latency(t.all)
}

// Unevenness fills in how unevenly an upstream's requests are spread, by weight; nil
// weighs all alike.
func Unevenness(u *result.Upstream, weights map[string]float64) {
	var values []float64
	for _, name := range u.Order {
		w := 1.0
		if weights != nil {
			w = weights[name]
		}
		if w > 0 {
			values = append(values, float64(u.Backends[name].Requests)/w)
		}
	}
	u.Imbalance = result.ImbalanceOf(values)
}

// sessions counts clients, of samples in the order in which they were due, by what their answers name: one that another backend
// answers than did before is lost there, and moved if it stays.
func sessions(r *result.Replay, samples []Sample) {
	type seat struct {
		client   uint32
		upstream string
	}
	held := map[seat]string{}
	clients := map[uint32]bool{}
	for i := range samples {
		s := &samples[i]
		if s.Backend == "" || s.Fail != cause.None || s.Cut {
			continue
		}
		clients[s.Client] = true
		up, _, _ := strings.Cut(s.Backend, ".")
		k := seat{s.Client, up}
		if before, ok := held[k]; ok && before != s.Backend {
			r.Sessions.Misses++
			if u := r.Upstreams[up]; u != nil {
				u.Sessions.Misses++
			}
		}
		held[k] = s.Backend
	}
	r.Sessions.Seen = int64(len(clients))
	for k := range held {
		if u := r.Upstreams[k.upstream]; u != nil {
			u.Sessions.Seen++
		}
	}
}

// bucketFor returns the length of the timeline's rows, so that there are at most 240.
func bucketFor(seconds float64) float64 {
	bucket := 1.0
	for seconds/bucket > 240 {
		bucket *= 2
	}
	return bucket
}

// Timeline puts samples into rows by when they ended. Boxes count answers by the
// backend they name, by when they were due, and those not over at the end of a row.
func Timeline(samples []Sample, bucket float64) result.Timeline {
	t := result.Timeline{Bucket: bucket, Rows: []result.TimelineRow{}}
	if len(samples) == 0 {
		return t
	}
	end := 0.0
	for i := range samples {
		end = max(end, (samples[i].Due + samples[i].Took).Seconds())
	}
	rows := int(end/bucket) + 1
	took := make([]Times, rows)
	for i := range rows {
		t.Rows = append(t.Rows, result.TimelineRow{At: float64(i) * bucket, Upstreams: map[string]map[string]result.TimelineBox{}})
	}
	for i := range samples {
		s := &samples[i]
		ended := int((s.Due + s.Took).Seconds() / bucket)
		row := &t.Rows[ended]
		switch {
		case s.Cut:
		case s.Left:
			row.ClientLeft++
		case s.Fail != cause.None:
			row.Failed++
		default:
			row.Answered++
		}
		took[ended].Add(s)
		up, backend, ok := strings.Cut(s.Backend, ".")
		if s.Backend == "" {
			continue
		}
		if !ok {
			up, backend = "answers", s.Backend
		}
		Box(&t, up, backend, s.Due, s.Due+max(s.Took, s.Held))
	}
	for i := range t.Rows {
		l, all := took[i].Latencies()
		t.Rows[i].P50, t.Rows[i].P95, t.Rows[i].P99 = l.P50, l.P95, l.P99
		t.Rows[i].Elapsed = result.Percentiles{P50: all.P50, P95: all.P95, P99: all.P99}
	}
	per := t.PerRow()
	for i := 0; i < rows; i += per {
		var part []time.Duration
		for _, t := range took[i:min(i+per, rows)] {
			part = append(part, t.all...)
		}
		l := Latency(part)
		t.Coarse = append(t.Coarse, result.CoarseRow{At: t.Rows[i].At, P50: l.P50, P95: l.P95, P99: l.P99})
	}
	return t
}

// Box counts an attempt on a backend that lasted from one moment to another.
func Box(t *result.Timeline, up, backend string, from, until time.Duration) {
	first, over := int(from.Seconds()/t.Bucket), int(until.Seconds()/t.Bucket)
	for j := max(first, 0); j <= min(over, len(t.Rows)-1); j++ {
		boxes := t.Rows[j].Upstreams[up]
		if boxes == nil {
			boxes = map[string]result.TimelineBox{}
			t.Rows[j].Upstreams[up] = boxes
		}
		b := boxes[backend]
		if j == first {
			b.Requests++
		}
		if j < over {
			b.InFlight++
		}
		boxes[backend] = b
	}
}

// Latency returns mean and percentiles of durations: those of the nearest rank.
func Latency(took []time.Duration) result.Latency {
	if len(took) == 0 {
		return result.Latency{}
	}
	sorted := slices.Clone(took)
	slices.Sort(sorted)
	sum := 0.0
	for _, d := range sorted {
		sum += d.Seconds()
	}
	q := func(p float64) float64 {
		return sorted[min(max(int(math.Ceil(p*float64(len(sorted))))-1, 0), len(sorted)-1)].Seconds()
	}
	return result.Latency{Mean: sum / float64(len(sorted)), P50: q(0.5), P90: q(0.9), P95: q(0.95), P99: q(0.99), P999: q(0.999), Max: sorted[len(sorted)-1].Seconds()}
}

// Lateness is how well the driver itself kept up: how late requests were sent.
type Lateness struct {
	P50 float64 `json:"p50"` // seconds
	P99 float64 `json:"p99"`
	Max float64 `json:"max"`

	due float64 // seconds from the first request to the last, had none been late
}

// KeptUp reports whether the lateness is none to speak of: at most 10 ms, or a tenth
// both of the answers' times and of the time the requests were to come in. The second
// of these notices a driver that cannot send as fast as it was told to, whose own haste
// makes the answers slow.
func (l *Lateness) KeptUp(answers *result.Latency) bool {
	return l.P99 <= 0.010 || l.P99 <= 0.1*min(answers.P50, l.due)
}

// LatenessOf measures it.
func LatenessOf(samples []Sample) Lateness {
	late := make([]time.Duration, len(samples))
	var first, last time.Duration
	for i := range samples {
		late[i] = samples[i].Late
		if i == 0 {
			first, last = samples[i].Due, samples[i].Due
		}
		first, last = min(first, samples[i].Due), max(last, samples[i].Due)
	}
	l := Latency(late)
	return Lateness{l.P50, l.P99, l.Max, (last - first).Seconds()}
}
