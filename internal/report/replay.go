package report

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"kestrix/internal/core/config"
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

// Replay writes the report of a replay as text: the verdict, what it assumes, recommended changes, client impact, backends,
// timeline, charts.
func (s Style) Replay(p Replay) string {
	return s.fitted(func(s Style) string { return s.replayText(p) })
}

func (s Style) replayText(p Replay) string {
	r := p.Result
	var b strings.Builder
	s.verdict(&b, p)
	line := fmt.Sprintf("%s in %s from %s", plural(r.Requests, "request"), span(r.Duration), plural(r.Trace.Clients, "client"))
	if r.Model.Instances > 1 {
		line += fmt.Sprintf("; %d proxies share the traffic", r.Model.Instances)
	}
	if r.Model.Stamp == "end" {
		line += "; time stamps are of the end of requests, durations are subtracted"
	}
	b.WriteString(flow(line, s.Width, 0) + "\n")
	s.notes(&b, r)
	b.WriteByte('\n')
	s.totals(&b, r, "retried "+count(r.Retried), sessionsOf(r))
	s.expectations(&b, r)
	s.seeds(&b, p)
	if len(r.Assumed) > 0 {
		b.WriteString("\n" + s.assumed(r.Assumed))
	}
	s.recommended(&b, p)
	s.felt(&b, r)
	failures := slices.ContainsFunc(sortedKeys(r.Upstreams), func(name string) bool {
		u := r.Upstreams[name]
		return u.Failed+u.ClientLeft > 0 || slices.ContainsFunc(u.Order, func(n string) bool { return u.Backends[n].Failed > 0 })
	})
	for _, u := range p.Config.Upstreams {
		s.upstream(&b, u, r, failures)
	}
	s.paths(&b, r)
	if n := r.Sessions.Misses; n > 0 && !r.Sessions.Known {
		b.WriteString("\n" + flow(plural(n, "request")+" reached another backend than their client's last. This matters only if the application keeps sessions, which neither the trace nor the scenario declares (clients { sessions = true })", s.Width, 0) + "\n")
	}
	s.timeline(&b, p)
	s.overTime(&b, p)
	return b.String()
}

// ReplayBrief writes a replay for a CI server: the verdict, expectations that are not met, causes and recommended changes.
func (s Style) ReplayBrief(p Replay) string {
	r := p.Result
	var b strings.Builder
	s.verdict(&b, p)
	s.notes(&b, r)
	unmet := *r
	unmet.Expectations = slices.DeleteFunc(slices.Clone(r.Expectations), func(v scenario.Verdict) bool { return v.Met })
	s.expectations(&b, &unmet)
	if r.Failed > 0 {
		b.WriteString(s.causes(r))
	}
	for _, l := range assumptions(r.Assumed) {
		if strings.HasPrefix(l, "~") {
			b.WriteString(s.warn(flow("assumed "+l, s.Width, 2)) + "\n")
		}
	}
	for _, c := range recommendations(r) {
		if c.Hypothetical {
			b.WriteString(flow(fmt.Sprintf("cause: %s: %s", c.Upstream, c.Cause), s.Width, 2) + "\n")
			continue
		}
		b.WriteString(flow(fmt.Sprintf("recommended: %s: %s: %s", c.Upstream, c.Change, c.Effect), s.Width, 2) + "\n")
	}
	return b.String()
}

// verdict writes the names of the inputs, and below them how the replay came out.
func (s Style) verdict(b *strings.Builder, p Replay) {
	b.WriteString(flow(strings.Join(append(slices.Clone(p.Names), fmt.Sprintf("seed %d", p.Result.Model.Seed)), s.dot()), s.Width, 0) + "\n")
	parts, bad := p.verdict()
	text := s.bold(flow(strings.Join(parts, s.dot()), s.Width, 2))
	if bad {
		text = s.red(flow(strings.Join(parts, s.dot()), s.Width, 2))
	}
	b.WriteString(text + "\n")
}

