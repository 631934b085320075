package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/result"
)

// mostPaths is how many paths are listed without -all.
const mostPaths = 20

// pathRows returns the paths in words: path, attempts and what share of them each backend got,
// the largest first.
func pathRows(paths []result.Path) (rows [][]string) {
	for _, p := range paths {
		var names []string
		for name := range p.Backends {
			names = append(names, name)
		}
		slices.SortFunc(names, func(a, b string) int { return cmp.Or(cmp.Compare(p.Backends[b], p.Backends[a]), cmp.Compare(a, b)) })
		for i, n := range names {
			names[i] = n + " " + percent(float64(p.Backends[n])/float64(p.Attempts))
		}
		name := p.Path
		if name == "" {
			name = "(unknown, and others)"
		}
		rows = append(rows, []string{clip(name, 40), count(p.Attempts), strings.Join(names, ", ")})
	}
	return rows
}

// paths writes which backends the requests of each path reached, where that was counted.
func (s Style) paths(b *strings.Builder, r *result.Replay) {
	if r.Paths == nil {
		return
	}
	rows := pathRows(r.Paths)
	rest := 0
	if len(rows) > mostPaths && !s.All {
		rest = len(rows) - mostPaths
		rows = rows[:mostPaths]
	}
	b.WriteString("\n" + s.bold("backends by path") + "\n")
	b.WriteString(s.table([]column{{name: "path", left: true}, {name: "attempts"}, {name: "share of backends", left: true}}, rows, 2))
	if rest > 0 {
		fmt.Fprintf(b, "  and %s (-all lists them)\n", plural(int64(rest), "more path"))
	}
}
