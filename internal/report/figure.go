package report

import (
	"bytes"
	"fmt"
	"image/color"
	"io"
	"math"
	"strings"
	"time"

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

// hex reads a colour such as #1d2a35.
func hex(s string) color.Color {
	var r, g, b uint8
	_, _ = fmt.Sscanf(s, "#%02x%02x%02x", &r, &g, &b) // constants of ours
	return color.RGBA{r, g, b, 255}
}

// panel makes a plot in the look of a sea chart.
func panel(title, x, y string) *plot.Plot {
	p := plot.New()
	p.BackgroundColor = hex(paper)
	p.Title.Text, p.X.Label.Text, p.Y.Label.Text = title, x, y
	sans := func(size float64) font.Font {
		return font.Font{Typeface: "Liberation", Variant: "Sans", Size: vg.Length(size)}
	}
	p.Title.TextStyle.Font, p.Title.TextStyle.Color = sans(13), hex(ink)
	p.Title.Padding = 6
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		a.Label.TextStyle.Font, a.Label.TextStyle.Color = sans(11), hex(ink)
		a.Tick.Label.Font, a.Tick.Label.Color = sans(10), hex(ink)
		a.Color, a.Tick.Color = hex(ink), hex(ink)
		a.Label.Padding = 4
	}
	p.X.Padding, p.Y.Padding = 6, 6
	grid := plotter.NewGrid()
	grid.Vertical.Color, grid.Horizontal.Color = hex(thin), hex(thin)
	p.Add(grid)
	return p
}

// steps draws a line that holds each value until the next.
func steps(points plotter.XYs, c string) (*plotter.Line, error) {
	l, err := plotter.NewLine(points)
	if err != nil {
		return nil, err
	}
	l.StepStyle = plotter.PostStep
	l.Color, l.Width = hex(c), vg.Points(1.5)
	return l, nil
}

// clockTicks labels seconds since the epoch with the time of day, UTC.
type clockTicks struct{}

// Ticks returns about eight marks at whole units of time.
func (c clockTicks) Ticks(low, high float64) []plot.Tick {
	step := 1.0
	for _, s := range []float64{1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400, 172800, 604800, 2592000, 31536000} {
		if step = s; (high-low)/s <= 9 {
			break
		}
	}
	layout := "15:04"
	switch {
	case step < 60:
		layout = "15:04:05"
	case step >= 86400:
		layout = "2 Jan 2006"
	case high-low > 86400:
		layout = "2 Jan 15:04"
	}
	var out []plot.Tick
	for at := math.Ceil(low/step) * step; at <= high; at += step {
		out = append(out, plot.Tick{Value: at, Label: time.Unix(int64(at), 0).UTC().Format(layout)})
	}
	return out
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
	dc.SetColor(hex(paper))
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
