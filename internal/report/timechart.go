package report

import (
	"html/template"
	"math"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/plot"
)

// timeChart describes a chart over time. Pages draw it by svg, figures by panel.
type timeChart struct {
	title  string               // of a figure's panel
	words  string               // what it shows, for those who do not see it
	axis   string               // what its values are
	value  func(float64) string // writes one of them
	log    bool                 // logarithmic, for durations
	began  float64              // its time 0, in seconds since the epoch; 0: times count from the start
	until  float64              // seconds
	series []series
	bands  []band
}

// series are values that each hold until the next.
type series struct {
	name   string // at its end; empty for none
	points []point
	look   look
	filled bool // down to 0
}

// last returns the value at the end of a series, false where it has none.
func (s *series) last() (float64, bool) {
	for i := len(s.points) - 1; i >= 0; i-- {
		if v := s.points[i].v; !math.IsNaN(v) {
			return v, true
		}
	}
	return 0, false
}

// point is a value at a time; NaN for none.
type point struct{ t, v float64 }

// band is a time in which a fault lasts.
type band struct {
	from, until float64
	name        string
}

// perSecond writes a rate on an axis.
func perSecond(v float64) string { return tick(v) + "/s" }

// duration writes seconds on an axis.
func duration(v float64) string { return round(span(v)) }

// values returns the range of the axis of values, and those that are marked on it.
func (t *timeChart) values() (low, high float64, marked []float64) {
	low, high = math.Inf(1), 0
	for _, s := range t.series {
		low, high = min(low, lowest(s.points)), max(high, highest(s.points))
	}
	if t.log {
		low, high = low/1.3, high*1.3
		return low, high, decades(low, high)
	}
	marked = steps5(high)
	return 0, marked[len(marked)-1], marked
}

// mark is a place on an axis with its name.
type mark struct {
	at   float64
	text string
}

// times returns the times that are marked, in at most so many steps.
func (t *timeChart) times(most float64) []mark {
	at, step := timeMarks(t.began, t.began+t.until, most)
	layout := "15:04"
	switch {
	case step < 60:
		layout = "15:04:05"
	case step >= 86400:
		layout = "2 Jan 2006"
	case t.until > 86400:
		layout = "2 Jan 15:04"
	}
	var out []mark
	for _, v := range at {
		text := strings.TrimSuffix(moment(v), ".0")
		if t.began != 0 {
			text = time.Unix(int64(v), 0).UTC().Format(layout)
		}
		out = append(out, mark{v - t.began, text})
	}
	return out
}

// timeMarks returns round times between two, in at most so many steps, and how long one is;
// in seconds.
func timeMarks(low, high, most float64) (at []float64, step float64) {
	for _, step = range []float64{1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400} {
		if (high-low)/step <= most {
			break
		}
	}
	for (high-low)/step > most {
		step *= 2
	}
	for v := math.Ceil(low/step) * step; v <= high; v += step {
		at = append(at, v)
	}
	return at, step
}

// svg draws the chart as a part of a page.
func (t *timeChart) svg(height float64) template.HTML {
	c := newChart(height, 0, t.until)
	if len(t.bands) == 0 {
		c.top -= bandRow
	}
	low, high, marked := t.values()
	c.log, c.low, c.high = t.log, low, high
	c.values(marked, t.value)
	c.bands(t.bands, c.bottom)
	var names []label
	for i := range t.series {
		s := &t.series[i]
		if s.filled {
			c.area(s.points, t.until, s.look)
		} else {
			c.line(s.points, t.until, s.look)
		}
		if v, ok := s.last(); ok && s.name != "" {
			names = append(names, label{c.y(v), s.name, s.look.name + " b"})
		}
	}
	c.labels(names)
	c.times(t.times(11))
	return c.SVG(t.words)
}

// panel draws the chart as a panel of a figure.
func (t *timeChart) panel() (*plot.Plot, error) {
	p := panel(t.title, "", t.axis)
	p.X.Min, p.X.Max = 0, t.until
	if slices.ContainsFunc(t.series, func(s series) bool { return s.name != "" }) {
		p.X.Max *= 1.09 // room for names
	}
	low, high, marked := t.values()
	p.Y.Min, p.Y.Max = low, high
	if t.log {
		p.Y.Scale = plot.LogScale{}
	}
	var times, values plot.ConstantTicks
	for _, m := range t.times(9) {
		times = append(times, plot.Tick{Value: m.at, Label: m.text})
	}
	for _, v := range marked {
		values = append(values, plot.Tick{Value: v, Label: t.value(v)})
	}
	p.X.Tick.Marker, p.Y.Tick.Marker = times, values
	for _, b := range t.bands {
		if err := addBand(p, b); err != nil {
			return nil, err
		}
	}
	var names []endName
	for i := range t.series {
		s := &t.series[i]
		if err := addSeries(p, s, t.until); err != nil {
			return nil, err
		}
		if v, ok := s.last(); ok && s.name != "" {
			names = append(names, endName{clip(s.name, 14), v, s.look})
		}
	}
	return p, addNames(p, names, t.until*1.005, t.log)
}
