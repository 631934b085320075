package report

import (
	"fmt"
	"image/color"
	"math"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"kestrix/internal/core/result"
)

// okabeIto are colours that those who see colours otherwise can tell apart (Okabe,
// Ito: Color Universal Design, 2002), each with a dash of its own.
var okabeIto = []struct {
	colour string
	dashes []vg.Length
}{
	{"#0072b2", nil}, {"#d55e00", []vg.Length{6, 3}}, {"#009e73", []vg.Length{2, 2}}, {"#cc79a7", []vg.Length{8, 2, 2, 2}},
	{"#e69f00", []vg.Length{4, 4}}, {"#56b4e9", []vg.Length{10, 3}}, {"#1d2a35", []vg.Length{1, 2}}, {"#8a8000", []vg.Length{6, 2, 1, 2}},
}

// mostLines is how many lines one panel has.
const mostLines = 8

// spans labels seconds since the start on an axis.
type momentTicks struct{}

// Ticks returns about eight marks at whole units of time.
func (momentTicks) Ticks(low, high float64) []plot.Tick {
	out := clockTicks{}.Ticks(low, high)
	for i := range out {
		out[i].Label = strings.TrimSuffix(moment(out[i].Value), ".0")
	}
	return out
}

// ReplayFigure draws a replay: what was answered and failed over time, how long that
// took, and who carried it. The kind is svg or png.
func ReplayFigure(kind string, p Replay) ([]byte, error) {
	if len(p.Result.Timeline.Rows) == 0 {
		return nil, fmt.Errorf("there is nothing to draw")
	}
	head, _ := p.headline()
	requests := panel(clip(strings.Join(p.Names, ", ")+": "+head, 130), "", "requests a second")
	lines := []namedLine{
		{"answered", p.series(func(r *result.TimelineRow) float64 { return float64(r.Answered) }), 0},
		{"failed", p.series(func(r *result.TimelineRow) float64 { return float64(r.Failed) }), 1},
	}
	if err := p.fill(requests, lines, ""); err != nil {
		return nil, err
	}
	panels := []*plot.Plot{requests}
	took := []namedLine{
		{"half within", p.coarse(func(r *result.CoarseRow) float64 { return r.P50 }), 0}, {"95 % within", p.coarse(func(r *result.CoarseRow) float64 { return r.P95 }), 1},
		{"99 % within", p.coarse(func(r *result.CoarseRow) float64 { return r.P99 }), 2},
	}
	if highest(took[0].points) > 0 {
		x := panel("how long answers took", "", "duration")
		x.Y.Scale, x.Y.Tick.Marker = plot.LogScale{}, spanTicks{}
		if err := p.fill(x, took, ""); err != nil {
			return nil, err
		}
		panels = append(panels, x)
	}
	busiest := ""
	for _, u := range p.Config.Upstreams {
		x := p.Result.Upstreams[u.Name]
		if x != nil && (busiest == "" || x.Requests > p.Result.Upstreams[busiest].Requests) {
			busiest = u.Name
		}
	}
	if u := p.Result.Upstreams[busiest]; u != nil && u.Requests > 0 {
		x := panel("requests to "+busiest+", by backend", "time since the start", "requests a second")
		var by []namedLine
		names, _ := worstBackends(u)
		for i, name := range names[:min(len(names), mostLines)] {
			by = append(by, namedLine{name, p.series(func(r *result.TimelineRow) float64 { return float64(r.Upstreams[busiest][name].Requests) }), i})
		}
		if err := p.fill(x, by, busiest); err != nil {
			return nil, err
		}
		panels = append(panels, x)
	} else {
		panels[len(panels)-1].X.Label.Text = "time since the start"
	}
	return drawPanels(kind, panels)
}

// namedLine is a line with its name at its end.
type namedLine struct {
	name   string
	points []point
	look   int // position in okabeIto
}

