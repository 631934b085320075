package trace

import (
	"bytes"
	"cmp"
	"slices"
	"strings"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// Summary is what describe tells of a trace. The keys are documented and
// stable; times are seconds, First and Last seconds since the epoch.
type Summary struct {
	Format       string           `json:"format"`
	Records      int64            `json:"records"`
	BadLines     int64            `json:"bad_lines"`
	First        *float64         `json:"first"`
	Last         *float64         `json:"last"`
	Clients      int              `json:"clients"`
	Sessions     int              `json:"sessions"`
	Methods      map[string]int64 `json:"methods"`
	Statuses     map[string]int64 `json:"statuses"`
	Bytes        int64            `json:"bytes"`
	Duration     *Spread          `json:"duration"`
	Rate         *Rate            `json:"rate"`
	TopClients   []Count          `json:"top_clients"`
	TopPaths     []Count          `json:"top_paths"`
	Bad          []Bad            `json:"bad"`
	Unknown      map[string]int64 `json:"unknown"`       // records in which a field is not known
	WholeSeconds bool             `json:"whole_seconds"` // no stamp has a fraction
	Curve        []Share          `json:"-"`             // of durations, for a figure
}

// Share is which share of answers took at most so long.
type Share struct{ Seconds, Share float64 }

// Spread is how long answers took, in seconds.
type Spread struct {
	Mean float64 `json:"mean"`
	P50  float64 `json:"p50"`
	P90  float64 `json:"p90"`
	P95  float64 `json:"p95"`
	P99  float64 `json:"p99"`
	Max  float64 `json:"max"`
}

// Rate is requests a second over the span of the trace.
type Rate struct {
	Mean   float64   `json:"mean"`
	Peak   float64   `json:"peak"`    // of the busiest bucket
	PeakAt float64   `json:"peak_at"` // when it began, seconds since the epoch
	Bucket float64   `json:"bucket"`  // seconds
	Rows   []RateRow `json:"rows"`
}

// RateRow is one bucket of the rate.
type RateRow struct {
	At       float64 `json:"at"`
	Requests int64   `json:"requests"`
}

// Count is how often something came.
type Count struct {
	Name     string `json:"name"`
	Requests int64  `json:"requests"`
}

// Describer gathers a summary, record by record.
type Describer struct {
	s           Summary
	first, last int64
	timed       bool
	clients     map[string]*int64
	paths       map[string]*int64
	sessions    map[string]*int64
	methods     map[string]*int64
	statuses    [1000]int64
	durations   *hdrhistogram.Histogram
	durationSum float64
	longest     int64
	width       int64 // of a bucket of the rate, seconds
	buckets     map[int64]int64
}

// maxBuckets bounds the memory of the rate over time; when it is reached
// buckets become twice as wide.
const maxBuckets = 1 << 17

// NewDescriber returns an empty one.
func NewDescriber() *Describer {
	return &Describer{
		clients: map[string]*int64{}, paths: map[string]*int64{}, sessions: map[string]*int64{}, methods: map[string]*int64{},
		durations: hdrhistogram.New(1, int64(1e10), 2), width: 1, buckets: map[int64]int64{},
		s: Summary{Unknown: map[string]int64{}, WholeSeconds: true},
	}
}

// count adds one to a key, which is copied when it is new.
func count(m map[string]*int64, key string) {
	if n, ok := m[key]; ok {
		*n++
		return
	}
	one := int64(1)
	m[strings.Clone(key)] = &one
}

// Add takes one record in.
func (d *Describer) Add(r *Record) {
	d.s.Records++
	if r.Time != NoTime {
		if !d.timed || r.Time < d.first {
			d.first = r.Time
		}
		if !d.timed || r.Time > d.last {
			d.last = r.Time
		}
		d.timed = true
		d.s.WholeSeconds = d.s.WholeSeconds && r.WholeSecond
		d.bucket(r.Time)
	} else {
		d.s.Unknown["time"]++
	}
	d.text("client", r.Client, d.clients)
	d.text("method", r.Method, d.methods)
	path := r.Path
	if i := bytes.IndexByte(path, '?'); i >= 0 {
		path = path[:i]
	}
	d.text("path", path, d.paths)
	d.text("session", r.Session, d.sessions)
	if r.Host == nil {
		d.s.Unknown["host"]++
	}
	if r.Status > 0 && r.Status < len(d.statuses) {
		d.statuses[r.Status]++
	} else {
		d.s.Unknown["status"]++
	}
	if r.Bytes > 0 {
		d.s.Bytes += r.Bytes
	}
	if r.Duration >= 0 {
		_ = d.durations.RecordValue(min(r.Duration/1000, int64(1e10))) // in range by min
		d.durationSum += float64(r.Duration)
		d.longest = max(d.longest, r.Duration)
	} else {
		d.s.Unknown["duration"]++
	}
}

func (d *Describer) text(name string, value []byte, into map[string]*int64) {
	if value == nil {
		d.s.Unknown[name]++
		return
	}
	key := text(value)
	if name == "client" {
		key = CanonicalClient(key)
	}
	count(into, key)
}

func (d *Describer) bucket(at int64) {
	d.buckets[floorDiv(at, d.width*1e9)]++
	d.widen(maxBuckets)
}

// widen doubles the width of buckets until there are at most that many.
func (d *Describer) widen(most int) {
	for len(d.buckets) > most {
		wider := make(map[int64]int64, len(d.buckets)/2)
		for k, n := range d.buckets {
			wider[floorDiv(k, 2)] += n
		}
		d.buckets, d.width = wider, d.width*2
	}
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// Summary returns what was gathered; who read adds the format and the bad lines.
func (d *Describer) Summary() Summary {
	s := d.s
	s.Bad = []Bad{}
	s.Clients, s.Sessions = len(d.clients), len(d.sessions)
	s.Methods, s.Statuses = map[string]int64{}, map[string]int64{}
	for name, n := range d.methods {
		s.Methods[name] = *n
	}
	for status, n := range d.statuses {
		if n > 0 {
			s.Statuses[string([]byte{byte('0' + status/100), byte('0' + status/10%10), byte('0' + status%10)})] = n
		}
	}
	s.TopClients, s.TopPaths = top(d.clients, 10), top(d.paths, 10)
	if n := d.durations.TotalCount(); n > 0 {
		q := func(p float64) float64 {
			return min(float64(d.durations.ValueAtQuantile(p))/1e6, float64(d.longest)/1e9)
		}
		for _, b := range d.durations.CumulativeDistributionWithTicks(40) {
			s.Curve = append(s.Curve, Share{min(float64(b.ValueAt)/1e6, float64(d.longest)/1e9), b.Quantile / 100})
		}
		s.Duration = &Spread{d.durationSum / 1e9 / float64(n), q(50), q(90), q(95), q(99), float64(d.longest) / 1e9}
	}
	if d.timed {
		first, last := float64(d.first)/1e9, float64(d.last)/1e9
		s.First, s.Last = &first, &last
		s.Rate = d.rate()
	}
	return s
}

func (d *Describer) rate() *Rate {
	// Fewer, wider rows are enough to be drawn.
	d.widen(2048)
	r := &Rate{Bucket: float64(d.width), Rows: []RateRow{}}
	for k, n := range d.buckets {
		r.Rows = append(r.Rows, RateRow{float64(k * d.width), n})
	}
	slices.SortFunc(r.Rows, func(a, b RateRow) int { return cmp.Compare(a.At, b.At) })
	total := int64(0)
	for _, row := range r.Rows {
		total += row.Requests
		if rate := float64(row.Requests) / float64(d.width); rate > r.Peak {
			r.Peak, r.PeakAt = rate, row.At
		}
	}
	span := max(float64(d.last-d.first)/1e9, 1)
	r.Mean = float64(total) / span
	return r
}

// top returns the most frequent, ties by name.
func top(m map[string]*int64, most int) []Count {
	out := make([]Count, 0, len(m))
	for name, n := range m {
		out = append(out, Count{name, *n})
	}
	slices.SortFunc(out, func(a, b Count) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), cmp.Compare(a.Name, b.Name))
	})
	return out[:min(most, len(out))]
}