// verdict returns how a replay came out, in parts of a line, and whether an expectation is not met or a request failed.
func (p Replay) verdict() (parts []string, bad bool) {
	r := p.Result
	if r.Partial {
		parts = append(parts, "stopped early, figures are partial")
	}
	met := 0
	for i := range r.Expectations {
		if r.Expectations[i].Met {
			met++
		}
	}
	if n := len(r.Expectations); n > 0 {
		parts = append(parts, fmt.Sprintf("%d of %s met", met, plural(int64(n), "expectation")))
	}
	failed := fmt.Sprintf("%s of %s failed", count(r.Failed), count(r.Requests))
	if r.Failed > 0 {
		failed += " (" + finePercent(r.ErrorRate) + ")"
	}
	parts = append(parts, failed)
	if r.ClientLeft > 0 {
		parts = append(parts, count(r.ClientLeft)+" left by their clients")
	}
	if r.Elapsed.P99 > 0 {
		parts = append(parts, "elapsed p99 "+timesOf(r).of(r.Elapsed.P99))
	}
	return parts, met < len(r.Expectations) || len(r.Expectations) == 0 && r.Failed > 0
}

// sessionsOf counts them, as far as anything is known of sessions.
func sessionsOf(r *result.Replay) string {
	if !r.Sessions.Known {
		return fmt.Sprintf("clients %s seen, %s moved", count(r.Sessions.Seen), count(r.Sessions.Moved))
	}
	return fmt.Sprintf("sessions %s seen, %s moved, %s misses", count(r.Sessions.Seen), count(r.Sessions.Moved), count(r.Sessions.Misses))
}

// stickiness says how an upstream kept clients in their place, and what that cost where
// sessions are known.
func stickiness(cfg *config.Upstream, u *result.Upstream, known bool) []string {
	switch {
	case cfg.Sticky != nil && known:
		return []string{fmt.Sprintf("sticky by %s: %s moved, %s misses", cfg.Sticky.By, count(u.Sessions.Moved), count(u.Sessions.Misses))}
	case cfg.Sticky != nil:
		return []string{fmt.Sprintf("sticky by %s: %s moved", cfg.Sticky.By, count(u.Sessions.Moved))}
	case known && u.Sessions.Misses > 0:
		return []string{fmt.Sprintf("not sticky: %s of a session reached a backend without it", plural(u.Sessions.Misses, "request"))}
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
		out = append(out, s.warn("lines that could not be read, skipped: "+count(r.Trace.BadLines)))
		for _, x := range r.Trace.Bad {
			out = append(out, fmt.Sprintf("  line %d, column %d: %s", x.Line, x.Column, x.Why))
		}
	}
	if r.Trace.OutOfOrder > 0 {
		out = append(out, fmt.Sprintf("records out of order, sorted: %s", count(r.Trace.OutOfOrder)))
	}
	for _, name := range sortedKeys(r.Trace.Unknown) {
		cure := ""
		if name == "host" {
			cure = "; -host NAME sets it"
		}
		out = append(out, s.warn(flow(fmt.Sprintf("%s did not match a route with a condition on the %s, which the trace does not record%s", plural(r.Trace.Unknown[name], "request"), name, cure), s.Width, 0)))
	}
	for _, name := range sortedKeys(r.Upstreams) {
		x := r.Upstreams[name].Spill
		if x != nil && !x.Reached && r.Upstreams[name].Requests > 0 {
			out = append(out, s.warn(flow(fmt.Sprintf("%s: spill_at was never reached: at most %s of %s requests in flight at %s", name, count(int64(x.Peak)), count(int64(x.Of)), x.Backend), s.Width, 0)))
		}
		if x != nil && len(x.BelowWorkers) > 0 {
			out = append(out, s.warn(flow(fmt.Sprintf("%s: max_in_flight is below the workers of %s", name, strings.Join(x.BelowWorkers, ", ")), s.Width, 0)))
		}
		if x != nil && r.Model.Instances > 1 {
			out = append(out, s.warn(flow(fmt.Sprintf("%s: each of %d proxies takes all of max_in_flight for its own, so that backends get more than they have room for", name, r.Model.Instances), s.Width, 0)))
		}
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
	times := []string{"no response"}
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
		b.WriteString(s.warn(fmt.Sprintf("  left      %s  %s", padLeft(count(r.ClientLeft), width), pct(float64(r.ClientLeft)/float64(r.Requests)))) + tail("clients left before the response began"))
	}
	if e := r.Elapsed; r.Failed+r.ClientLeft > 0 {
		fmt.Fprintf(b, "  elapsed   %s  %s%s", padLeft(count(r.Requests), width), strings.Repeat(" ", 9), tail(timesOf(r).percentiles(&e)...))
	}
	if r.Unfinished > 0 {
		fmt.Fprintf(b, "  unfinished %s\n", padLeft(count(r.Unfinished), width-1))
	}
	for _, o := range r.Overloaded {
		text := fmt.Sprintf("%s is over capacity: its queue never emptied after %s; %s in flight at the last arrival, %s", o.Upstream, moment(o.From), plural(o.Waiting, "request"), moment(o.Until))
		fmt.Fprintf(b, "  %s\n", s.red(flow(text, s.Width, 2)))
	}
	for _, p := range r.Pages {
		b.WriteString("  " + flow(fmt.Sprintf("page %s: %s loaded, %s failed; %s until the last part", p.Path, count(p.Loaded), count(p.Failed), strings.Join(timesOf(r).percentiles(&p.Elapsed), ", ")), s.Width, 4) + "\n")
	}
	for _, name := range slices.Sorted(maps.Keys(r.Dependencies)) {
		d := r.Dependencies[name]
		text := fmt.Sprintf("dependency %s: %s, %s failed, %s busy, peak %s in flight", name, plural(d.Calls, "call"), count(d.Failed), pct(d.Busy), count(int64(d.PeakInFlight)))
		if d.Queued > 0 {
			text += fmt.Sprintf("; %s waited, %s on average", count(d.Queued), span(d.QueuedSeconds/float64(d.Queued)))
		}
		b.WriteString("  " + flow(text, s.Width, 4) + "\n")
	}
	if r.AskedAgain > 0 {
		fmt.Fprintf(b, "  repeated  %s   requests that clients asked again; %s given up\n", padLeft(count(r.AskedAgain), width), count(r.GivenUp))
	}
	if r.Resent > 0 {
		fmt.Fprintf(b, "  resent    %s   streams that clients reopened\n", padLeft(count(r.Resent), width))
	}
	if r.Failed > 0 {
		b.WriteString("  " + s.causes(r))
	}
}

