package study

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
)

// Learned is what a trace teaches: how backends behave, and what comes.
type Learned struct {
	Records  int64            `json:"records"`
	Services []LearnedService `json:"services"`
	Load     *LearnedLoad     `json:"load"` // null where records have no times
	Notes    []string         `json:"notes"`
}

// LearnedService is how the requests of an upstream, or of one of its backends,
// were served.
type LearnedService struct {
	Pattern  string       `json:"pattern"`  // as a behaviour block names it
	Requests int64        `json:"requests"` // with a duration, and served
	Backends int          `json:"backends"` // that Workers is the share of one of; 1 where the trace names each
	Kind     string       `json:"kind"`     // fixed, exponential or lognormal
	Mean     float64      `json:"mean"`     // seconds a worker takes
	CV       float64      `json:"cv"`
	Workers  int          `json:"workers"`  // of each backend: as many as served it, or at least
	Queued   bool         `json:"queued"`   // requests waited for workers, so that their number shows
	Open     int          `json:"open"`     // at once, at most
	Distance float64      `json:"distance"` // largest between the shares of requests that took at most as long, of the fit and recorded (Kolmogorov, Smirnov)
	Recorded LearnedRun   `json:"recorded"` // how the requests fared
	Replayed LearnedRun   `json:"replayed"` // how the same arrivals fare in a replay with what was learned
	Fitted   LearnedTimes `json:"fitted"`   // a worker's times by the fit
	Curve    []LearnedAt  `json:"-"`        // for drawing
}

// LearnedTimes are percentiles in seconds.
type LearnedTimes struct {
	P50 float64 `json:"p50"`
	P95 float64 `json:"p95"`
	P99 float64 `json:"p99"`
}

// LearnedAt is a point of two curves: which share took at most so many seconds.
type LearnedAt struct{ Seconds, Recorded, Fitted float64 }

// LearnedLoad is what came, when and from whom.
type LearnedLoad struct {
	Rate       float64       `json:"rate"` // a second, on average
	For        float64       `json:"for"`  // seconds
	Arrivals   string        `json:"arrivals"`
	Gaps       float64       `json:"gaps"` // coefficient of variation of the gaps between requests, beside what the shape does; 1 is Poisson's
	Shape      string        `json:"shape"`
	ShapeFit   float64       `json:"shape_fit"` // how much of the rate's ups and downs the shape explains, 0 to 1
	Clients    int           `json:"clients"`
	Popularity float64       `json:"popularity"`
	Paths      []LearnedPath `json:"paths"`
	PathsShare float64       `json:"paths_share"` // of all requests
	Host       string        `json:"host"`        // the most frequent; empty if there is none
}

// LearnedPath is a request line, with {n} for numbers in it, and how often it came.
type LearnedPath struct {
	Line     string `json:"line"`
	Requests int64  `json:"requests"`
}

// served is a request that was: when it came, and how long it took.
type served struct{ at, took int64 }

// mostServed bounds what is kept of an upstream or backend: the first so many.
const mostServed = 2_000_000

// Learner learns from the records of a trace, which it takes in order.
type Learner struct {
	config *config.Config // nil: all requests are of one
	tables []*route.Table
	host   string
	front  string

	out      Learned
	served   map[string][]served
	named    map[string]bool // patterns of backends that the trace names
	cut      bool
	arrivals []int64
	clients  map[uint64]int64
	paths    map[string]int64
	hosts    map[string]int64
	timeless int64
	whole    int64 // stamps of whole seconds, between which no gap shows
	silent   int64 // requests without a duration
	unrouted int64
}

// NewLearner makes one. With a configuration requests are told apart by the upstream
// that it sends them to, where the trace does not say; host and frontend are for
// records that name none.
func NewLearner(c *config.Config, host, frontend string) *Learner {
	l := &Learner{config: c, host: host, front: frontend, served: map[string][]served{}, named: map[string]bool{}, clients: map[uint64]int64{}, paths: map[string]int64{}, hosts: map[string]int64{}}
	if c != nil {
		for _, f := range c.Frontends {
			l.tables = append(l.tables, route.Compile(f))
		}
	}
	return l
}

