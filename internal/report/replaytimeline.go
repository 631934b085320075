package report

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// event is a line of the timeline.
type event struct {
	at   float64
	who  string
	what string
	text string
	kept bool // a fault explains it, so that no summary takes its place
	left bool // the backend left rotation
}

// events returns what happened, in order: faults, and what the proxy saw of them.
func (p Replay) events() []event {
	r := p.Result
	var all []event
	many := len(p.Config.Upstreams) > 1
	for _, f := range r.Faults {
		name := strings.Join(f.Backends, ", ")
		if len(f.Backends) > 3 {
			name = plural(int64(len(f.Backends)), "backend")
		}
		if f.Proxy > 0 {
			name = fmt.Sprintf("proxy %d", f.Proxy)
		}
		if len(f.Dependencies) > 0 {
			name = strings.Join(f.Dependencies, ", ")
		}
		if !f.Began {
			all = append(all, event{at: f.At, who: "fault", text: fmt.Sprintf("%s did not begin; the replay ended at %s", f.Name, moment(r.Duration))})
			continue
		}
		text := fmt.Sprintf("%s (%s): %s", f.Name, name, faultDoc(&f))
		if f.DetectedAfter == nil && f.Exposed > 0 {
			text += "; " + remained(&f) + met(f)
		}
		all = append(all, event{at: f.At, who: "fault", text: text})
		if f.Until != nil && *f.Until <= r.Duration {
			all = append(all, event{at: *f.Until, who: "fault", text: f.Name + " ends"})
		}
	}
	for _, h := range r.Health {
		who := h.Backend
		if many {
			who = h.Upstream + "." + h.Backend
		}
		if h.Instance > 0 {
			who += fmt.Sprintf(" (proxy %d)", h.Instance)
		}
		since := sinceFault(h, r)
		all = append(all, event{h.At, who, h.To, h.Why + since, since != "", health.InRotation(h.From) && !health.InRotation(h.To)})
	}
	slices.SortStableFunc(all, func(a, c event) int { return cmp.Compare(a.at, c.at) })
	return all
}

// faultDoc returns what happens in a fault, in a few words.
func faultDoc(f *result.Fault) string {
	if len(f.Dependencies) > 0 {
		return scenario.DependencyFaultDoc(f.Kind)
	}
	return scenario.FaultDoc(f.Kind)
}

// remained says of a fault that was not detected what stayed in rotation; of a proxy there is nothing
// to detect.
func remained(f *result.Fault) string {
	switch {
	case f.Proxy > 0:
		return ""
	case len(f.Dependencies) > 0:
		return "not all backends that call it left rotation; "
	}
	return "it never left rotation; "
}

// mostTransitions is how often a backend may leave rotation, or be failing without leaving it, before the timeline sums it
// up.
const mostTransitions = 3

// summed replaces the transitions of backends that changed their state often by a line each. Transitions that a fault
// explains stay, and are not counted.
func summed(all []event) []event {
	outs, failing := map[string]int{}, map[string]int{}
	for _, e := range all {
		switch {
		case e.kept:
		case e.left:
			outs[e.who]++
		case e.what == "failing":
			failing[e.who]++
		}
	}
	first, last := map[string]*event{}, map[string]float64{}
	var out []event
	var order []string
	for i := range all {
		e := &all[i]
		if e.who == "fault" || e.kept || outs[e.who] <= mostTransitions && failing[e.who] <= mostTransitions {
			out = append(out, *e)
			continue
		}
		if (e.left || outs[e.who] == 0 && e.what == "failing") && first[e.who] == nil {
			first[e.who] = e
			order = append(order, e.who)
		}
		last[e.who] = e.at
	}
	for _, who := range order {
		e := *first[who]
		how := "left rotation " + plural(int64(outs[who]), "time")
		if outs[who] == 0 {
			how = "failing " + plural(int64(failing[who]), "time") + " without leaving rotation"
		}
		e.text = fmt.Sprintf("%s between %s and %s; the first: %s", how, moment(e.at), moment(last[who]), e.text)
		e.what = ""
		out = append(out, e)
	}
	slices.SortStableFunc(out, func(a, c event) int { return cmp.Compare(a.at, c.at) })
	return out
}

// timeline writes faults, and the transitions of backends.
func (s Style) timeline(b *strings.Builder, p Replay) {
	r, all := p.Result, p.events()
	if len(all) == 0 {
		return
	}
	b.WriteString("\n" + s.bold("timeline") + "\n")
	listed := len(all)
	if !s.All {
		all = summed(all)
	}
	shortened := listed != len(all)
	most := 40
	cut := 0
	if len(all) > most && !s.All {
		cut = len(all) - most
		all = all[:most]
	}
	wide, state := 5, 0
	for _, e := range all {
		wide, state = max(wide, visible(e.who)), max(state, visible(e.what))
	}
	for _, e := range all {
		indent := 2 + 7 + 2 + wide + 2
		head := fmt.Sprintf("  %s  %s  ", padLeft(moment(e.at), 7), padRight(e.who, wide))
		if e.what != "" {
			head += padRight(e.what, state) + "  "
			indent += state + 2
		}
		b.WriteString(head + flow(e.text, s.Width, indent) + "\n")
	}
	switch {
	case cut > 0:
		fmt.Fprintf(b, "  and %s more (-all lists them)\n", count(int64(cut)))
	case shortened:
		b.WriteString("  -all lists them one by one\n")
	}
	if r.HealthCut {
		fmt.Fprintf(b, "  only the first %s are recorded\n", plural(int64(len(r.Health)), "transition"))
	}
}