// fill puts faults and lines into a panel.
func (p Replay) fill(x *plot.Plot, lines []namedLine, upstream string) error {
	end := p.ends()
	x.X.Tick.Marker = momentTicks{}
	x.X.Min, x.X.Max = 0, end*1.09
	low, high := math.Inf(1), 0.0
	for _, l := range lines {
		high = max(high, highest(l.points))
		for _, q := range l.points {
			if q.v < low {
				low = q.v
			}
		}
	}
	log := x.Y.Scale == plot.Normalizer(plot.LogScale{})
	x.Y.Min, x.Y.Max = 0, max(high*1.1, 1e-9)
	if log {
		x.Y.Min, x.Y.Max = low/1.3, high*1.5
	}
	for _, b := range p.faultBands(upstream) {
		if err := hatch(x, b); err != nil {
			return err
		}
	}
	var ends plotter.XYLabels
	var styles []draw.TextStyle
	for _, l := range lines {
		if highest(l.points) == 0 && l.name == "failed" {
			continue
		}
		look := okabeIto[l.look%len(okabeIto)]
		var part plotter.XYs
		last := point{v: math.NaN()}
		flush := func(until float64) error {
			if len(part) == 0 {
				return nil
			}
			part = append(part, plotter.XY{X: until, Y: part[len(part)-1].Y})
			line, err := steps(part, look.colour)
			if err != nil {
				return err
			}
			line.Dashes = look.dashes
			x.Add(line)
			part = nil
			return nil
		}
		for _, q := range l.points {
			if math.IsNaN(q.v) {
				if err := flush(q.t); err != nil {
					return err
				}
				continue
			}
			part = append(part, plotter.XY{X: q.t, Y: q.v})
			last = q
		}
		if err := flush(end); err != nil {
			return err
		}
		if !math.IsNaN(last.v) {
			ends.XYs = append(ends.XYs, plotter.XY{X: end * 1.005, Y: last.v})
			ends.Labels = append(ends.Labels, clip(l.name, 14))
			style := x.X.Tick.Label
			style.Color, style.XAlign, style.YAlign = hex(look.colour), draw.XLeft, draw.YCenter
			styles = append(styles, style)
		}
	}
	return addLabels(x, ends, styles, log)
}

// addLabels writes names at the ends of lines, moved apart where they would overlap.
func addLabels(x *plot.Plot, ends plotter.XYLabels, styles []draw.TextStyle, log bool) error {
	if len(ends.Labels) == 0 {
		return nil
	}
	place := func(v float64) float64 { return v }
	back := place
	if log {
		place, back = math.Log, math.Exp
	}
	apart := (place(x.Y.Max) - place(max(x.Y.Min, 1e-12))) / 11
	if !log {
		apart = x.Y.Max / 11
	}
	for i := range ends.XYs {
		for moved := true; moved; {
			moved = false
			for k := range i {
				if d := place(ends.XYs[i].Y) - place(ends.XYs[k].Y); math.Abs(d) < apart*0.999 {
					ends.XYs[i].Y = back(place(ends.XYs[k].Y) + apart)
					moved = true
				}
			}
		}
	}
	labels, err := plotter.NewLabels(ends)
	if err != nil {
		return err
	}
	labels.TextStyle = styles
	x.Add(labels)
	return nil
}

// hatch draws the time of a fault as strokes across it, named at its top.
func hatch(x *plot.Plot, b band) error {
	area, err := plotter.NewPolygon(plotter.XYs{{X: b.from, Y: x.Y.Min}, {X: b.from, Y: x.Y.Max}, {X: b.until, Y: x.Y.Max}, {X: b.until, Y: x.Y.Min}})
	if err != nil {
		return err
	}
	area.Color = color.RGBA{R: 0x30, G: 0x28, B: 0x08, A: 0x30} // premultiplied
	area.LineStyle.Color, area.LineStyle.Width, area.LineStyle.Dashes = hex("#8a6d00"), vg.Points(0.7), []vg.Length{3, 3}
	x.Add(area)
	labels, err := plotter.NewLabels(plotter.XYLabels{XYs: plotter.XYs{{X: b.from, Y: x.Y.Max}}, Labels: []string{" " + clip(b.name, 40)}})
	if err != nil {
		return err
	}
	style := x.X.Tick.Label
	style.XAlign, style.YAlign = draw.XLeft, draw.YTop
	labels.TextStyle = []draw.TextStyle{style}
	x.Add(labels)
	return nil
}