// Add takes a record.
func (l *Learner) Add(r *trace.Record) {
	l.out.Records++
	if r.Time == trace.NoTime {
		l.timeless++
		return
	}
	l.arrivals = append(l.arrivals, r.Time)
	if r.WholeSecond {
		l.whole++
	}
	l.clients[identityOf(r)]++
	if r.Method != nil {
		l.paths[generalPath(r)]++
	}
	if r.Host != nil {
		l.hosts[string(r.Host)]++
	}
	if r.Duration < 0 {
		l.silent++
		return
	}
	if r.Protocol != trace.HTTP || r.Status >= 500 || r.Status == 101 {
		return // it says nothing of how long a worker takes
	}
	up, backend := string(r.Upstream), string(r.Backend)
	if up == "" {
		if a, b, ok := strings.Cut(backend, "."); ok {
			up, backend = a, b
		} else if l.config != nil {
			if up = l.upstreamOf(r); up == "" {
				l.unrouted++
				return
			}
		}
	}
	pattern := "*"
	switch {
	case up != "" && backend != "":
		pattern = up + "." + backend
		l.named[pattern] = true
	case up != "":
		pattern = up + ".*"
	}
	if of := l.served[pattern]; len(of) < mostServed {
		l.served[pattern] = append(of, served{r.Time, r.Duration})
	} else {
		l.cut = true
	}
}

// identityOf tells clients apart, as a replay does.
func identityOf(r *trace.Record) uint64 {
	if r.Session != nil {
		return trace.ClientKey(string(r.Session)) ^ 0x9e3779b97f4a7c15
	}
	return trace.ClientKey(string(r.Client)) ^ trace.ClientKey(string(r.UserAgent))*0xd1342543de82ef95
}

// generalPath is the request line without its query, with {n} for the first part
// that is a number.
func generalPath(r *trace.Record) string {
	path, _, _ := strings.Cut(string(r.Path), "?")
	parts := strings.Split(path, "/")
	for i, p := range parts {
		if p != "" && strings.Trim(p, "0123456789") == "" {
			parts[i] = "{n}"
			break
		}
	}
	line := strings.Join(parts, "/")
	if m := string(r.Method); m != "GET" {
		line = m + " " + line
	}
	return line
}

// upstreamOf returns the upstream that the configuration sends a record to, empty for
// none.
func (l *Learner) upstreamOf(r *trace.Record) string {
	for i, f := range l.config.Frontends {
		name := string(r.Frontend)
		if name == "" {
			name = l.front
		}
		if name != "" && name != f.Name {
			continue
		}
		var q route.Request
		ingest.Request(r, l.tables[i].Asks, l.host, &q)
		if k, _ := l.tables[i].Match(&q); k >= 0 {
			return f.Routes[k].SendTo.Value
		}
	}
	return ""
}

// Done returns what was learned.
func (l *Learner) Done() *Learned {
	out := &l.out
	out.Services, out.Notes = []LearnedService{}, []string{}
	var patterns []string
	for p := range l.served {
		patterns = append(patterns, p)
	}
	slices.Sort(patterns)
	for _, p := range patterns {
		of := l.served[p]
		if len(of) < fewestServed {
			l.note("%s has %d requests with a duration, too few to learn from", p, len(of))
			continue
		}
		s, err := learnService(p, of, l.backendsOf(p))
		if err != nil {
			l.note("what was learned of %s cannot be replayed: %v", p, err)
		}
		out.Services = append(out.Services, s)
	}
	if l.silent > 0 {
		l.note("%d requests have no duration, and teach nothing of how long work takes", l.silent)
	}
	if l.unrouted > 0 {
		l.note("%d requests fit no route of the configuration", l.unrouted)
	}
	if l.timeless > 0 {
		l.note("%d records have no time", l.timeless)
	}
	if l.cut {
		l.note("of each upstream or backend the first %d requests are learned from", mostServed)
	}
	if len(l.arrivals) >= fewestServed {
		out.Load = l.load()
	} else {
		l.note("%d records with a time are too few to learn a load from", len(l.arrivals))
	}
	return out
}

