package study

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"strings"

	"gonum.org/v1/gonum/stat"

	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// LearnedPathFit is how long a worker takes for requests of a path.
type LearnedPathFit struct {
	Path     string `json:"path"`     // a pattern, as a behaviour names it
	Requests int64  `json:"requests"` // of the service
	LearnedFit
	class int
}

// pathNumbers numbers the patterns of the paths of requests, from 1. Those that are met after
// mostNumbered, and those that no pattern can name, have 0.
type pathNumbers struct {
	numbers  map[string]uint16
	patterns []string
}

const mostNumbered = 2000

// of returns the number of a record's path.
func (n *pathNumbers) of(r *trace.Record) uint16 {
	if r.Path == nil {
		return 0
	}
	pattern, ok := pathPattern(string(r.Path))
	if !ok {
		return 0
	}
	k := n.numbers[pattern]
	if k == 0 && len(n.patterns) < mostNumbered {
		if n.numbers == nil {
			n.numbers = map[string]uint16{}
		}
		n.patterns = append(n.patterns, pattern)
		k = uint16(len(n.patterns))
		n.numbers[pattern] = k
	}
	return k
}

// pathPattern returns a pattern for a path and those that differ from it by what they name:
// segments that are a number, or look like an identifier, are *. Without one it is false.
func pathPattern(target string) (string, bool) {
	path, _, _ := strings.Cut(target, "?")
	path = request.Path(path)
	if !strings.HasPrefix(path, "/") || strings.Contains(path, "*") {
		return "", false
	}
	segments := strings.Split(path, "/")
	for i, s := range segments {
		if isName(s) {
			segments[i] = "*"
		}
	}
	return strings.Join(segments, "/"), true
}

// isName reports whether a segment looks like the name of one of many: a number, or eight and
// more hexadecimal digits and dashes with a decimal one among them, as in a UUID (RFC 9562).
func isName(segment string) bool {
	digits := strings.Trim(segment, "0123456789")
	switch {
	case segment == "":
		return false
	case digits == "":
		return true
	}
	return len(segment) >= 8 && strings.Trim(segment, "0123456789abcdefABCDEF-") == "" && strings.ContainsAny(segment, "0123456789")
}

// From how many requests of a service on a path is fitted by itself, and from which distance
// between its times and those of the service's other requests on (Kolmogorov, Smirnov): a tenth
// of them lies elsewhere, and no chance of one in a thousand makes it so.
const (
	fewestOfPath = 100
	farPath      = 0.1
	farByChance  = 1.95
)

// fitPaths fits what the workers of each service took, apart for paths that take other times
// than the rest. A scenario tells so many paths of an upstream apart: those of whose requests
// the most lie elsewhere.
func (l *Learner) fitPaths(work [][]worked) {
	of := map[string][]int{} // services by upstream
	var upstreams []string
	for i := range l.out.Services {
		up := l.upstreamBehind(l.out.Services[i].Pattern)
		if of[up] == nil {
			upstreams = append(upstreams, up)
		}
		of[up] = append(of[up], i)
	}
	for _, up := range upstreams {
		t := &pathClasses{patterns: l.numbers.patterns}
		var compared []*pathTimes
		for _, i := range of[up] {
			compared = append(compared, newPathTimes(work[i]))
		}
		for t.group(compared); ; t.group(compared) {
			path := farthest(compared)
			if path == 0 {
				break
			}
			if len(t.told) == scenario.MaxPaths {
				l.note("more paths%s take other times than the rest, with which they are; a scenario tells %d apart", strings.TrimSuffix(" of "+up, " of "), scenario.MaxPaths)
				break
			}
			t.tell(path)
		}
		for _, i := range of[up] {
			l.out.Services[i].fitApart(work[i], t)
		}
	}
}

// pathClasses are the paths of an upstream that are told apart, in the order of a scenario, in
// which the last that fits holds: patterns before the paths that they fit as well.
type pathClasses struct {
	patterns []string // by number, less 1
	told     []uint16
	classes  []int // by number, see of; made as they are asked for
}

// tell has a path be told apart.
func (t *pathClasses) tell(path uint16) {
	stars := func(n uint16) int { return strings.Count(t.patterns[n-1], "*") }
	t.told = append(t.told, path)
	slices.SortStableFunc(t.told, func(a, b uint16) int { return cmp.Compare(stars(b), stars(a)) })
	t.classes = nil
}

