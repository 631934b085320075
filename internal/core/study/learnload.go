package study

import (
	"cmp"
	"container/heap"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/trace"
)

// freeAt is when workers are free, the earliest first.
type freeAt struct{ at []int64 }

// newFree makes so many that are free from the beginning of time.
func newFree(n int) *freeAt {
	f := &freeAt{}
	for range n {
		f.at = append(f.at, math.MinInt64)
	}
	return f
}

func (f *freeAt) Len() int           { return len(f.at) }
func (f *freeAt) Less(i, j int) bool { return f.at[i] < f.at[j] }
func (f *freeAt) Swap(i, j int)      { f.at[i], f.at[j] = f.at[j], f.at[i] }

// Push and Pop are for container/heap.
func (f *freeAt) Push(x any) { f.at = append(f.at, x.(int64)) }

// Pop takes the last one out; see Push.
func (f *freeAt) Pop() any {
	last := f.at[len(f.at)-1]
	f.at = f.at[:len(f.at)-1]
	return last
}

func (f *freeAt) push(at int64) { heap.Push(f, at) }
func (f *freeAt) pop() int64    { return heap.Pop(f).(int64) }

// note words something that was noticed.
func (l *Learner) note(format string, args ...any) {
	l.out.Notes = append(l.out.Notes, fmt.Sprintf(format, args...))
}

// shapeParts is into how many parts a trace is cut to see its shape.
const shapeParts = 60

// load fits what came, when and from whom.
func (l *Learner) load() *LearnedLoad {
	slices.Sort(l.arrivals)
	first, last := l.arrivals[0], l.arrivals[len(l.arrivals)-1]
	span := max(float64(last-first)/1e9, 1e-3)
	n := float64(len(l.arrivals))
	// The last gap is as long as the others are on average.
	whole := span * n / (n - 1)
	out := &LearnedLoad{Rate: n / whole, For: whole, Clients: len(l.clients), Paths: []LearnedPath{}}
	parts := make([]float64, shapeParts)
	for _, at := range l.arrivals {
		parts[min(int(float64(at-first)/1e9/whole*shapeParts), shapeParts-1)] += shapeParts / n
	}
	out.Shape, out.ShapeFit = shapeOf(parts, n)
	out.Gaps = l.gaps(first, whole, parts)
	out.Arrivals = "poisson"
	if l.whole > int64(len(l.arrivals))/2 {
		out.Gaps = 1
		l.note("stamps are of whole seconds, so that no gap between requests shows: they are taken to come at random")
	} else if out.Gaps < 0.5 {
		out.Arrivals = "even"
	}
	out.Popularity = popularityOf(l.clients)
	for line, k := range l.paths {
		out.Paths = append(out.Paths, LearnedPath{line, k})
	}
	slices.SortFunc(out.Paths, func(a, b LearnedPath) int {
		return cmp.Or(-cmp.Compare(a.Requests, b.Requests), cmp.Compare(a.Line, b.Line))
	})
	out.Paths = slices.DeleteFunc(out.Paths, func(p LearnedPath) bool {
		_, path, _ := strings.Cut(" "+p.Line, "/")
		return strings.ContainsAny(path, " \"\\=") || !strings.Contains(p.Line, "/")
	})
	out.Paths = out.Paths[:min(len(out.Paths), 12)]
	sum := int64(0)
	for _, p := range out.Paths {
		sum += p.Requests
	}
	out.PathsShare = float64(sum) / n
	best := int64(0)
	for host, k := range l.hosts {
		if k > best || k == best && host < out.Host {
			out.Host, best = host, k
		}
	}
	return out
}

// shapeOf returns the course that is nearest to a rate whose mean is 1, and how much
// of its ups and downs, beyond those of chance, it explains.
func shapeOf(parts []float64, requests float64) (name string, fit float64) {
	noise := shapeParts / requests // of a part, by Poisson
	total := 0.0
	for _, v := range parts {
		total += (v - 1) * (v - 1) / shapeParts
	}
	best := math.Inf(1)
	var names []string
	for s := range trace.Shapes {
		names = append(names, s)
	}
	slices.Sort(names)
	for _, s := range names {
		left := 0.0
		for i, v := range parts {
			d := v - trace.Shapes[s]((float64(i)+0.5)/shapeParts)
			left += d * d / shapeParts
		}
		if s == "steady" {
			left -= noise // which is left to chance
		}
		if left < best {
			name, best = s, left
		}
	}
	if total <= 2*noise {
		return "steady", 1
	}
	return name, min(max(1-max(best-noise, 0)/(total-noise), 0), 1)
}

// gaps returns the coefficient of variation of the gaps between requests, in the time
// in which the rate would be steady.
func (l *Learner) gaps(first int64, whole float64, parts []float64) float64 {
	done := make([]float64, shapeParts+1) // the share of requests before each part
	for i, v := range parts {
		done[i+1] = done[i] + v/shapeParts
	}
	steady := func(at int64) float64 {
		x := float64(at-first) / 1e9 / whole * shapeParts
		i := min(int(x), shapeParts-1)
		return done[i] + (x-float64(i))*(done[i+1]-done[i])
	}
	mean, square, n := 0.0, 0.0, 0.0
	before := steady(l.arrivals[0])
	for _, at := range l.arrivals[1:] {
		now := steady(at)
		g := now - before
		before = now
		n++
		mean += g
		square += g * g
	}
	mean, square = mean/n, square/n
	if mean == 0 {
		return 0
	}
	return math.Sqrt(max(square-mean*mean, 0)) / mean
}

// popularityOf fits the exponent of a zipf distribution to how often clients came, by
// maximum likelihood over their ranks.
func popularityOf(clients map[uint64]int64) float64 {
	var counts []int64
	total, logs := 0.0, 0.0
	for _, n := range clients {
		counts = append(counts, n)
	}
	slices.SortFunc(counts, func(a, b int64) int { return cmp.Compare(b, a) })
	for i, n := range counts {
		total += float64(n)
		logs += float64(n) * math.Log(float64(i+1))
	}
	if len(counts) < 2 {
		return 0
	}
	cost := func(s float64) float64 {
		z := 0.0
		for i := range counts {
			z += math.Pow(float64(i+1), -s)
		}
		return s*logs + total*math.Log(z)
	}
	low, high := 0.0, 4.0
	for range 40 { // the cost is convex
		a, b := low+(high-low)/3, high-(high-low)/3
		if cost(a) < cost(b) {
			high = b
		} else {
			low = a
		}
	}
	return math.Round((low+high)/2*100) / 100
}

// roundSpan keeps what one reads of the length of a trace.
func roundSpan(seconds float64) time.Duration {
	d := time.Duration(seconds * 1e9)
	switch {
	case d > time.Hour:
		return d.Round(time.Minute)
	case d > time.Minute:
		return d.Round(time.Second)
	}
	return d.Round(100 * time.Millisecond)
}

// Lasts is how long the load lasts as a scenario has it.
func (l *LearnedLoad) Lasts() time.Duration { return max(roundSpan(l.For), time.Second) }
