package report

import (
	"fmt"
	"math"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"kestrix/internal/core/study"
)

// CompareFigure draws what variants are compared by: how long answers took, and what
// failed. The kind is svg or png.
func CompareFigure(kind string, p Compared) ([]byte, error) {
	runs := p.Result.Runs
	var names []string
	for _, r := range runs {
		name := r.Name
		if r.Configured && name != "as configured" {
			name += " (now)"
		}
		names = append(names, clip(name, 34))
	}
	took := panel(strings.Join(p.Names, ", ")+": "+plural(int64(len(runs)), "way")+" of doing the same", "how long answers took", "")
	took.X.Scale, took.X.Tick.Marker = plot.LogScale{}, spanTicks{}
	low, high := math.Inf(1), 0.0
	for i, m := range []struct {
		name  string
		of    func(*study.Figures) float64
		shape draw.GlyphDrawer
	}{
		{"half", func(f *study.Figures) float64 { return f.P50 }, draw.CircleGlyph{}}, {"95 % within", func(f *study.Figures) float64 { return f.P95 }, draw.BoxGlyph{}},
		{"99 % within", func(f *study.Figures) float64 { return f.P99 }, draw.PyramidGlyph{}},
	} {
		var points plotter.XYs
		for k := range runs {
			if v := m.of(&runs[k].Figures); v > 0 {
				points = append(points, plotter.XY{X: v, Y: float64(len(runs) - 1 - k)})
				low, high = min(low, v), max(high, v)
			}
		}
		if len(points) == 0 {
			return nil, fmt.Errorf("nothing was answered by a backend, so that there is nothing to draw")
		}
		s, err := plotter.NewScatter(points)
		if err != nil {
			return nil, err
		}
		s.Color, s.Shape, s.Radius = hex(okabeIto[i].colour), m.shape, vg.Points(4)
		took.Add(s)
		took.Legend.Add(m.name, s)
	}
	took.Legend.Top, took.Legend.Padding = true, vg.Points(3)
	took.Legend.TextStyle.Font, took.Legend.TextStyle.Color = took.X.Tick.Label.Font, hex(ink)
	took.X.Min, took.X.Max = low/1.3, high*1.6
	rows(took, names)
	failed := panel("what failed", "requests that failed", "")
	var values plotter.Values
	for i := range runs {
		values = append(values, float64(runs[len(runs)-1-i].Figures.Failed))
	}
	if err := bars(failed, values, "#d55e00"); err != nil {
		return nil, err
	}
	rows(failed, names)
	return drawPanels(kind, []*plot.Plot{took, failed})
}

// rows names rows from the top down.
func rows(p *plot.Plot, names []string) {
	var ticks []plot.Tick
	for i, n := range names {
		ticks = append(ticks, plot.Tick{Value: float64(len(names) - 1 - i), Label: n})
	}
	p.Y.Tick.Marker = plot.ConstantTicks(ticks)
	p.Y.Min, p.Y.Max = -0.7, float64(len(names))-0.3
}

// bars draws values as bars from left to right, from the bottom up, each with its
// number.
func bars(p *plot.Plot, values plotter.Values, colour string) error {
	b, err := plotter.NewBarChart(values, vg.Points(min(14, 200/float64(len(values)))))
	if err != nil {
		return err
	}
	b.Horizontal, b.Color, b.LineStyle.Width = true, hex(colour), 0
	p.Add(b)
	top := 1.0
	var ends plotter.XYLabels
	var styles []draw.TextStyle
	for i, v := range values {
		top = max(top, v)
		ends.XYs = append(ends.XYs, plotter.XY{X: v, Y: float64(i)})
		ends.Labels = append(ends.Labels, " "+count(int64(v)))
		style := p.X.Tick.Label
		style.XAlign, style.YAlign = draw.XLeft, draw.YCenter
		styles = append(styles, style)
	}
	labels, err := plotter.NewLabels(ends)
	if err != nil {
		return err
	}
	labels.TextStyle = styles
	p.Add(labels)
	p.X.Min, p.X.Max = 0, top*1.12
	return nil
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
	p := panel(title, fmt.Sprintf("requests that failed of the %s that came between %s and %s", count(w.Baseline.Requests), moment(w.Of.At), moment(w.Of.Until)), "")
	var values plotter.Values
	var names []string
	for i := range cases {
		values = append(values, float64(cases[len(cases)-1-i].During.Failed))
		name := cases[i].Name
		if len(w.Of.Kinds) > 1 {
			name += ", " + cases[i].Kind
		}
		names = append(names, clip(name, 44))
	}
	if err := bars(p, values, "#d55e00"); err != nil {
		return nil, err
	}
	rows(p, names)
	return drawPanels(kind, []*plot.Plot{p})
}
