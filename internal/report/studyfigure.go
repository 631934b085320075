package report

import (
	"fmt"
	"math"
	"strings"

	"gonum.org/v1/plot"

	"kestrix/internal/core/study"
)

// CompareFigure draws what variants are compared by: how long answers took, and what
// failed. The kind is svg or png.
func CompareFigure(kind string, p Compared) ([]byte, error) {
	c := variantRows(p.Result.Runs)
	c.title = strings.Join(p.Names, ", ") + ": " + plural(int64(len(c.rows)), "variant")
	c.counted = "requests that failed"
	took, err := c.marksPanel()
	if err != nil {
		return nil, err
	}
	failed, err := c.countsPanel("what failed")
	if err != nil {
		return nil, err
	}
	return drawPanels(kind, []*plot.Plot{took, failed})
}

// variantRows describes variants that are compared.
func variantRows(runs []study.Run) *rowChart {
	c := &rowChart{
		words:   "Percentiles of latency, and failed requests, of " + plural(int64(len(runs)), "variant"),
		counted: "failed",
	}
	for _, r := range runs {
		name := clip(r.Name, 60)
		if r.Configured && r.Name != "as configured" {
			name = clip(r.Name, 54) + " (now)"
		}
		c.rows, c.counts = append(c.rows, name), append(c.counts, int64(math.Round(r.Figures.Failed)))
	}
	for i, m := range []struct {
		name  string
		shape shape
		of    func(*study.Figures) float64
	}{
		{"p50", circle, func(f *study.Figures) float64 { return f.P50 }}, {"p95", square, func(f *study.Figures) float64 { return f.P95 }},
		{"p99", triangle, func(f *study.Figures) float64 { return f.P99 }},
	} {
		x := rowMark{name: m.name, shape: m.shape, look: looks[i]}
		for k := range runs {
			x.values = append(x.values, m.of(&runs[k].Figures))
		}
		c.marks = append(c.marks, x)
	}
	return c
}

// mostBars is how many cases of a sweep are drawn.
const mostBars = 24

// SweepFigure draws the worst cases of a sweep: what failed while each lasted. The
// kind is svg or png.
func SweepFigure(kind string, w *study.Sweep) ([]byte, error) {
	cases := w.Cases[:min(len(w.Cases), mostBars)]
	if len(cases) == 0 {
		return nil, fmt.Errorf("nothing was failed, so that there is nothing to draw")
	}
	title := strings.Join(w.Of.Names, ", ") + ": " + plural(int64(len(w.Cases)), "case")
	if len(cases) < len(w.Cases) {
		title += fmt.Sprintf(", the %d worst", len(cases))
	}
	c := rowChart{counted: "requests that fail, less those that fail without it"}
	for i := range cases {
		name := caseName(&cases[i])
		if len(w.Of.Kinds) > 1 {
			name += ", " + cases[i].Kind
		}
		c.rows, c.counts = append(c.rows, clip(name, 60)), append(c.counts, int64(math.Round(max(cases[i].More, 0))))
	}
	p, err := c.countsPanel(title)
	if err != nil {
		return nil, err
	}
	return drawPanels(kind, []*plot.Plot{p})
}
