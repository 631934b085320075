package report

import (
	"errors"
	"fmt"
	"html/template"
	"math"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// rowChart describes rows that are compared, such as variants: by durations, each with its
// mark on an axis, and by a count. Pages draw it by svg, figures by the panels.
type rowChart struct {
	title, words string // as those of a timeChart
	rows         []string
	marks        []rowMark
	counted      string  // what the counts are
	counts       []int64 // by row
}

// rowMark is a duration of each row.
type rowMark struct {
	name   string
	shape  shape
	look   look
	values []float64 // seconds, by row; 0 for none
}

// shape is the form of a mark, by which it is told from others without a colour.
type shape int

const (
	circle shape = iota
	square
	triangle
)

// glyph returns the shape as figures draw it.
func (s shape) glyph() draw.GlyphDrawer {
	return [...]draw.GlyphDrawer{draw.CircleGlyph{}, draw.BoxGlyph{}, draw.PyramidGlyph{}}[s]
}

// svg returns the shape around a place of a page, named by its title.
func (s shape) svg(x, y float64, class, title string) string {
	d := [...]string{"a5 5 0 1 1 0 10a5 5 0 1 1 0 -10z", "m-4.5 .5h9v9h-9z", "l5.5 10h-11z"}[s]
	return fmt.Sprintf(`<path class="point %s" d="M%s %s%s"><title>%s</title></path>`, class, px(x), px(y-5), d, title)
}

// String names the shape.
func (s shape) String() string { return [...]string{"circle", "square", "triangle"}[s] }

// span returns the least and the greatest duration, 0 for both where there is none.
func (r *rowChart) span() (low, high float64) {
	low = math.Inf(1)
	for _, m := range r.marks {
		for _, v := range m.values {
			if v > 0 {
				low, high = min(low, v), max(high, v)
			}
		}
	}
	if high == 0 {
		return 0, 0
	}
	return low, high
}

// most returns the greatest count, at least 1.
func (r *rowChart) most() int64 {
	most := int64(1)
	for _, n := range r.counts {
		most = max(most, n)
	}
	return most
}

// svg draws the chart as a part of a page; there must be a duration.
func (r *rowChart) svg() template.HTML {
	const row, barsAt, barsWide = 30.0, 850.0, 120.0
	low, high := r.span()
	c := newChart(34+row*float64(len(r.rows))+26, math.Log(low/1.25), math.Log(high*1.25))
	c.roomFor(r.rows, 230)
	c.right, c.top = 800, 34
	c.bottom = c.top + row*float64(len(r.rows))
	for _, v := range decades(low/1.25, high*1.25) {
		c.rule(c.x(math.Log(v)), c.top, c.x(math.Log(v)), c.bottom, "rule")
		c.text(c.x(math.Log(v)), c.bottom+17, "m soft", duration(v))
	}
	var legend []string
	for _, m := range r.marks {
		legend = append(legend, m.shape.String()+" "+m.name)
	}
	c.text(c.left, 16, "soft", "latency: "+strings.Join(legend, ", "))
	c.text(barsAt, 16, "soft", r.counted)
	for i, name := range r.rows {
		y := c.top + row*(float64(i)+0.5)
		c.label(y+4, name)
		c.rule(c.left, y+row/2, 1060, y+row/2, "rule")
		from, until := math.Inf(1), 0.0
		for _, m := range r.marks {
			if v := m.values[i]; v > 0 {
				from, until = min(from, v), max(until, v)
			}
		}
		if until > 0 {
			c.rule(c.x(math.Log(from)), y, c.x(math.Log(until)), y, "axis")
		}
		for _, m := range r.marks {
			if v := m.values[i]; v > 0 {
				c.b.WriteString(m.shape.svg(c.x(math.Log(v)), y, m.look.name, m.name+" "+span(v)))
			}
		}
		wide := barsWide * float64(r.counts[i]) / float64(r.most())
		if r.counts[i] > 0 {
			fmt.Fprintf(&c.b, `<rect class="point %s" x="%s" y="%s" width="%s" height="10"/>`, warn.name, px(barsAt), px(y-5), px(max(wide, 1)))
		}
		c.text(barsAt+6+wide, y+4, "", count(r.counts[i]))
	}
	return c.SVG(r.words)
}

// marksPanel draws the durations as a panel of a figure.
func (r *rowChart) marksPanel() (*plot.Plot, error) {
	low, high := r.span()
	if high == 0 {
		return nil, errors.New("nothing was answered by a backend, so that there is nothing to draw")
	}
	p := panel(r.title, "latency of answered requests", "")
	p.X.Scale = plot.LogScale{}
	p.X.Min, p.X.Max = low/1.3, high*1.6
	var ticks plot.ConstantTicks
	for _, v := range decades(p.X.Min, p.X.Max) {
		ticks = append(ticks, plot.Tick{Value: v, Label: duration(v)})
	}
	p.X.Tick.Marker = ticks
	for _, m := range r.marks {
		var points plotter.XYs
		for i, v := range m.values {
			if v > 0 {
				points = append(points, plotter.XY{X: v, Y: float64(len(r.rows) - 1 - i)})
			}
		}
		s, err := plotter.NewScatter(points)
		if err != nil {
			return nil, err
		}
		s.Color, s.Shape, s.Radius = m.look.rgb(), m.shape.glyph(), vg.Points(4)
		p.Add(s)
		p.Legend.Add(m.name, s)
	}
	p.Legend.Top, p.Legend.Padding = true, vg.Points(3)
	p.Legend.TextStyle.Font, p.Legend.TextStyle.Color = p.X.Tick.Label.Font, ink.rgb()
	r.nameRows(p)
	return p, nil
}

// countsPanel draws the counts as a panel of a figure, as bars from left to right, each with
// its number.
func (r *rowChart) countsPanel(title string) (*plot.Plot, error) {
	p := panel(title, r.counted, "")
	var values plotter.Values
	var ends plotter.XYLabels
	var styles []draw.TextStyle
	for i := range r.counts {
		n := r.counts[len(r.counts)-1-i] // from the bottom up
		values = append(values, float64(n))
		ends.XYs, ends.Labels = append(ends.XYs, plotter.XY{X: float64(n), Y: float64(i)}), append(ends.Labels, " "+count(n))
		style := p.X.Tick.Label
		style.XAlign, style.YAlign = draw.XLeft, draw.YCenter
		styles = append(styles, style)
	}
	b, err := plotter.NewBarChart(values, vg.Points(min(14, 200/float64(len(values)))))
	if err != nil {
		return nil, err
	}
	b.Horizontal, b.Color, b.LineStyle.Width = true, warn.rgb(), 0
	labels, err := plotter.NewLabels(ends)
	if err != nil {
		return nil, err
	}
	labels.TextStyle = styles
	p.Add(b, labels)
	p.X.Min, p.X.Max = 0, float64(r.most())*1.12
	var ticks plot.ConstantTicks
	for _, v := range steps5(float64(r.most())) {
		ticks = append(ticks, plot.Tick{Value: v, Label: tick(v)})
	}
	p.X.Tick.Marker = ticks
	r.nameRows(p)
	return p, nil
}

// nameRows names the rows of a panel from the top down.
func (r *rowChart) nameRows(p *plot.Plot) {
	var ticks plot.ConstantTicks
	for i, n := range r.rows {
		ticks = append(ticks, plot.Tick{Value: float64(len(r.rows) - 1 - i), Label: n})
	}
	p.Y.Tick.Marker = ticks
	p.Y.Min, p.Y.Max = -0.7, float64(len(r.rows))-0.3
}
