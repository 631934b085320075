package report

import (
	"fmt"
	"strings"

	"gonum.org/v1/plot"

	"kestrix/internal/core/result"
)

// mostLines is how many lines one panel has.
const mostLines = 8

// ReplayFigure draws a replay: what was answered and failed over time, how long that
// took, and who carried it. The kind is svg or png.
func ReplayFigure(kind string, p Replay) ([]byte, error) {
	if len(p.Result.Timeline.Rows) == 0 {
		return nil, fmt.Errorf("there is nothing to draw")
	}
	parts, _ := p.verdict()
	requests := p.requestsOverTime()
	requests.title = clip(strings.Join(p.Names, ", ")+": "+strings.Join(parts, " · "), 130)
	charts := []*timeChart{requests}
	if took := p.latencyOverTime(); took != nil {
		charts = append(charts, took)
	}
	if by := p.busiestOverTime(); by != nil {
		charts = append(charts, by)
	}
	var panels []*plot.Plot
	for _, c := range charts {
		x, err := c.panel()
		if err != nil {
			return nil, err
		}
		panels = append(panels, x)
	}
	panels[len(panels)-1].X.Label.Text = "time since the start"
	return drawPanels(kind, panels)
}

// busiestOverTime describes who carried the upstream that was asked most, nil where none was
// asked.
func (p Replay) busiestOverTime() *timeChart {
	busiest := ""
	for _, u := range p.Config.Upstreams {
		x := p.Result.Upstreams[u.Name]
		if x != nil && (busiest == "" || x.Requests > p.Result.Upstreams[busiest].Requests) {
			busiest = u.Name
		}
	}
	u := p.Result.Upstreams[busiest]
	if u == nil || u.Requests == 0 {
		return nil
	}
	c := &timeChart{title: "requests to " + busiest + ", by backend", axis: "req/s", value: perSecond, until: p.ends(), bands: p.faultBands(busiest)}
	names, _ := worstBackends(u)
	for i, name := range names[:min(len(names), mostLines)] {
		points := p.series(func(r *result.TimelineRow) float64 { return float64(r.Upstreams[busiest][name].Requests) })
		c.series = append(c.series, series{name: name, points: points, look: looks[i%len(looks)]})
	}
	return c
}
