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

// Replay is what the text of a replay is made from.
type Replay struct {
	Config   *config.Config
	Scenario *scenario.Scenario
	Path     string   // of the configuration, for what to do next
	Names    []string // configuration, traces and scenario, for the first line
	Result   *result.Replay
}

// Replay writes the report of a replay as text.
func (s Style) Replay(p Replay) string {
	r := p.Result
	var b strings.Builder
	b.WriteString(s.bold(flow(strings.Join(append(slices.Clone(p.Names), fmt.Sprintf("seed %d", r.Model.Seed)), s.dot()), s.Width, 0)) + "\n")
	b.WriteString(s.assumed(r.Assumed))
	line := fmt.Sprintf("%s in %s from %s", plural(r.Requests, "request"), clock(r.Duration), plural(r.Trace.Clients, "client"))
	if r.Model.Instances > 1 {
		line += fmt.Sprintf("; %d proxies side by side", r.Model.Instances)
	}
	if r.Model.Stamp == "end" {
		line += "; stamps are of the end, durations taken off"
	}
	b.WriteString(flow(line, s.Width, 0) + "\n")
	if r.Partial {
		b.WriteString(s.yellow("stopped early: what follows is partial") + "\n")
	}
	s.notes(&b, r)
	b.WriteByte('\n')
	s.totals(&b, r, "retried "+count(r.Retried), sessionsOf(r))
	s.seeds(&b, p)
	s.expectations(&b, r)
	s.why(&b, r)
	for _, u := range p.Config.Upstreams {
		s.upstream(&b, u, r)
	}
	s.paths(&b, r)
	if n := r.Sessions.Misses; n > 0 && !r.Sessions.Known {
		b.WriteString("\n" + flow(plural(n, "request")+" reached another backend than their client's last; it matters only where the application keeps sessions, which neither the trace nor the scenario says (clients { sessions = true })", s.Width, 0) + "\n")
	}
	s.story(&b, p)
	s.overTime(&b, p)
	s.felt(&b, r)
	s.advice(&b, p)
	return b.String()
}

// sessionsOf counts them, as far as anything is known of sessions.
func sessionsOf(r *result.Replay) string {
	if !r.Sessions.Known {
		return fmt.Sprintf("clients %s seen, %s moved", count(r.Sessions.Seen), count(r.Sessions.Moved))
	}
	return fmt.Sprintf("sessions %s seen, %s moved, %s lost", count(r.Sessions.Seen), count(r.Sessions.Moved), count(r.Sessions.Misses))
}

// stickiness says how an upstream kept clients in their place, and what that cost where
// sessions are known.
func stickiness(cfg *config.Upstream, u *result.Upstream, known bool) []string {
	switch {
	case cfg.Sticky != nil && known:
		return []string{fmt.Sprintf("sticky by %s: %s moved, %s lost", cfg.Sticky.By, count(u.Sessions.Moved), count(u.Sessions.Misses))}
	case cfg.Sticky != nil:
		return []string{fmt.Sprintf("sticky by %s: %s moved", cfg.Sticky.By, count(u.Sessions.Moved))}
	case known && u.Sessions.Misses > 0:
		return []string{fmt.Sprintf("not sticky: %s of a session reached a backend that does not hold it", plural(u.Sessions.Misses, "request"))}
	}
	return nil
}

// notes returns what of the trace was not as it should be.
func (s Style) notes(b *strings.Builder, r *result.Replay) {
	for _, l := range s.noteLines(r) {
		b.WriteString(l + "\n")
	}
}

