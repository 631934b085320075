package report

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"kestrix/internal/core/study"
)

// LearnedScenario writes what was learned as a scenario, with how good each fit is in
// comments.
func LearnedScenario(l *study.Learned, names []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# Learned from %s by kestrix trace learn: %s.\n", strings.Join(names, ", "), plural(l.Records, "record"))
	for _, n := range l.Notes {
		b.WriteString(comment(n + "."))
	}
	b.WriteString("\nseed = 1\n")
	if x := l.Load; x != nil {
		learnedLoad(&b, x)
	}
	for i := range l.Services {
		learnedService(&b, &l.Services[i])
	}
	return b.String()
}

// comment breaks a text into lines of comment.
func comment(text string) string {
	return "# " + strings.ReplaceAll(flow(text, 88, 0), "\n", "\n# ") + "\n"
}

func learnedLoad(b *strings.Builder, x *study.LearnedLoad) {
	b.WriteString("\n" + comment(fmt.Sprintf("%s req/s for %s from %s. The gaps between requests vary %s times as much as their mean, where those of Poisson's vary once. The shape explains %s of the ups and downs.",
		three(x.Rate), span(x.For), plural(int64(x.Clients), "client"), three(x.Gaps), percent(x.ShapeFit))))
	if len(x.Paths) > 0 {
		b.WriteString(comment(fmt.Sprintf("The paths are those of %s of all requests, each with how often it came.", percent(x.PathsShare))))
	}
	fmt.Fprintf(b, "load {\n  rate       = \"%s/s\"\n  for        = %q\n  arrivals   = %q\n  shape      = %q\n  clients    = %d\n  popularity = %s\n",
		ungrouped(x.Rate), x.Lasts().String(), x.Arrivals, x.Shape, x.Clients, ungrouped(x.Popularity))
	if len(x.Paths) > 0 {
		b.WriteString("  paths = [\n")
		for _, p := range x.Paths {
			fmt.Fprintf(b, "    %q,\n", fmt.Sprintf("%s=%d", p.Line, p.Requests))
		}
		b.WriteString("  ]\n")
	}
	if x.Host != "" {
		fmt.Fprintf(b, "  host = %q\n", x.Host)
	}
	b.WriteString("}\n")
}

// ungrouped writes a number without separators.
func ungrouped(v float64) string { return strings.ReplaceAll(three(v), ",", "") }

// What is called good: a fit's distance, and how far a replay of it is from the record.
const (
	goodFit  = 0.05
	goodMean = 0.10
	goodP99  = 0.25
)

// verdict says how good what was learned is: by how many requests lie elsewhere than it has
// them, and how far mean and p99 are off.
func verdict(distance, mean, p99 float64) string {
	switch {
	case distance > 0.15 || mean > 2.5*goodMean || p99 > 2*goodP99:
		return "poor"
	case distance > goodFit || mean > goodMean || p99 > goodP99:
		return "fair"
	}
	return "good"
}

// learnedService writes how a service did, how a replay of what was learned does, and its
// behaviours: of the backends, and of the paths that take other times.
func learnedService(b *strings.Builder, s *study.LearnedService) {
	mean, p99 := s.Replayed.Off(&s.Recorded.LearnedTimes)
	fmt.Fprintf(b, "\n# %s: %s, as recorded and as a replay of what was learned has them\n", s.Pattern, plural(s.Requests, "request"))
	line := "#   %-8s  %10s  %10s  %10s  %10s  %10s\n"
	fmt.Fprintf(b, line, "", "mean", "p50", "p95", "p99", "in flight")
	for _, x := range []struct {
		what string
		run  *study.LearnedRun
	}{{"recorded", &s.Recorded}, {"replayed", &s.Replayed}} {
		fmt.Fprintf(b, line, x.what, span(x.run.Mean), span(x.run.P50), span(x.run.P95), span(x.run.P99), three(x.run.InFlight))
	}
	far := s.Distance
	if s.OthersFew() {
		far = 0 // hardly used
	}
	for i := range s.Paths {
		far = max(far, s.Paths[i].Distance)
	}
	found := verdict(far, mean, p99)
	text := fmt.Sprintf("%s: the mean is %s off, p99 %s.", found, percent(mean), percent(p99))
	if found == "poor" {
		text += " from_trace() with the trace says more."
	}
	b.WriteString(comment(text))
	workers := s.Workers
	if s.Queued {
		b.WriteString(comment(fmt.Sprintf("Requests waited for workers: up to %s were open at once, and %s explain how long they took.", count(int64(s.Open)), plural(int64(s.Workers*s.Backends), "worker"))))
	} else {
		b.WriteString(comment(fmt.Sprintf("No request was seen to wait for a worker, with up to %s open at once: how many there are does not show.", count(int64(s.Open)))))
		workers = max(workers, 16)
	}
	fit := fitText(&s.LearnedFit)
	if s.OthersFew() {
		fit = fmt.Sprintf("  # of all paths: %s came of others than those below\n", plural(s.Others, "request"))
	}
	fmt.Fprintf(b, "behaviour %q {\n%s  service = %s\n  workers = %d\n  connect = \"0s\" # it is in what was recorded\n}\n", s.Pattern, fit, s.Service().String(), workers)
	for i := range s.Paths {
		p := &s.Paths[i]
		fmt.Fprintf(b, "behaviour %q { # %s\n  path = [%q]\n%s  service = %s\n}\n", s.Pattern, plural(p.Requests, "request"), p.Path, fitText(&p.LearnedFit), p.Service().String())
	}
}

