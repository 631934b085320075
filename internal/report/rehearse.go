package report

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/study"
)

// Rehearsal is what the text and the page of a rehearsal are made from.
type Rehearsal struct {
	Names                 []string // configuration, traces and scenario
	Config                *config.Config
	Scenario              *scenario.Scenario
	Prediction, Rehearsal *result.Replay
	Fidelity              study.Fidelity
	Mapping               []MappedAddress
	Left                  []string // what was not rehearsed as it is
	Speed                 float64
	Late                  Late
	KeptUp                bool
}

// MappedAddress is an address of the configuration, and where it was rehearsed.
type MappedAddress struct {
	What string `json:"what"` // UPSTREAM.BACKEND, or a frontend
	From string `json:"from"`
	To   string `json:"to"`
}

// heldWords words one figure: its name, both values, the difference, what chance
// does, and whether it holds.
func heldWords(h *study.Held, t times) []string {
	value := func(v *float64, sign bool) string {
		if v == nil {
			return "never"
		}
		plus := ""
		if sign && *v > 0 {
			plus = "+"
		}
		switch h.Unit {
		case "share":
			return plus + percent(*v)
		case "seconds":
			if *v < 0 {
				return "-" + span(-*v)
			}
			if math.Abs(*v) < 0.5e-6 {
				return "0 s"
			}
			return plus + span(*v)
		}
		if *v < 0 {
			return "-" + count(int64(math.Round(-*v)))
		}
		return plus + count(int64(math.Round(*v)))
	}
	name := figureName(h.What, h.Of)
	if bool(t) && strings.HasPrefix(h.What, "latency.") {
		name = "~ " + name
	}
	difference, chance, verdict := "-", "-", "as predicted"
	if h.Difference != nil {
		difference = value(h.Difference, true)
	}
	if h.Chance != nil {
		chance = "±" + value(h.Chance, false)
	}
	switch {
	case h.WithinGoal && h.Difference != nil && math.Abs(*h.Difference) > h.Goal+1e-9:
		verdict = "within chance"
	case !h.WithinGoal:
		verdict = "off"
	}
	return []string{name, value(h.Prediction, false), value(h.Rehearsal, false), difference, chance, verdict}
}

// Rehearse writes prediction and rehearsal side by side.
func (s Style) Rehearse(p *Rehearsal) string {
	return s.fitted(func(s Style) string { return s.rehearseText(p) })
}

func (s Style) rehearseText(p *Rehearsal) string {
	f, r := p.Prediction, p.Rehearsal
	var b strings.Builder
	head := append(slices.Clone(p.Names), fmt.Sprintf("seed %d", f.Model.Seed))
	if p.Speed != 1 {
		head = append(head, three(p.Speed)+" times as fast")
	}
	b.WriteString(s.bold(flow(strings.Join(head, s.dot()), s.Width, 0)) + "\n")
	b.WriteString(flow(fmt.Sprintf("%s from %s in %s, once in virtual time and once for real on this machine", plural(r.Requests, "request"), plural(r.Trace.Clients, "client"), span(r.Duration)), s.Width, 0) + "\n")
	b.WriteString(s.assumed(f.Assumed))
	if r.Partial {
		b.WriteString(s.warn("stopped early: both are of what was sent until then") + "\n")
	}
	b.WriteString("\n")
	verdict := p.Fidelity.Verdict()
	if p.Fidelity.Off > 0 {
		verdict = s.warn(verdict)
	}
	b.WriteString(s.bold(flow(verdict, s.Width, 0)) + "\n")
	b.WriteString("\n")
	var rows [][]string
	for i := range p.Fidelity.Rows {
		row := heldWords(&p.Fidelity.Rows[i], timesOf(f))
		if !s.Unicode {
			row[4] = strings.ReplaceAll(row[4], "±", "+-")
		}
		if row[5] == "off" {
			row[5] = s.red("off")
		}
		rows = append(rows, row)
	}
	b.WriteString(s.table([]column{
		{name: "figure", left: true}, {name: "prediction"}, {name: "rehearsal"}, {name: "difference", drop: 1}, {name: "by chance", drop: 2}, {name: "", left: true},
	}, rows, 2))
	b.WriteString("  " + flow(fmt.Sprintf("by chance: what 95 of 100 rehearsals stay within, by predictions with %d seeds", p.Fidelity.Seeds), s.Width, 2) + "\n")
	s.bothExpected(&b, f, r)
	if !p.KeptUp {
		b.WriteString(s.warn(flow(fmt.Sprintf("the driver did not keep up: requests were late by p50 %s, p99 %s. This machine is too slow for this load, which may explain what is off", span(p.Late.P50), span(p.Late.P99)), s.Width, 0)) + "\n")
	}
	b.WriteString("\n" + s.bold("timeline of the rehearsal") + "\n")
	s.realStory(&b, p)
	b.WriteString("\n" + s.bold("addresses of the rehearsal") + "\n")
	var at [][]string
	for _, m := range p.Mapping {
		at = append(at, []string{m.What, m.From, m.To})
	}
	shown, more := at, ""
	if len(at) > 30 && !s.All {
		shown, more = at[:10], fmt.Sprintf("  %d more with -all\n", len(at)-10)
	}
	b.WriteString(s.table([]column{{name: "", left: true}, {name: "configured", left: true}, {name: "rehearsal", left: true}}, shown, 2) + more)
	for _, l := range p.Left {
		b.WriteString("  " + flow(l, s.Width, 2) + "\n")
	}
	return b.String()
}