// fewestServed is from how many requests on something is learned.
const fewestServed = 30

// backendsOf is how many backends a pattern stands for.
func (l *Learner) backendsOf(pattern string) int {
	if l.named[pattern] || l.config == nil {
		return 1
	}
	if u := l.config.Upstream(strings.TrimSuffix(pattern, ".*")); u != nil {
		return max(len(u.Backends), 1)
	}
	return 1
}

// learnService fits what was served, and replays the fit.
func learnService(pattern string, of []served, backends int) (LearnedService, error) {
	slices.SortStableFunc(of, func(a, b served) int { return cmp.Compare(a.at, b.at) })
	s := LearnedService{Pattern: pattern, Requests: int64(len(of)), Backends: backends}
	all, most := workersOf(of)
	s.Open, s.Queued = most, waited(of, all)
	if !s.Queued {
		all = most // as if each had a worker at once
	}
	took := alone(of, all)
	s.Workers = max((all+backends-1)/backends, 1)
	slices.Sort(took)
	s.fit(took)
	var err error
	s.Recorded, s.Replayed, err = s.replayed(of)
	return s, err
}

// at returns the value at a share of sorted ones, by the nearest rank.
func at(sorted []float64, share float64) float64 {
	return sorted[min(max(int(math.Ceil(share*float64(len(sorted))))-1, 0), len(sorted)-1)]
}

// workersOf returns the least number of workers that could have served what was
// recorded in the order in which it came, and how many requests were open at once,
// at most. With fewer workers than there were, requests would have had to begin
// after others had ended that they were done before.
func workersOf(of []served) (workers, most int) {
	most = mostOpen(of)
	low, high := 1, most
	for low < high {
		if mid := (low + high) / 2; impossible(of, mid) <= 0.005 {
			high = mid
		} else {
			low = mid + 1
		}
	}
	return low, most
}

// waited reports whether requests that came while all of so many workers were busy took
// longer than others: without that a limit is only a busy moment.
func waited(of []served, workers int) bool {
	ends := newFree(0)
	var n [2]int
	var sum [2]float64
	for _, x := range of {
		for len(ends.at) > 0 && ends.at[0] <= x.at {
			ends.pop()
		}
		full := 0
		if len(ends.at) >= workers {
			full = 1
		}
		n[full]++
		sum[full] += float64(x.took)
		ends.push(x.at + x.took)
	}
	return n[0] > 0 && n[1] >= max(len(of)/100, 5) && sum[1]/float64(n[1]) > 1.2*sum[0]/float64(n[0])
}

// mostOpen is how many were open at once, at most.
func mostOpen(of []served) int {
	ends := newFree(0)
	most := 0
	for _, x := range of {
		for len(ends.at) > 0 && ends.at[0] <= x.at {
			ends.pop()
		}
		ends.push(x.at + x.took)
		most = max(most, len(ends.at))
	}
	return most
}

// impossible is the share of requests that so many workers could not have served:
// they would have ended before a worker was free.
func impossible(of []served, workers int) float64 {
	n := 0
	each(of, workers, func(took int64) {
		if took <= 0 {
			n++
		}
	})
	return float64(n) / float64(len(of))
}

// alone returns how long each was worked on, in seconds, without its wait for one of
// so many workers.
func alone(of []served, workers int) []float64 {
	out := make([]float64, 0, len(of))
	each(of, workers, func(took int64) {
		if took > 0 {
			out = append(out, float64(took)/1e9)
		}
	})
	return out
}