func met(f result.Fault) string {
	left := ""
	if f.ExposedLeft > 0 {
		left = ", " + count(f.ExposedLeft) + " left by their clients"
	}
	return fmt.Sprintf("%s met it: %s answered on retry, %s failed%s", plural(f.Exposed, "request"), count(f.Exposed-f.ExposedFailed-f.ExposedLeft), count(f.ExposedFailed), left)
}

// sinceFault says of a change how long after a fault it came.
func sinceFault(h result.HealthChange, r *result.Replay) string {
	for _, f := range r.Faults {
		if !f.Began || !slices.Contains(f.Backends, h.Upstream+"."+h.Backend) || byOperator(f.Kind) {
			continue
		}
		if f.DetectedAfter != nil && near(h.At, f.At+*f.DetectedAfter) && !health.InRotation(h.To) {
			text := fmt.Sprintf("; %s after the fault", span(*f.DetectedAfter))
			if f.Exposed > 0 {
				text += "; " + met(f)
			}
			return text
		}
		if f.Until != nil && f.RecoveredAfter != nil && near(h.At, *f.Until+*f.RecoveredAfter) && h.To == "up" {
			return fmt.Sprintf("; %s after the end of the fault", span(*f.RecoveredAfter))
		}
	}
	return ""
}

func near(a, b float64) bool { return math.Abs(a-b) < 1e-6 }

// charted returns the upstreams whose charts are drawn: those that a fault touched or in which requests failed, or all.
func (s Style) charted(p Replay) (out []*config.Upstream) {
	for _, u := range p.Config.Upstreams {
		up := p.Result.Upstreams[u.Name]
		if up == nil || up.Requests == 0 || len(u.Backends) > 12 && !s.All {
			continue
		}
		if s.All || up.Failed > 0 || len(p.faultBands(u.Name)) > 0 {
			out = append(out, u)
		}
	}
	return out
}

// overTime draws requests by backend, faults, and failed requests.
func (s Style) overTime(b *strings.Builder, p Replay) {
	rows := p.Result.Timeline.Rows
	shown := s.charted(p)
	if len(rows) < 2 || len(shown) == 0 {
		return
	}
	label := 6
	for _, u := range shown {
		for _, x := range u.Backends {
			label = max(label, len(x.Name))
		}
	}
	label = min(label, 20)
	room := max(s.Width-label-4, 10)
	per := (len(rows) + room - 1) / room
	seconds := float64(per) * p.Result.Timeline.Bucket
	sum := func(of func(result.TimelineRow) int64) []float64 {
		var out []float64
		for i := 0; i < len(rows); i += per {
			n := int64(0)
			for k := i; k < min(i+per, len(rows)); k++ {
				n += of(rows[k])
			}
			out = append(out, float64(n))
		}
		return out
	}
	line := func(name, values string) {
		fmt.Fprintf(b, "  %s  %s\n", padRight(clip(name, label), label), strings.TrimRight(values, " "))
	}
	failed := sum(func(r result.TimelineRow) int64 { return r.Failed })
	for _, u := range shown {
		top := 0.0
		var drawn [][]float64
		for _, x := range u.Backends {
			v := sum(func(r result.TimelineRow) int64 { return r.Upstreams[u.Name][x.Name].Requests })
			drawn = append(drawn, v)
			top = max(top, slices.Max(v))
		}
		head := strings.Join([]string{"requests over time", u.Name, "one column is " + round(span(seconds)), "tallest " + count(int64(top))}, s.dot())
		b.WriteString("\n" + s.bold("requests over time") + strings.TrimPrefix(flow(head, s.Width, 2), "requests over time") + "\n")
		for i, x := range u.Backends {
			line(x.Name, s.spark(drawn[i], top))
		}
		s.faultRows(p.faultBands(u.Name), seconds, len(failed), func(text string) { line("fault", text) })
	}
	if top := slices.Max(failed); top > 0 {
		if len(shown) > 1 {
			b.WriteString("\n" + s.bold("failed over time") + s.dot() + "all upstreams" + "\n")
		}
		line("failed", s.spark(failed, top))
		fmt.Fprintf(b, "  %s  tallest %s failed\n", strings.Repeat(" ", label), count(int64(top)))
	}
}

// faultRows marks the columns in which faults last: a row each with its name, or one for all of more than three.
func (s Style) faultRows(bands []band, seconds float64, columns int, line func(text string)) {
	mark := "-"
	if s.Unicode {
		mark = "▔"
	}
	all := make([]bool, columns)
	for _, x := range bands {
		from := min(max(int(x.from/seconds), 0), columns-1)
		to := min(max(int(math.Ceil(x.until/seconds)), from+1), columns)
		for i := from; i < to; i++ {
			all[i] = true
		}
		if len(bands) <= 3 {
			name := clip(x.name, max(s.Width-30, 12))
			text := strings.Repeat(" ", from) + strings.Repeat(mark, to-from) + " " + name
			if to+visible(name)+12 > s.Width && visible(name)+1 <= from { // the name stands before the mark
				text = padLeft(name+" ", from) + strings.Repeat(mark, to-from)
			}
			line(text)
		}
	}
	if len(bands) > 3 {
		var b strings.Builder
		for _, on := range all {
			if on {
				b.WriteString(mark)
			} else {
				b.WriteByte(' ')
			}
		}
		line(b.String())
	}
}
