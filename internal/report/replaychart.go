package report

import (
	"fmt"
	"html"
	"html/template"
	"math"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
)

// series sums something over the rows that go into each column, a second.
func (p Replay) series(of func(*result.TimelineRow) float64) []point {
	t := &p.Result.Timeline
	per := t.PerRow()
	var out []point
	rows := p.lastRow() + 1
	for i := 0; i < rows; i += per {
		sum, to := 0.0, min(i+per, rows)
		for k := i; k < to; k++ {
			sum += of(&t.Rows[k])
		}
		length := float64(to-i) * t.Bucket
		// The replay may end within the last one; of hardly any time nothing is told.
		if rest := p.ends() - t.Rows[i].At; to == rows && rest < length {
			if length = rest; length < float64(per)*t.Bucket/4 && i > 0 {
				break
			}
		}
		out = append(out, point{t.Rows[i].At, sum / max(length, 1e-3)})
	}
	return out
}

// coarse returns a percentile in each column, none where nothing was answered.
func (p Replay) coarse(of func(*result.CoarseRow) float64) []point {
	var out []point
	for i := range p.Result.Timeline.Coarse {
		x := &p.Result.Timeline.Coarse[i]
		if x.At >= p.ends() {
			break
		}
		v := of(x)
		if v == 0 {
			v = math.NaN()
		}
		out = append(out, point{x.At, v})
	}
	return out
}

// lastRow returns the index of the last row of the timeline in which a backend got a request. Later ones only have the ends
// of requests that were slow or timed out, which would read as a fall of the load.
func (p Replay) lastRow() int {
	rows := p.Result.Timeline.Rows
	for i := len(rows) - 1; i > 0; i-- {
		for _, u := range rows[i].Upstreams {
			for _, b := range u {
				if b.Requests > 0 {
					return i
				}
			}
		}
	}
	return max(len(rows)-1, 0)
}

// ends returns the time at which charts end: that of the last request.
func (p Replay) ends() float64 {
	t := p.Result.Timeline
	return min(float64(p.lastRow()+1)*t.Bucket, max(p.Result.Duration, t.Bucket))
}

// faultBands returns the times in which faults last that strike an upstream; of all for
// an empty name.
func (p Replay) faultBands(upstream string) []band {
	var out []band
	for _, f := range p.Result.Faults {
		if !f.Began || upstream != "" && !slices.ContainsFunc(f.Backends, func(b string) bool { return strings.HasPrefix(b, upstream+".") }) {
			continue
		}
		until := p.ends()
		if f.Until != nil {
			until = min(until, *f.Until)
		}
		out = append(out, band{f.At, until, f.Name})
	}
	return out
}

func highest(points ...[]point) float64 {
	top := 0.0
	for _, s := range points {
		for _, p := range s {
			if p.v > top { // not NaN
				top = p.v
			}
		}
	}
	return top
}

// column returns how much time a step of a line is.
func (p Replay) column() string {
	t := p.Result.Timeline
	return round(span(float64(t.PerRow()) * t.Bucket))
}

// requestsOverTime describes what was answered and what failed.
func (p Replay) requestsOverTime() *timeChart {
	answered := p.series(func(r *result.TimelineRow) float64 { return float64(r.Answered) })
	failed := p.series(func(r *result.TimelineRow) float64 { return float64(r.Failed) })
	c := &timeChart{
		axis: "req/s", value: perSecond, until: p.ends(), bands: p.faultBands(""),
		words:  fmt.Sprintf("Requests over time: at most %s answered and %s failed req/s", three(highest(answered)), three(highest(failed))),
		series: []series{{"answered", answered, wholeAccent, true}},
	}
	if highest(failed) > 0 {
		c.series = append(c.series, series{"failed", failed, dashedWarn, false})
	}
	return c
}

func (p Replay) requestsChart() (template.HTML, string) {
	c := p.requestsOverTime()
	caption := "Answered (filled) and failed (dashed) requests, req/s, in steps of " + p.column()
	if len(c.bands) > 0 {
		caption += "; faults are hatched"
	}
	return c.svg(250), caption + "."
}

// latencyOverTime describes how long requests took until the answer, the failure or the
// leaving, nil where none did.
func (p Replay) latencyOverTime() *timeChart {
	c := &timeChart{title: "duration of requests", axis: "duration", value: duration, log: true, until: p.ends(), bands: p.faultBands("")}
	for i, x := range []struct {
		name string
		of   func(*result.CoarseRow) float64
	}{
		{"p50", func(r *result.CoarseRow) float64 { return r.P50 }}, {"p95", func(r *result.CoarseRow) float64 { return r.P95 }},
		{"p99", func(r *result.CoarseRow) float64 { return r.P99 }},
	} {
		c.series = append(c.series, series{name: x.name, points: p.coarse(x.of), look: looks[i]})
	}
	low, high := math.Inf(1), 0.0
	for _, s := range c.series {
		low, high = min(low, lowest(s.points)), max(high, highest(s.points))
	}
	if high == 0 {
		return nil
	}
	c.words = fmt.Sprintf("Percentiles of the duration of requests over time, from %s to %s", span(low), span(high))
	return c
}

