package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"math"
	"strings"

	"kestrix/internal/core/result"
)

//go:embed page/rehearse.html
var rehearseHTML string

// rehearsalPage is what the page of a rehearsal shows.
type rehearsalPage struct {
	pageTop
	Rows         []pageHeld
	ChanceNote   string
	Expectations []pageBoth
	Charts       []pageChart
	Upstreams    []pageCharts
	Story        []pageRealEvent
	Missing      []string
	Mapping      []MappedAddress
	Left         []string
}

type pageHeld struct {
	Name, Prediction, Rehearsal, Difference, Chance, Verdict string
	Off                                                      bool
}

type pageBoth struct {
	Name, That            string
	Prediction, Rehearsal bool
}

type pageChart struct {
	Name    string
	Chart   template.HTML
	Caption string
}

type pageCharts struct {
	Name   string
	Charts []pageChart
}

type pageRealEvent struct{ At, Predicted, Who, What, Text string }

// RehearsalPage writes a rehearsal as a page of HTML that needs nothing besides
// itself, with prediction and rehearsal drawn over each other. The error is that of
// writing it, which a buffer does not have.
func RehearsalPage(p *Rehearsal, version string) ([]byte, error) {
	names := strings.Join(p.Names, " · ")
	v := rehearsalPage{pageTop: top(names+" · kestrix rehearse", version), Mapping: p.Mapping, Left: p.Left}
	verdict := p.Fidelity.Verdict()
	v.Headline, v.Bad = strings.ToUpper(verdict[:1])+verdict[1:], p.Fidelity.Off > 0
	v.Of = fmt.Sprintf("%s · seed %d · %s in %s, once in virtual time and once for real", names, p.Prediction.Model.Seed, plural(p.Rehearsal.Requests, "request"), span(p.Rehearsal.Duration))
	v.Assumed = assumptions(p.Prediction.Assumed)
	if p.Rehearsal.Partial {
		v.Notes = append(v.Notes, "Stopped early: both are of what was sent until then.")
	}
	if !p.KeptUp {
		v.Notes = append(v.Notes, fmt.Sprintf("The driver did not keep up: requests were late by p99 %s. This machine is too slow for this load, which may explain what is off.", span(p.Late.P99)))
	}
	for i := range p.Fidelity.Rows {
		w := heldWords(&p.Fidelity.Rows[i], timesOf(p.Prediction))
		v.Rows = append(v.Rows, pageHeld{w[0], w[1], w[2], w[3], w[4], w[5], !p.Fidelity.Rows[i].WithinGoal})
	}
	v.ChanceNote = fmt.Sprintf("By chance: what 95 of 100 rehearsals stay within, by predictions with %d seeds.", p.Fidelity.Seeds)
	for i, x := range p.Prediction.Expectations {
		v.Expectations = append(v.Expectations, pageBoth{x.Name, x.That, x.Met, i < len(p.Rehearsal.Expectations) && p.Rehearsal.Expectations[i].Met})
	}
	failed := func(r *result.TimelineRow) float64 { return float64(r.Failed) }
	v.Charts = append(v.Charts, p.overlay("Requests that failed, a second", "", "/s", failed),
		p.overlaid("p95 of latency", "", "", p.of(p.Prediction).coarse(quantile95), p.of(p.Rehearsal).coarse(quantile95)))
	for _, u := range p.Config.Upstreams {
		up := p.Rehearsal.Upstreams[u.Name]
		if up == nil || up.Requests == 0 {
			continue
		}
		card := pageCharts{Name: u.Name}
		for i := range u.Backends {
			if name := u.Backends[i].Name; i < 6 {
				card.Charts = append(card.Charts, p.overlay(name+": req/s", u.Name, "/s", func(r *result.TimelineRow) float64 { return float64(r.Upstreams[u.Name][name].Requests) }))
			}
		}
		v.Upstreams = append(v.Upstreams, card)
	}
	all, missing := p.story()
	for _, e := range all {
		v.Story = append(v.Story, pageRealEvent{moment(e.at), e.predicted, e.who, e.what, e.text})
	}
	v.Missing = missing
	return render("rehearse", &v)
}

func quantile95(r *result.CoarseRow) float64 { return r.P95 }

// of returns one of the two as a replay's report takes it.
func (p *Rehearsal) of(r *result.Replay) Replay {
	return Replay{Config: p.Config, Scenario: p.Scenario, Result: r}
}

// overlay draws something of both over time.
func (p *Rehearsal) overlay(name, upstream, unit string, of func(*result.TimelineRow) float64) pageChart {
	return p.overlaid(name, upstream, unit, p.of(p.Prediction).series(of), p.of(p.Rehearsal).series(of))
}

// overlaid draws two lines over each other: the prediction whole, the rehearsal
// dashed.
func (p *Rehearsal) overlaid(name, upstream, unit string, prediction, real []point) pageChart {
	f := p.of(p.Prediction)
	if highest(prediction, real) == 0 {
		return pageChart{name, "", "None, in prediction and rehearsal."}
	}
	c := timeChart{
		value: func(v float64) string { return tick(v) + unit }, until: max(f.ends(), p.of(p.Rehearsal).ends()), bands: f.faultBands(upstream),
		words:  fmt.Sprintf("%s over time: the prediction at most %s, the rehearsal at most %s", name, three(highest(prediction)), three(highest(real))),
		series: []series{{name: "prediction", points: prediction, look: looks[0]}, {name: "rehearsal", points: real, look: looks[1]}},
	}
	if unit == "" { // durations, which may lie far apart
		c.value, c.log = duration, true
	}
	return pageChart{name, c.svg(190), "By " + f.column() + "; the prediction whole, the rehearsal dashed."}
}

// lowest is the least of all values.
func lowest(points ...[]point) float64 {
	low := math.Inf(1)
	for _, s := range points {
		for _, p := range s {
			if p.v < low { // not NaN
				low = p.v
			}
		}
	}
	return low
}