// each tells how long work took on each request, had it been served by so many
// workers, first come first served.
func each(of []served, workers int, tell func(took int64)) {
	free := newFree(workers)
	for _, x := range of {
		start := max(x.at, free.pop())
		tell(x.at + x.took - start)
		free.push(x.at + x.took)
	}
}

// fit chooses a distribution for sorted seconds, by the least distance.
func (s *LearnedService) fit(took []float64) {
	if len(took) == 0 {
		s.Kind = "fixed"
		return
	}
	logs := make([]float64, len(took))
	for i, v := range took {
		logs[i] = math.Log(v)
	}
	n := float64(len(took))
	mean, deviation := stat.PopMeanStdDev(took, nil)
	mu, sigma := stat.PopMeanStdDev(logs, nil)
	type candidate struct {
		kind     string
		mean, cv float64
		share    func(float64) float64
		quantile func(float64) float64
	}
	exponential := distuv.Exponential{Rate: 1 / mean}
	candidates := []candidate{{"exponential", mean, 1, exponential.CDF, exponential.Quantile}}
	if sigma > 1e-6 {
		// Of the likelihood, and of the percentiles that people look at: a few wild values do
		// not count.
		middle := math.Log(at(took, 0.5))
		for _, x := range []distuv.LogNormal{{Mu: mu, Sigma: sigma}, {Mu: middle, Sigma: math.Max((math.Log(at(took, 0.95))-middle)/distuv.UnitNormal.Quantile(0.95), 1e-6)}} {
			candidates = append(candidates, candidate{"lognormal", x.Mean(), x.StdDev() / x.Mean(), x.CDF, x.Quantile})
		}
	}
	if deviation < 0.05*mean {
		candidates = []candidate{{"fixed", mean, 0, func(v float64) float64 {
			if v >= mean {
				return 1
			}
			return 0
		}, func(float64) float64 { return mean }}}
	}
	s.Distance = math.Inf(1)
	for _, c := range candidates {
		d := distance(took, c.share)
		if c.kind == "fixed" { // no two are quite the same
			low, _ := slices.BinarySearch(took, 0.9*mean)
			high, _ := slices.BinarySearch(took, 1.1*mean)
			d = 1 - float64(high-low)/n
		}
		if d < s.Distance {
			s.Kind, s.Mean, s.CV, s.Distance = c.kind, c.mean, c.cv, d
			s.Fitted = LearnedTimes{c.quantile(0.5), c.quantile(0.95), c.quantile(0.99)}
			s.Curve = curve(took, c.share)
		}
	}
}

// distance is Kolmogorov's and Smirnov's, of sorted values from a distribution.
func distance(took []float64, share func(float64) float64) float64 {
	d, n := 0.0, float64(len(took))
	for i, v := range took {
		f := share(v)
		d = math.Max(d, math.Max(f-float64(i)/n, float64(i+1)/n-f))
	}
	return d
}

// curve puts both beside each other at some hundred places.
func curve(took []float64, share func(float64) float64) []LearnedAt {
	var out []LearnedAt
	for i := range 101 {
		v := at(took, float64(i)/100)
		k, _ := slices.BinarySearch(took, math.Nextafter(v, math.Inf(1)))
		out = append(out, LearnedAt{v, float64(k) / float64(len(took)), share(v)})
	}
	return out
}

// Service returns the distribution of a fit as a scenario has it.
func (s *LearnedService) Service() config.Distribution {
	return config.Distribution{Kind: s.Kind, Mean: roundTime(time.Duration(s.Mean * 1e9)), CV: math.Round(s.CV*1000) / 1000}
}

// roundTime keeps three digits of a duration.
func roundTime(d time.Duration) time.Duration {
	unit := time.Duration(1)
	for d/unit >= 10000 {
		unit *= 10
	}
	return d.Round(unit)
}