func (s Style) noteLines(r *result.Replay) []string {
	var out []string
	if r.Trace.BadLines > 0 {
		out = append(out, s.yellow(plural(r.Trace.BadLines, "line")+" could not be read and passed over"))
		for _, x := range r.Trace.Bad {
			out = append(out, fmt.Sprintf("  line %d, column %d: %s", x.Line, x.Column, x.Why))
		}
	}
	if r.Trace.OutOfOrder > 0 {
		out = append(out, plural(r.Trace.OutOfOrder, "record")+" stood out of order and put right")
	}
	for _, name := range sortedKeys(r.Trace.Unknown) {
		cure := ""
		if name == "host" {
			cure = "; -host NAME gives one"
		}
		out = append(out, s.yellow(flow(fmt.Sprintf("%s met a route that asks for the %s, which the trace does not record, so that it did not fit%s", plural(r.Trace.Unknown[name], "request"), name, cure), s.Width, 0)))
	}
	return out
}

// totals writes how many were answered and failed, with more of what is known beside it.
func (s Style) totals(b *strings.Builder, r *result.Replay, more ...string) {
	width := max(len(count(r.Answered)), len(count(r.Failed)), 8)
	l := r.Latency
	answered := 0.0
	if r.Requests > 0 {
		answered = float64(r.Answered) / float64(r.Requests)
	}
	pct := func(x float64) string { return padLeft(finePercent(x), 9) }
	tail := func(parts ...string) string {
		sep := "   "
		if s.Width < 96 {
			return "\n            " + flow(strings.Join(parts, ", "), s.Width, 12) + "\n"
		}
		return "    " + strings.Join(parts, sep) + "\n"
	}
	times := []string{"nothing was answered"}
	if r.Answered > 0 {
		times = timesOf(r).percentiles(&l)
	}
	fmt.Fprintf(b, "  answered  %s  %s%s", padLeft(count(r.Answered), width), pct(answered), tail(times...))
	failed := fmt.Sprintf("  failed    %s  %s", padLeft(count(r.Failed), width), pct(r.ErrorRate))
	if r.Failed > 0 {
		failed = s.red(failed)
	}
	b.WriteString(failed + tail(more...))
	if r.ClientLeft > 0 {
		b.WriteString(s.yellow(fmt.Sprintf("  left      %s  %s", padLeft(count(r.ClientLeft), width), pct(float64(r.ClientLeft)/float64(r.Requests)))) + tail("clients left before the answer began"))
	}
	if e := r.Elapsed; r.Failed+r.ClientLeft > 0 {
		fmt.Fprintf(b, "  elapsed   %s  %s%s", padLeft(count(r.Requests), width), strings.Repeat(" ", 9), tail(timesOf(r).percentiles(&e)...))
	}
	if r.Unfinished > 0 {
		fmt.Fprintf(b, "  unfinished %s\n", padLeft(count(r.Unfinished), width-1))
	}
	for _, o := range r.Overloaded {
		text := fmt.Sprintf("%s: from %s on requests waited without a pause, %s at the last arrival, %s", o.Upstream, moment(o.From), plural(o.Waiting, "request"), moment(o.Until))
		fmt.Fprintf(b, "  %s\n", s.red(flow(text, s.Width, 2)))
	}
	if r.Resent > 0 {
		fmt.Fprintf(b, "  resent    %s   streams that their clients opened again\n", padLeft(count(r.Resent), width))
	}
	if r.Failed > 0 {
		var causes []string
		for _, e := range r.Errors.List() {
			if e.Requests > 0 {
				causes = append(causes, e.Cause.String()+" "+count(e.Requests))
			}
		}
		fmt.Fprintf(b, "  failed by cause: %s\n", flow(strings.Join(causes, ", "), s.Width, 19))
	}
}