// fitText writes a fit beside what was recorded, as a comment in a block.
func fitText(f *study.LearnedFit) string {
	mean, p99 := f.Fitted.Off(&f.Worked)
	return fmt.Sprintf("  # %s fit: recorded mean %s, p99 %s; fitted %s, %s; %s of requests lie elsewhere\n", verdict(f.Distance, mean, p99), span(f.Worked.Mean), span(f.Worked.P99), span(f.Fitted.Mean), span(f.Fitted.P99), percent(f.Distance))
}

// LearnFigure draws recorded times beside the fits, of the three services or
// paths with the most requests. The kind is svg or png.
func LearnFigure(kind string, l *study.Learned) ([]byte, error) {
	type drawn struct {
		name     string
		requests int64
		fit      *study.LearnedFit
	}
	var shown []drawn
	for i := range l.Services {
		s := &l.Services[i]
		for k := range s.Paths {
			p := &s.Paths[k]
			shown = append(shown, drawn{s.Pattern + " " + p.Path, p.Requests, &p.LearnedFit})
		}
		shown = append(shown, drawn{s.Pattern, s.Others, &s.LearnedFit})
	}
	slices.SortStableFunc(shown, func(a, b drawn) int { return cmp.Compare(b.requests, a.requests) })
	var panels []*plot.Plot
	for i := range shown[:min(len(shown), 3)] {
		s := shown[i].fit
		if len(s.Curve) < 2 || s.Curve[0].Seconds <= 0 || s.Curve[0].Seconds == s.Curve[len(s.Curve)-1].Seconds {
			continue
		}
		p := panel(fmt.Sprintf("%s: recorded (whole) and %s (dashed), at most %s apart", shown[i].name, s.Service().String(), percent(s.Distance)), "a worker takes at most", "share, %")
		var recorded, fitted plotter.XYs
		for _, c := range s.Curve {
			recorded, fitted = append(recorded, plotter.XY{X: c.Seconds, Y: 100 * c.Recorded}), append(fitted, plotter.XY{X: c.Seconds, Y: 100 * c.Fitted})
		}
		line, err := steps(recorded, wholeAccent)
		if err != nil {
			return nil, err
		}
		fit, err := plotter.NewLine(fitted)
		if err != nil {
			return nil, err
		}
		fit.Color, fit.Width, fit.Dashes = ink.rgb(), vg.Points(1.2), []vg.Length{vg.Points(4), vg.Points(3)}
		p.Add(line, fit)
		p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, spanTicks{}
		p.Y.Min, p.Y.Max = 0, 101
		p.Y.Tick.Marker = plot.ConstantTicks([]plot.Tick{{Value: 0, Label: "0"}, {Value: 25, Label: "25"}, {Value: 50, Label: "50"}, {Value: 75, Label: "75"}, {Value: 95, Label: "95"}, {Value: 100}})
		panels = append(panels, p)
	}
	if len(panels) == 0 {
		return nil, errors.New("no service time was learned that could be drawn")
	}
	return drawPanels(kind, panels)
}