// causes lists the causes of failures with their counts.
func (s Style) causes(r *result.Replay) string {
	var causes []string
	for _, e := range r.Errors.List() {
		if e.Requests > 0 {
			causes = append(causes, e.Cause.String()+" "+count(e.Requests))
		}
	}
	return "failed by cause: " + flow(strings.Join(causes, ", "), s.Width, 19) + "\n"
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
		that, was := conditionOf(&v)
		indent := wide + 13
		if indent > s.Width/2 {
			indent = 11
			fmt.Fprintf(b, "  %s  %s\n%s%s\n", word, v.Name, strings.Repeat(" ", indent), flow(that, s.Width, indent))
		} else {
			fmt.Fprintf(b, "  %s  %s  %s\n", word, padRight(v.Name, wide), flow(that, s.Width, indent))
		}
		if was != "" {
			b.WriteString(strings.Repeat(" ", indent) + flow(was, s.Width, indent) + "\n")
		}
	}
}

// conditionOf returns the condition of an expectation with its value in it, as in "result.failed 12 <= 9", where it compares
// one value of one replay; otherwise the condition, and its values in a text of their own.
func conditionOf(v *scenario.Verdict) (that, was string) {
	names := v.Names()
	if len(names) == 1 && v.Seeds <= 1 && strings.HasPrefix(v.That, names[0]+" ") {
		that = names[0] + " " + valueText(v.Values[names[0]]) + strings.TrimPrefix(v.That, names[0])
		if v.Close {
			that += "; close to the bound"
		}
		return that, ""
	}
	return v.That, values(v)
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