func (s Style) upstream(b *strings.Builder, cfg *config.Upstream, r *result.Replay) {
	u := r.Upstreams[cfg.Name]
	if u == nil {
		return
	}
	parts := []string{cfg.Name, cfg.Algorithm}
	parts = append(parts, stickiness(cfg, u, r.Sessions.Known)...)
	head := flow(strings.Join(parts, s.dot()), s.Width, 2)
	b.WriteString("\n" + s.bold(cfg.Name) + strings.TrimPrefix(head, cfg.Name) + "\n")
	if u.Requests == 0 {
		b.WriteString("  no request came here\n")
		return
	}
	names := u.Order
	rest := ""
	if len(names) > 30 && !s.All {
		names = slices.Clone(names)
		slices.SortStableFunc(names, func(a, c string) int {
			x, y := u.Backends[a], u.Backends[c]
			return cmp.Or(cmp.Compare(y.Failed, x.Failed), cmp.Compare(y.SecondsOut, x.SecondsOut), cmp.Compare(y.Latency.P99, x.Latency.P99))
		})
		shown := names[:10]
		var reqs, failed int64
		for _, n := range names[10:] {
			reqs += u.Backends[n].Requests
			failed += u.Backends[n].Failed
		}
		rest = fmt.Sprintf("  the ten worst; the other %d took %s requests and failed %s (all with -all)\n", len(names)-10, count(reqs), count(failed))
		names = shown
	}
	barWidth := 0
	if s.Width >= 104 {
		barWidth = min(s.Width-99, 16)
	}
	cols := []column{
		{name: "backend", left: true}, {name: "state", left: true, drop: 3}, {name: "requests"},
		{name: "share", left: barWidth > 0}, {name: "fair share", drop: 5}, {name: "failed"},
		{name: "p50", drop: 4}, {name: "p95", drop: 7}, {name: "p99"}, {name: "elapsed p99"}, {name: "peak", drop: 6}, {name: "out", drop: 2},
	}
	t := timesOf(r)
	var rows [][]string
	for _, name := range names {
		x := u.Backends[name]
		failed := count(x.Failed)
		if x.Failed > 0 {
			failed = s.red(failed)
		}
		out := "-"
		if x.SecondsOut > 0 {
			out = span(x.SecondsOut)
		}
		share := percent(x.Share)
		if barWidth > 0 {
			share = s.bar(x.Share, barWidth) + "  " + padLeft(share, 7)
		}
		p50, p95, p99 := "-", "-", "-"
		if x.Answered > 0 {
			p50, p95, p99 = t.of(x.Latency.P50), t.of(x.Latency.P95), t.of(x.Latency.P99)
		}
		rows = append(rows, []string{
			s.bold(name), x.State, count(x.Requests), share, percent(x.FairShare), failed,
			p50, p95, p99, t.orDash(x.Elapsed.P99), count(int64(x.PeakInFlight)), out,
		})
	}
	if u.Failed+u.ClientLeft == 0 && !slices.ContainsFunc(u.Order, func(n string) bool { return u.Backends[n].Failed > 0 }) {
		cols, rows = without("elapsed p99", cols, rows) // it is as p99
	}
	b.WriteString(s.table(cols, rows, 2))
	b.WriteString(rest)
}

// event is a line of the story.
type event struct {
	at   float64
	who  string
	what string
	text string
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
		if !f.Began {
			all = append(all, event{f.At, "fault", "", fmt.Sprintf("%s: never began, the replay ended at %s", f.Name, moment(r.Duration))})
			continue
		}
		text := fmt.Sprintf("%s (%s): %s", f.Name, name, scenario.FaultDoc(f.Kind))
		if f.DetectedAfter == nil && f.Exposed > 0 {
			text += "; it never left rotation; " + met(f)
		}
		all = append(all, event{f.At, "fault", "", text})
		if f.Until != nil && *f.Until <= r.Duration {
			all = append(all, event{*f.Until, "fault", "", f.Name + ": over"})
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
		all = append(all, event{h.At, who, h.To, h.Why + sinceFault(h, r)})
	}
	slices.SortStableFunc(all, func(a, c event) int { return cmp.Compare(a.at, c.at) })
	return all
}

func (s Style) story(b *strings.Builder, p Replay) {
	r, all := p.Result, p.events()
	if len(all) == 0 {
		return
	}
	b.WriteString("\n" + s.bold("what happened") + "\n")
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
		if e.who != "fault" {
			head += padRight(e.what, state) + "  "
			indent += state + 2
		}
		b.WriteString(head + flow(e.text, s.Width, indent) + "\n")
	}
	if cut > 0 || r.HealthCut {
		fmt.Fprintf(b, "  and %s more (all with -all)\n", count(int64(cut)))
	}
}