// of returns which of the paths that are told apart holds for a path: its position and 1, 0 for
// the rest.
func (t *pathClasses) of(path uint16) int {
	if t.classes == nil {
		t.classes = make([]int, len(t.patterns)+1)
		for k, told := range t.told {
			p := route.Path(t.patterns[told-1])
			for n, pattern := range t.patterns {
				if p.Match(pattern) {
					t.classes[n+1] = k + 1
				}
			}
		}
	}
	return t.classes[path]
}

// upstreamBehind returns the upstream of a pattern; empty where a pattern fits all upstreams,
// which then share what paths a scenario tells apart.
func (l *Learner) upstreamBehind(pattern string) string {
	if l.served["*"] != nil {
		return ""
	}
	up, _, _ := strings.Cut(pattern, ".")
	return up
}

// pathTimes is what the requests of a service took, in order: of frequent paths, and of all that
// a path is not told apart from.
type pathTimes struct {
	work  []worked
	of    map[uint16][]float64
	among map[uint16][]float64 // of is a part of it
}

// How many requests of a service, the first ones, are compared, and of how many paths.
const (
	mostWorkCompared = 100_000
	mostCompared     = 100
)

// newPathTimes returns those of a service, before group.
func newPathTimes(work []worked) *pathTimes {
	work = slices.Clone(work[:min(len(work), mostWorkCompared)])
	slices.SortFunc(work, func(a, b worked) int { return cmp.Compare(a.seconds, b.seconds) })
	p := &pathTimes{work: work, of: map[uint16][]float64{}}
	for _, w := range work {
		if w.path > 0 {
			p.of[w.path] = append(p.of[w.path], w.seconds)
		}
	}
	frequent := slices.SortedFunc(maps.Keys(p.of), func(a, b uint16) int { return cmp.Or(cmp.Compare(len(p.of[b]), len(p.of[a])), cmp.Compare(a, b)) })
	for k, path := range frequent {
		if k >= mostCompared || len(p.of[path]) < fewestOfPath {
			delete(p.of, path)
		}
	}
	return p
}

// group has the paths of services compared with those that they are not told apart from.
func (t *pathClasses) group(compared []*pathTimes) {
	for _, p := range compared {
		classes := make([][]float64, len(t.told)+1)
		for _, w := range p.work {
			k := t.of(w.path)
			classes[k] = append(classes[k], w.seconds)
		}
		p.among = map[uint16][]float64{}
		for path := range p.of {
			if !slices.Contains(t.told, path) {
				p.among[path] = classes[t.of(path)]
			}
		}
	}
}

// elsewhere returns how many requests of a path lie elsewhere than those that it is not told
// apart from, 0 where it takes what they do.
func (p *pathTimes) elsewhere(path uint16) float64 {
	took, among := p.of[path], p.among[path]
	n, others := float64(len(took)), float64(len(among)-len(took))
	if others <= 0 {
		return 0
	}
	// They are a part of all: their distance from all is so much less.
	far := stat.KolmogorovSmirnov(took, nil, among, nil) * (n + others) / others
	if far < farPath || far <= farByChance*math.Sqrt((n+others)/(n*others)) {
		return 0
	}
	return far * n
}

// farthest returns the path of an upstream of whose requests the most lie elsewhere than those
// that they are not told apart from, 0 for none.
func farthest(compared []*pathTimes) uint16 {
	effects := map[uint16]float64{}
	for _, c := range compared {
		for path := range c.of {
			effects[path] += c.elsewhere(path)
		}
	}
	var best uint16
	for _, path := range slices.Sorted(maps.Keys(effects)) {
		if effects[path] > effects[best] { // at first that of none, which is 0
			best = path
		}
	}
	return best
}

// OthersFew reports whether requests of other paths than those told apart are too few to learn
// how long they take.
func (s *LearnedService) OthersFew() bool { return s.Others < fewestServed }

// fitApart fits each of the paths that are told apart, if it has enough requests, and the rest.
func (s *LearnedService) fitApart(work []worked, t *pathClasses) {
	of := make([][]float64, len(t.told)+1)
	for _, w := range work {
		k := t.of(w.path)
		of[k] = append(of[k], w.seconds)
	}
	s.Paths, s.classes = []LearnedPathFit{}, t
	for k, took := range of[1:] {
		if len(took) < fewestServed || len(took) == len(work) {
			of[0] = append(of[0], took...)
			continue
		}
		slices.Sort(took)
		s.Paths = append(s.Paths, LearnedPathFit{t.patterns[t.told[k]-1], int64(len(took)), fitOf(took), k + 1})
	}
	rest := of[0]
	if s.Others = int64(len(rest)); s.OthersFew() {
		rest = nil
		for _, w := range work {
			rest = append(rest, w.seconds)
		}
	}
	slices.Sort(rest)
	s.LearnedFit = fitOf(rest)
}
