package study

import (
	"slices"
	"strings"

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
	numbers  pathNumbers // of the paths of served requests
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
		l.served[pattern] = append(of, served{r.Time, r.Duration, l.numbers.of(r)})
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

// generalPath is the request line without its query, with {n} for the first part that names
// one of many.
func generalPath(r *trace.Record) string {
	path, _, _ := strings.Cut(string(r.Path), "?")
	parts := strings.Split(path, "/")
	if i := slices.IndexFunc(parts, isName); i >= 0 {
		parts[i] = "{n}"
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
	var work [][]worked
	for _, p := range patterns {
		of := l.served[p]
		if len(of) < fewestServed {
			l.note("%s has %d requests with a duration, too few to learn from", p, len(of))
			continue
		}
		s, took := service(p, of, l.backendsOf(p))
		out.Services, work = append(out.Services, s), append(work, took)
	}
	l.fitPaths(work)
	for i := range out.Services {
		s := &out.Services[i]
		var err error
		if s.Recorded, s.Replayed, err = s.replayed(l.served[s.Pattern]); err != nil {
			l.note("what was learned of %s cannot be replayed: %v", s.Pattern, err)
		}
	}
	if l.silent > 0 {
		l.note("%d requests have no duration, and teach nothing of how long work takes", l.silent)
	}
	if l.unrouted > 0 {
		l.note("%d requests match no route of the configuration", l.unrouted)
	}
	if l.timeless > 0 {
		l.note("%d records have no time", l.timeless)
	}
	if len(l.numbers.patterns) == mostNumbered {
		l.note("of the paths only the first %d are looked at for times of their own", mostNumbered)
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