func met(f result.Fault) string {
	left := ""
	if f.ExposedLeft > 0 {
		left = ", " + count(f.ExposedLeft) + " left by their clients"
	}
	return fmt.Sprintf("%s met it: %s answered on retry, %s lost%s", plural(f.Exposed, "request"), count(f.Exposed-f.ExposedFailed-f.ExposedLeft), count(f.ExposedFailed), left)
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
			return fmt.Sprintf("; %s after its end", span(*f.RecoveredAfter))
		}
	}
	return ""
}

func near(a, b float64) bool { return math.Abs(a-b) < 1e-6 }

// overTime draws requests by backend, and what failed.
func (s Style) overTime(b *strings.Builder, p Replay) {
	rows := p.Result.Timeline.Rows
	if len(rows) < 2 {
		return
	}
	label := 6
	for _, u := range p.Config.Upstreams {
		for _, x := range u.Backends {
			label = max(label, len(x.Name))
		}
	}
	label = min(label, 20)
	room := max(s.Width-label-4, 10)
	per := (len(rows) + room - 1) / room
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
	line := func(name string, values []float64, top float64) {
		fmt.Fprintf(b, "  %s  %s\n", padRight(clip(name, label), label), strings.TrimRight(s.spark(values, top), " "))
	}
	for _, u := range p.Config.Upstreams {
		up := p.Result.Upstreams[u.Name]
		if up == nil || up.Requests == 0 || len(u.Backends) > 12 && !s.All {
			continue
		}
		top := 0.0
		var drawn [][]float64
		for _, x := range u.Backends {
			v := sum(func(r result.TimelineRow) int64 { return r.Upstreams[u.Name][x.Name].Requests })
			drawn = append(drawn, v)
			top = max(top, slices.Max(v))
		}
		seconds := float64(per) * p.Result.Timeline.Bucket
		head := strings.Join([]string{"over time", u.Name, "one column is " + span(seconds), "tallest " + count(int64(top)) + " requests"}, s.dot())
		b.WriteString("\n" + s.bold("over time") + strings.TrimPrefix(flow(head, s.Width, 2), "over time") + "\n")
		for i, x := range u.Backends {
			line(x.Name, drawn[i], top)
		}
	}
	failed := sum(func(r result.TimelineRow) int64 { return r.Failed })
	if top := slices.Max(failed); top > 0 {
		line("failed", failed, top)
		fmt.Fprintf(b, "  %s  tallest %s failed\n", strings.Repeat(" ", label), count(int64(top)))
	}
}

func (s Style) expectations(b *strings.Builder, r *result.Replay) {
	if len(r.Expectations) == 0 {
		return
	}
	b.WriteString("\n" + s.bold("expectations") + "\n")
	wide := 0
	for _, v := range r.Expectations {
		wide = max(wide, visible(v.Name))
	}
	for _, v := range r.Expectations {
		word := "met    "
		if !v.Met {
			word = s.red("not met")
		}
		indent := wide + 13
		if indent > s.Width/2 {
			indent = 11
			fmt.Fprintf(b, "  %s  %s\n%s%s\n", word, v.Name, strings.Repeat(" ", indent), flow(v.That, s.Width, indent))
		} else {
			fmt.Fprintf(b, "  %s  %s  %s\n", word, padRight(v.Name, wide), flow(v.That, s.Width, indent))
		}
		b.WriteString(strings.Repeat(" ", indent) + flow(values(&v), s.Width, indent) + "\n")
	}
}

func valueText(v any) string {
	switch x := v.(type) {
	case nil:
		return "never"
	case float64:
		if x == math.Trunc(x) && math.Abs(x) < 1e15 {
			return count(int64(x))
		}
		return fmt.Sprintf("%.6g", x)
	}
	return fmt.Sprint(v)
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