// bothExpected writes the scenario's expectations, held against both.
func (s Style) bothExpected(b *strings.Builder, f, r *result.Replay) {
	if len(f.Expectations) == 0 {
		return
	}
	word := func(v *scenario.Verdict) string {
		if v.Met {
			return "met"
		}
		return s.red("not met")
	}
	b.WriteString("\n" + s.bold("expectations") + "\n")
	var rows [][]string
	for i := range f.Expectations {
		v := &f.Expectations[i]
		real := "-"
		if i < len(r.Expectations) {
			real = word(&r.Expectations[i])
		}
		rows = append(rows, []string{v.Name, word(v), real, v.That})
	}
	b.WriteString(s.table([]column{{name: "expectation", left: true}, {name: "prediction", left: true}, {name: "rehearsal", left: true}, {name: "that", left: true, drop: 1}}, rows, 2))
}

// realEvent is a fault or a change of state of the rehearsal, with the moment that
// was predicted for the same change.
type realEvent struct {
	at                         float64
	who, what, text, predicted string
}

// story lists them, and what was predicted and did not happen.
func (p *Rehearsal) story() (all []realEvent, missing []string) {
	for _, f := range p.Rehearsal.Faults {
		if !f.Began {
			continue
		}
		all = append(all, realEvent{f.At, "fault", f.Name, faultDoc(&f), ""})
		if f.Until != nil && *f.Until <= p.Rehearsal.Duration {
			all = append(all, realEvent{*f.Until, "fault", f.Name, "is over", ""})
		}
	}
	used := map[int]bool{}
	for _, h := range p.Rehearsal.Health {
		e := realEvent{h.At, h.Upstream + "." + h.Backend, h.To, h.Why, "not predicted"}
		for i, o := range p.Prediction.Health {
			if !used[i] && o.Upstream == h.Upstream && o.Backend == h.Backend && o.To == h.To {
				used[i] = true
				e.predicted = moment(o.At)
				break
			}
		}
		all = append(all, e)
	}
	slices.SortStableFunc(all, func(a, b realEvent) int { return cmp.Compare(a.at, b.at) })
	for i, o := range p.Prediction.Health {
		if !used[i] && !p.Rehearsal.Partial {
			missing = append(missing, fmt.Sprintf("predicted and did not happen: %s.%s %s at %s", o.Upstream, o.Backend, o.To, moment(o.At)))
		}
	}
	return all, missing
}

// realStory writes the story of the rehearsal.
func (s Style) realStory(b *strings.Builder, p *Rehearsal) {
	all, missing := p.story()
	const most = 40
	who, what := 0, 0
	for _, e := range all {
		who, what = max(who, visible(e.who)), max(what, visible(e.what))
	}
	for i, e := range all {
		if i == most && !s.All {
			fmt.Fprintf(b, "  %d more with -all\n", len(all)-most)
			break
		}
		head := fmt.Sprintf("  %s  %s  %s  ", moment(e.at), padRight(e.who, who), padRight(e.what, min(what, 24)))
		text := e.text
		switch e.predicted {
		case "":
		case "not predicted":
			text += "; not predicted"
		default:
			text += "; predicted for " + e.predicted
		}
		b.WriteString(head + flowFrom(text, s.Width, visible(head), visible(head)) + "\n")
	}
	if len(all) == 0 {
		b.WriteString("  no backend changed its state\n")
	}
	for _, m := range missing {
		fmt.Fprintf(b, "  %s\n", s.warn(flow(m, s.Width, 2)))
	}
}
