package report

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/result"
	"kestrix/internal/core/study"
	"kestrix/internal/core/trace"
)

// DemoRow is one replay of the demo's story.
type DemoRow struct {
	Config   string
	Scenario string
	Result   *result.Replay
}

// Chapter returns the heading of a step of the demo.
func (s Style) Chapter(n int, title, text string) string {
	out := "\n" + s.bold(fmt.Sprintf("%d  %s", n, title)) + "\n"
	if text != "" {
		out += "  " + flow(text, s.Width, 2) + "\n"
	}
	return out
}

// Command returns a command as it would be typed.
func (s Style) Command(args []string) string {
	return "  " + s.bold("$ kestrix "+strings.Join(args, " ")) + "\n"
}

// DemoTrace returns what matters of a trace's summary, from its JSON. The error is that of reading it.
func (s Style) DemoTrace(text []byte) (string, error) {
	var t trace.Summary
	if err := json.Unmarshal(text, &t); err != nil {
		return "", err
	}
	line := fmt.Sprintf("%s from %s in %s", plural(t.Records, "request"), plural(int64(t.Clients), "client"), span(*t.Last-*t.First))
	if t.Rate != nil && t.Duration != nil {
		line += fmt.Sprintf("; mean %s req/s, peak %s req/s; p50 %s, p99 %s", three(t.Rate.Mean), three(t.Rate.Peak), span(t.Duration.P50), span(t.Duration.P99))
	}
	var rows [][]string
	for _, p := range t.TopPaths[:min(3, len(t.TopPaths))] {
		rows = append(rows, []string{p.Name, count(p.Requests), percent(float64(p.Requests) / float64(t.Records))})
	}
	return "  " + flow(line, s.Width, 2) + "\n" + s.table([]column{{name: "path", left: true}, {name: "requests"}, {name: "share"}}, rows, 4), nil
}

// DemoVerdict returns the verdict of a replay, from its JSON. The error is that of reading it.
func (s Style) DemoVerdict(text []byte) (string, error) {
	r := new(result.Replay)
	if err := json.Unmarshal(text, r); err != nil {
		return "", err
	}
	parts, bad := Replay{Result: r}.verdict()
	line := flow(strings.Join(parts, s.dot()), s.Width, 2)
	if bad {
		line = s.red(line)
	}
	return "  " + line + "\n", nil
}

// DemoReplay returns the verdict of a replay and the backends of its busiest upstream, from its JSON. The error is that of
// reading it.
func (s Style) DemoReplay(text []byte) (string, error) {
	verdict, err := s.DemoVerdict(text)
	r := new(result.Replay)
	if err := cmp.Or(err, json.Unmarshal(text, r)); err != nil {
		return "", err
	}
	busiest := slices.MaxFunc(sortedKeys(r.Upstreams), func(a, b string) int { return int(r.Upstreams[a].Requests - r.Upstreams[b].Requests) })
	u, t := r.Upstreams[busiest], timesOf(r)
	var rows [][]string
	for _, name := range sortedKeys(u.Backends) {
		b := u.Backends[name]
		out := "-"
		if b.SecondsOut > 0 {
			out = span(b.SecondsOut)
		}
		rows = append(rows, []string{s.bold(name), b.State, count(b.Requests), percent(b.Share), count(b.Failed), t.orDash(b.Elapsed.P99), out})
	}
	return verdict + s.table([]column{{name: "backend", left: true}, {name: "state", left: true}, {name: "requests"}, {name: "share"}, {name: "failed"}, {name: "elapsed p99"}, {name: "out"}}, rows, 4), nil
}

// DemoFindings returns the warnings of a check, from its JSON. The error is that of reading it.
func (s Style) DemoFindings(text []byte) (string, error) {
	var out struct {
		Findings []Finding `json:"findings"`
	}
	if err := json.Unmarshal(text, &out); err != nil {
		return "", err
	}
	var b strings.Builder
	for _, f := range out.Findings {
		if f.Severity == "warning" {
			fmt.Fprintf(&b, "  %s\n", flow(fmt.Sprintf("%s:%d:%d  %s %s  %s", f.File, f.Line, f.Column, s.warn(f.Severity), s.bold(f.ID), f.Message), s.Width, 4))
			fmt.Fprintf(&b, "    witness  %s\n", flow(f.Witness, s.Width, 13))
		}
	}
	return b.String(), nil
}

// DemoCompare returns the figures that matter of a comparison, from its JSON. The error is that of reading it.
func (s Style) DemoCompare(text []byte) (string, error) {
	c := new(study.Comparison)
	if err := json.Unmarshal(text, c); err != nil {
		return "", err
	}
	var rows [][]string
	for _, r := range c.Runs {
		name, failed := r.Name, count(int64(r.Figures.Failed))
		if r.Figures.Failed > 0 {
			failed = s.red(failed)
		}
		rows = append(rows, []string{s.bold(name), failed, span(r.Figures.ElapsedP99), three(r.Figures.Spread), fmt.Sprintf("%s–%s", count(int64(r.Low.Failed)), count(int64(r.High.Failed)))})
	}
	line := fmt.Sprintf("medians of %s", plural(int64(c.Seeds), "seed"))
	if len(c.Advice) > 0 {
		line += "; " + c.Advice[0].Say
	}
	return "  " + flow(line, s.Width, 2) + "\n" + s.table([]column{{name: "variant", left: true}, {name: "failed"}, {name: "elapsed p99"}, {name: "spread"}, {name: "range of failed"}}, rows, 4), nil
}

// DemoSweep returns the worst case and the headroom of a sweep, from its JSON. The error is that of reading it.
func (s Style) DemoSweep(text []byte) (string, error) {
	w := new(study.Sweep)
	if err := json.Unmarshal(text, w); err != nil {
		return "", err
	}
	return "  " + flow("worst case: "+worstOf(w), s.Width, 2) + "\n  " + flow(headroom(w, s.dot()), s.Width, 2) + "\n", nil
}

// DemoTable returns the demo's replays, a line each.
func (s Style) DemoTable(rows []DemoRow) string {
	return s.fitted(func(s Style) string { return s.demoTable(rows) })
}

func (s Style) demoTable(rows []DemoRow) string {
	var cells [][]string
	for _, r := range rows {
		failed := finePercent(r.Result.ErrorRate)
		if r.Result.Failed > 0 {
			failed = s.red(failed)
		}
		cells = append(cells, []string{
			s.bold(r.Config), r.Scenario, count(r.Result.Failed), failed, count(r.Result.Retried),
			timesOf(r.Result).of(r.Result.Elapsed.P99), count(r.Result.Sessions.Misses),
		})
	}
	return s.table([]column{
		{name: "configuration", left: true}, {name: "scenario", left: true, drop: 1}, {name: "failed"}, {name: "error rate"},
		{name: "retried", drop: 2}, {name: "elapsed p99"}, {name: "misses", drop: 4},
	}, cells, 2)
}
