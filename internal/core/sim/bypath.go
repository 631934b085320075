package sim

import (
	"cmp"
	"slices"

	"kestrix/internal/core/result"
)

// byPath counts attempts by the path of their request and by backend.
type byPath struct {
	servers int
	paths   []uint16  // by number of the request
	counts  [][]int64 // by number of the path, then by server
}

// arrived notes the path of a request.
func (b *byPath) arrived(request int64, path uint16) {
	for int64(len(b.paths)) <= request {
		b.paths = append(b.paths, 0)
	}
	b.paths[request] = path
}

// came counts an attempt that comes to a server.
func (b *byPath) came(request uint64, server int32) {
	path := 0
	if request < uint64(len(b.paths)) { // streams that are sent again have numbers of their own
		path = int(b.paths[request])
	}
	for len(b.counts) <= path {
		b.counts = append(b.counts, nil)
	}
	if b.counts[path] == nil {
		b.counts[path] = make([]int64, b.servers)
	}
	b.counts[path][server]++
}

// mostPaths is how many paths are reported: those with the most attempts.
const mostPaths = 100

// paths returns what was counted, the most frequent first.
func (e *Engine) paths() []result.Path {
	if e.byPath == nil {
		return nil
	}
	names, out := e.sequence.Paths(), []result.Path{}
	for n, counts := range e.byPath.counts {
		p := result.Path{Path: names[n], Backends: map[string]int64{}}
		for i, k := range counts {
			if k > 0 {
				p.Attempts += k
				p.Backends[e.servers[i].name] = k
			}
		}
		if p.Attempts > 0 {
			out = append(out, p)
		}
	}
	slices.SortStableFunc(out, func(a, b result.Path) int {
		return cmp.Or(cmp.Compare(b.Attempts, a.Attempts), cmp.Compare(a.Path, b.Path))
	})
	return out[:min(len(out), mostPaths)]
}