func (p Replay) latencyChart() (template.HTML, string) {
	c := p.latencyOverTime()
	if c == nil {
		return "", "No request reached a backend."
	}
	return c.svg(230), "Duration of the requests that ended in each " + p.column() + ", until the response, the failure, or the moment their client left; logarithmic axis."
}

// strip is a time in which a backend was in a state other than up.
type strip struct {
	from, until float64
	state       string
}

// strips follows a backend's state through the story, as the first proxy saw it.
func (p Replay) strips(upstream, backend string) []strip {
	var out []strip
	state, since := "up", 0.0
	for _, h := range p.Result.Health {
		if h.Upstream != upstream || h.Backend != backend || h.Instance > 1 {
			continue
		}
		if state != "up" && h.At > since {
			out = append(out, strip{since, h.At, state})
		}
		state, since = h.To, h.At
	}
	if state != "up" {
		out = append(out, strip{since, p.ends(), state})
	}
	return out
}

// stateLook says how a state is drawn: out of rotation is solid, what is not certain
// is hatched, what an operator did is grey.
var stateLook = map[string]string{"down": "out", "suspended": "out", "failing": "weak", "recovering": "weak", "draining": "held", "parked": "held"}

// backendsChart draws a row for each backend: its requests over time, and under them
// its state.
func (p Replay) backendsChart(cfg *config.Upstream, shown []string) (template.HTML, string) {
	if len(p.Result.Timeline.Rows) < 2 {
		return "", ""
	}
	const row = 54.0
	c := newChart(26+bandRow+row*float64(len(shown))+26, 0, p.ends())
	c.roomFor(shown, 128)
	bottom := c.bottom
	c.bands(p.faultBands(cfg.Name), bottom)
	var all [][]point
	for _, name := range shown {
		all = append(all, p.series(func(r *result.TimelineRow) float64 { return float64(r.Upstreams[cfg.Name][name].Requests) }))
	}
	top := highest(all...)
	seen := map[string]bool{}
	for i, name := range shown {
		c.top = 26 + bandRow + row*float64(i) + 4
		c.bottom = c.top + row - 16
		c.high = top
		c.rule(c.left, c.bottom, c.right, c.bottom, "rule")
		c.area(all[i], p.ends(), wholeAccent)
		c.label(c.bottom-8, name)
		mean := 0.0
		for _, x := range all[i] {
			mean += x.v / float64(len(all[i]))
		}
		c.text(c.right+6, c.bottom-8, "soft", three(mean)+"/s mean")
		for _, x := range p.strips(cfg.Name, name) {
			seen[x.state] = true
			x1, x2 := c.x(x.from), max(c.x(x.until), c.x(x.from)+1.5)
			fmt.Fprintf(&c.b, `<rect class="%s" x="%s" y="%s" width="%s" height="5"><title>%s is %s from %s to %s</title></rect>`,
				stateLook[x.state], px(x1), px(c.bottom+2), px(x2-x1), html.EscapeString(name), x.state, moment(x.from), moment(x.until))
			if x2-x1 > 60 {
				c.text((x1+x2)/2, c.bottom-4, "m", x.state)
			}
		}
	}
	c.bottom = bottom
	c.times((&timeChart{until: p.ends()}).times(11))
	caption := fmt.Sprintf("Requests to each backend, req/s, in steps of %s, on one scale; the maximum is %s req/s.", p.column(), three(top))
	var words []string
	for _, x := range []struct {
		look   string
		states []string
	}{{"solid", []string{"down", "suspended"}}, {"hatched", []string{"failing", "recovering"}}, {"grey", []string{"draining", "parked"}}} {
		states := slices.DeleteFunc(x.states, func(s string) bool { return !seen[s] })
		if len(states) > 0 {
			words = append(words, and(states)+" "+x.look)
		}
	}
	if len(words) > 0 {
		caption += " The strip below each line is the state: " + strings.Join(words, ", ") + "."
	}
	if p.Result.Model.Instances > 1 {
		caption += " States are those of the first proxy."
	}
	return c.SVG(fmt.Sprintf("Requests over time to each of %s of %s", plural(int64(len(shown)), "backend"), cfg.Name)), caption
}
