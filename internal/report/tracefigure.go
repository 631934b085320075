package report

import (
	"errors"
	"fmt"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"kestrix/internal/core/trace"
)

// TraceFigure draws a trace: its rate over time and, where they are known, how
// long answers took. The kind is svg or png.
func TraceFigure(kind, name string, t *trace.Summary) ([]byte, error) {
	if t.Rate == nil {
		return nil, errors.New("no record has a time, so that there is nothing to draw")
	}
	rate, err := ratePanel(name, t)
	if err != nil {
		return nil, err
	}
	panels := []*plot.Plot{rate}
	if len(t.Curve) > 1 {
		p, err := durationPanel(t)
		if err != nil {
			return nil, err
		}
		panels = append(panels, p)
	}
	return drawPanels(kind, panels)
}

func ratePanel(name string, t *trace.Summary) (*plot.Plot, error) {
	r := t.Rate
	p := panel(fmt.Sprintf("%s: %s from %s, mean %s/s, peak %s/s", name, plural(t.Records, "record"), plural(int64(t.Clients), "client"), three(r.Mean), three(r.Peak)),
		"time of day, UTC", "requests a second, by "+round(span(r.Bucket)))
	var points plotter.XYs
	for i, row := range r.Rows {
		if i > 0 && row.At > r.Rows[i-1].At+r.Bucket*1.5 {
			points = append(points, plotter.XY{X: r.Rows[i-1].At + r.Bucket})
		}
		points = append(points, plotter.XY{X: row.At, Y: float64(row.Requests) / r.Bucket})
	}
	last := points[len(points)-1]
	points = append(points, plotter.XY{X: last.X + r.Bucket, Y: last.Y})
	line, err := steps(points, accent)
	if err != nil {
		return nil, err
	}
	p.Add(line)
	p.X.Tick.Marker = clockTicks{}
	p.Y.Min = 0
	return p, nil
}

// durationPanel draws which share of answers took at most how long.
func durationPanel(t *trace.Summary) (*plot.Plot, error) {
	d := t.Duration
	p := panel(fmt.Sprintf("answers took p50 %s, p95 %s, p99 %s, at most %s", span(d.P50), span(d.P95), span(d.P99), span(d.Max)),
		"duration", "share of answers that took at most as long, %")
	var points plotter.XYs
	for _, c := range t.Curve {
		if c.Seconds > 0 {
			points = append(points, plotter.XY{X: c.Seconds, Y: c.Share * 100})
		}
	}
	if len(points) == 0 {
		points = plotter.XYs{{X: 1e-6, Y: 100}}
	}
	points = append(points, plotter.XY{X: points[len(points)-1].X * 1.3, Y: 100})
	line, err := steps(points, accent)
	if err != nil {
		return nil, err
	}
	p.Add(line)
	for _, mark := range []float64{50, 95, 99} {
		at, err := plotter.NewLine(plotter.XYs{{X: points[0].X, Y: mark}, {X: points[len(points)-1].X, Y: mark}})
		if err != nil {
			return nil, err
		}
		at.Color, at.Width, at.Dashes = hex(ink), vg.Points(0.5), []vg.Length{vg.Points(3), vg.Points(3)}
		p.Add(at)
	}
	p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, spanTicks{}
	p.Y.Tick.Marker = plot.ConstantTicks([]plot.Tick{{Value: 0, Label: "0"}, {Value: 25, Label: "25"}, {Value: 50, Label: "50"}, {Value: 75, Label: "75"}, {Value: 95, Label: "95"}, {Value: 99}, {Value: 100}})
	p.Y.Min, p.Y.Max = 0, 101
	return p, nil
}
