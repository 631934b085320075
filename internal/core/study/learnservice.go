package study

import (
	"cmp"
	"slices"
)

// LearnedService is how the requests of an upstream, or of one of its backends,
// were served.
type LearnedService struct {
	Pattern    string           `json:"pattern"`  // as a behaviour block names it
	Requests   int64            `json:"requests"` // with a duration, and served
	Backends   int              `json:"backends"` // that Workers is the share of one of; 1 where the trace names each
	Workers    int              `json:"workers"`  // of each backend: as many as served it, or at least
	Queued     bool             `json:"queued"`   // requests waited for workers, so that their number shows
	Open       int              `json:"peak_in_flight"`
	Others     int64            `json:"others"` // requests of other paths than Paths
	LearnedFit                  // of these, or of all where they are too few
	Paths      []LearnedPathFit `json:"paths"`    // that take other times than the rest
	Recorded   LearnedRun       `json:"recorded"` // how the requests fared
	Replayed   LearnedRun       `json:"replayed"` // how the same arrivals fare in a replay with what was learned
	classes    *pathClasses
}

// served is a request that was: when it came, how long it took, and the number of its path.
type served struct {
	at, took int64
	path     uint16
}

// worked is how many seconds a worker took for a request, and the number of its path.
type worked struct {
	seconds float64
	path    uint16
}

// service learns how the requests of a pattern were served that came in the order of time,
// with the workers that served them.
func service(pattern string, of []served, backends int) (s LearnedService, work []worked) {
	slices.SortStableFunc(of, func(a, b served) int { return cmp.Compare(a.at, b.at) })
	s = LearnedService{Pattern: pattern, Requests: int64(len(of)), Backends: backends}
	all, most := workersOf(of)
	s.Open, s.Queued = most, waited(of, all)
	if !s.Queued {
		all = most // as if each had a worker at once
	}
	s.Workers = max((all+backends-1)/backends, 1)
	return s, alone(of, all)
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
	each(of, workers, func(_ *served, took int64) {
		if took <= 0 {
			n++
		}
	})
	return float64(n) / float64(len(of))
}

// alone returns how long each was worked on, without its wait for one of so many workers.
func alone(of []served, workers int) []worked {
	out := make([]worked, 0, len(of))
	each(of, workers, func(x *served, took int64) {
		if took > 0 {
			out = append(out, worked{float64(took) / 1e9, x.path})
		}
	})
	return out
}

// each tells how long work took on each request, had it been served by so many
// workers, first come first served.
func each(of []served, workers int, tell func(x *served, took int64)) {
	free := newFree(workers)
	for i := range of {
		x := &of[i]
		start := max(x.at, free.pop())
		tell(x, x.at+x.took-start)
		free.push(x.at + x.took)
	}
}
