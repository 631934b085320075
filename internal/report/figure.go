package report

import (
	"bytes"
	"fmt"
	"image/color"
	"io"
	"math"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// The size of a figure, in points of 1/72 inch; at 96 points an inch of a
// screen that is 1280x800.
const (
	figureWidth  = 960
	figureHeight = 600
)

// panel makes a plot in the look of a sea chart.
func panel(title, x, y string) *plot.Plot {
	p := plot.New()
	p.BackgroundColor = paper.rgb()
	p.Title.Text, p.X.Label.Text, p.Y.Label.Text = title, x, y
	sans := func(size float64) font.Font {
		return font.Font{Typeface: "Liberation", Variant: "Sans", Size: vg.Length(size)}
	}
	p.Title.TextStyle.Font, p.Title.TextStyle.Color = sans(13), ink.rgb()
	p.Title.Padding = 6
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		a.Label.TextStyle.Font, a.Label.TextStyle.Color = sans(11), ink.rgb()
		a.Tick.Label.Font, a.Tick.Label.Color = sans(10), ink.rgb()
		a.Color, a.Tick.Color = ink.rgb(), ink.rgb()
		a.Label.Padding = 4
	}
	p.X.Padding, p.Y.Padding = 6, 6
	grid := plotter.NewGrid()
	grid.Vertical.Color, grid.Horizontal.Color = thin.rgb(), thin.rgb()
	p.Add(grid)
	return p
}

// steps draws a line that holds each value until the next.
func steps(points plotter.XYs, l look) (*plotter.Line, error) {
	line, err := plotter.NewLine(points)
	if err != nil {
		return nil, err
	}
	line.StepStyle = plotter.PostStep
	line.Color, line.Width = l.rgb(), vg.Points(1.5)
	for _, d := range l.dashes {
		line.Dashes = append(line.Dashes, vg.Length(d))
	}
	return line, nil
}

// addSeries draws a series, with gaps where it has no values.
func addSeries(p *plot.Plot, s *series, until float64) error {
	var part plotter.XYs
	end := func(at float64) error {
		if len(part) == 0 {
			return nil
		}
		line, err := steps(append(part, plotter.XY{X: at, Y: part[len(part)-1].Y}), s.look)
		if err != nil {
			return err
		}
		if s.filled {
			c := s.look.rgb().(color.RGBA)
			line.FillColor = color.NRGBA{c.R, c.G, c.B, 56}
		}
		p.Add(line)
		part = nil
		return nil
	}
	for _, x := range s.points {
		if math.IsNaN(x.v) {
			if err := end(x.t); err != nil {
				return err
			}
			continue
		}
		part = append(part, plotter.XY{X: x.t, Y: x.v})
	}
	return end(until)
}

// endName is the name at the end of a series.
type endName struct {
	text  string
	value float64
	look  look
}

// addNames writes names at the ends of series, moved apart where they would overlap.
func addNames(p *plot.Plot, names []endName, at float64, log bool) error {
	if len(names) == 0 {
		return nil
	}
	place := func(v float64) float64 { return v }
	back := place
	if log {
		place, back = math.Log, math.Exp
	}
	apart := (place(p.Y.Max) - place(p.Y.Min)) / 11
	var ends plotter.XYLabels
	var styles []draw.TextStyle
	for i, n := range names {
		y := n.value
		for moved := true; moved; {
			moved = false
			for k := range i {
				if math.Abs(place(y)-place(ends.XYs[k].Y)) < apart*0.999 {
					y = back(place(ends.XYs[k].Y) + apart)
					moved = true
				}
			}
		}
		ends.XYs, ends.Labels = append(ends.XYs, plotter.XY{X: at, Y: y}), append(ends.Labels, n.text)
		style := p.X.Tick.Label
		style.Color, style.XAlign, style.YAlign = n.look.rgb(), draw.XLeft, draw.YCenter
		styles = append(styles, style)
	}
	labels, err := plotter.NewLabels(ends)
	if err != nil {
		return err
	}
	labels.TextStyle = styles
	p.Add(labels)
	return nil
}

// addBand shades the time of a fault, named at its top.
func addBand(p *plot.Plot, b band) error {
	area, err := plotter.NewPolygon(plotter.XYs{{X: b.from, Y: p.Y.Min}, {X: b.from, Y: p.Y.Max}, {X: b.until, Y: p.Y.Max}, {X: b.until, Y: p.Y.Min}})
	if err != nil {
		return err
	}
	c := hatch.rgb().(color.RGBA)
	area.Color = color.NRGBA{c.R, c.G, c.B, 48}
	area.LineStyle.Color, area.LineStyle.Width, area.LineStyle.Dashes = hatch.rgb(), vg.Points(0.7), []vg.Length{3, 3}
	p.Add(area)
	labels, err := plotter.NewLabels(plotter.XYLabels{XYs: plotter.XYs{{X: b.from, Y: p.Y.Max}}, Labels: []string{" " + clip(b.name, 40)}})
	if err != nil {
		return err
	}
	style := p.X.Tick.Label
	style.XAlign, style.YAlign = draw.XLeft, draw.YTop
	labels.TextStyle = []draw.TextStyle{style}
	p.Add(labels)
	return nil
}

// spanTicks labels seconds on a logarithmic axis.
type spanTicks struct{}

// Ticks returns 1, 2 and 5 of each power of ten.
func (spanTicks) Ticks(low, high float64) []plot.Tick {
	var out []plot.Tick
	for e := math.Floor(math.Log10(low)); e <= math.Log10(high)+1; e++ {
		for _, m := range []float64{1, 2, 5} {
			v := m * math.Pow(10, e)
			if v >= low*0.999 && v <= high*1.001 {
				out = append(out, plot.Tick{Value: v, Label: round(span(v))})
			}
		}
	}
	return out
}

// round takes zeros after the point away, as in 10.0 ms.
func round(s string) string {
	return strings.NewReplacer(".00 ", " ", ".0 ", " ").Replace(s)
}

// drawPanels puts panels below each other into a picture; the kind is svg or png.
func drawPanels(kind string, panels []*plot.Plot) ([]byte, error) {
	var canvas interface {
		vg.CanvasSizer
		io.WriterTo
	}
	switch kind {
	case "svg":
		canvas = vgsvg.New(figureWidth, figureHeight)
	case "png":
		canvas = vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(figureWidth, figureHeight), vgimg.UseDPI(96))}
	default:
		return nil, fmt.Errorf("no figure is drawn as %q", kind)
	}
	dc := draw.New(canvas)
	dc.SetColor(paper.rgb())
	dc.Fill(dc.Rectangle.Path())
	var rows [][]*plot.Plot
	for _, p := range panels {
		rows = append(rows, []*plot.Plot{p})
	}
	tiles := draw.Tiles{Rows: len(rows), Cols: 1, PadTop: 14, PadBottom: 12, PadLeft: 14, PadRight: 22, PadY: 18}
	for i, row := range plot.Align(rows, tiles, dc) {
		panels[i].Draw(row[0])
	}
	var out bytes.Buffer
	if _, err := canvas.WriteTo(&out); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}
