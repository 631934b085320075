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
	c := rateOverTime(t.Rate)
	c.title = fmt.Sprintf("%s: %s from %s, mean %s/s, peak %s/s", name, plural(t.Records, "record"), plural(int64(t.Clients), "client"), three(t.Rate.Mean), three(t.Rate.Peak))
	rate, err := c.panel()
	if err != nil {
		return nil, err
	}
	rate.X.Label.Text = "time of day, UTC"
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

// rateOverTime describes requests over time.
func rateOverTime(r *trace.Rate) *timeChart {
	values, per := Style{Width: 254}.course(r)
	var points []point
	for i, n := range values {
		points = append(points, point{float64(i) * per, n / per})
	}
	return &timeChart{
		words: fmt.Sprintf("Requests a second over time, at most %s", three(highest(points))),
		axis:  "requests a second, by " + round(span(per)), value: perSecond, began: r.Rows[0].At, until: float64(len(values)) * per,
		series: []series{{points: points, look: wholeAccent, filled: true}},
	}
}

// durationPanel draws which share of answers took at most how long.
func durationPanel(t *trace.Summary) (*plot.Plot, error) {
	d := t.Duration
	p := panel(fmt.Sprintf("duration: p50 %s, p95 %s, p99 %s, max %s", span(d.P50), span(d.P95), span(d.P99), span(d.Max)),
		"duration", "share of requests at or below, %")
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
	line, err := steps(points, wholeAccent)
	if err != nil {
		return nil, err
	}
	p.Add(line)
	for _, mark := range []float64{50, 95, 99} {
		at, err := plotter.NewLine(plotter.XYs{{X: points[0].X, Y: mark}, {X: points[len(points)-1].X, Y: mark}})
		if err != nil {
			return nil, err
		}
		at.Color, at.Width, at.Dashes = ink.rgb(), vg.Points(0.5), []vg.Length{vg.Points(3), vg.Points(3)}
		p.Add(at)
	}
	p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, spanTicks{}
	p.Y.Tick.Marker = plot.ConstantTicks([]plot.Tick{{Value: 0, Label: "0"}, {Value: 25, Label: "25"}, {Value: 50, Label: "50"}, {Value: 75, Label: "75"}, {Value: 95, Label: "95"}, {Value: 99}, {Value: 100}})
	p.Y.Min, p.Y.Max = 0, 101
	return p, nil
}
