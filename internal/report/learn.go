package report

import (
	"errors"
	"fmt"
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
	b.WriteString("\n" + comment(fmt.Sprintf("%s requests/s for %s from %s. The gaps between requests vary %s times as much as their mean, where those of Poisson's vary once. The shape explains %s of the ups and downs.",
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

// verdict says how good what was learned is.
func verdict(s *study.LearnedService) string {
	mean, p99 := s.Off()
	switch {
	case s.Distance > 0.15 || mean > 2.5*goodMean || p99 > 2*goodP99:
		return "poor: from_trace() with the trace says more"
	case s.Distance > goodFit || mean > goodMean || p99 > goodP99:
		return "fair"
	}
	return "good"
}

// runText words how requests fared.
func runText(r *study.LearnedRun) string {
	return fmt.Sprintf("mean %s, p50 %s, p95 %s, p99 %s, %s in flight on average", span(r.Mean), span(r.P50), span(r.P95), span(r.P99), three(r.InFlight))
}

func learnedService(b *strings.Builder, s *study.LearnedService) {
	mean, p99 := s.Off()
	b.WriteString("\n" + comment(fmt.Sprintf("%s. Recorded: %s. Replayed with the same arrivals and what was learned: %s. The mean is %s off, p99 %s; at most %s of requests lie elsewhere than the fit has them: %s.",
		capital(plural(s.Requests, "request")), runText(&s.Recorded), runText(&s.Replayed), percent(mean), percent(p99), percent(s.Distance), verdict(s))))
	workers := s.Workers
	if s.Queued {
		b.WriteString(comment(fmt.Sprintf("Requests waited for workers: up to %s were open at once, and so many workers explain how long they took.", count(int64(s.Open)))))
	} else {
		b.WriteString(comment(fmt.Sprintf("No request was seen to wait for a worker, with up to %s open at once: how many there are does not show.", count(int64(s.Open)))))
		workers = max(workers, 16)
	}
	fmt.Fprintf(b, "behaviour %q {\n  service = %s\n  workers = %d\n  connect = \"0s\" # it is in what was recorded\n}\n", s.Pattern, s.Service().String(), workers)
}

// LearnFigure draws recorded times beside the fits, of the three services with the
// most requests. The kind is svg or png.
func LearnFigure(kind string, l *study.Learned) ([]byte, error) {
	shown := append([]study.LearnedService{}, l.Services...)
	for i := range shown { // the most requests first, the others as they are
		for k := i + 1; k < len(shown); k++ {
			if shown[k].Requests > shown[i].Requests {
				shown[i], shown[k] = shown[k], shown[i]
			}
		}
	}
	var panels []*plot.Plot
	for i := range shown[:min(len(shown), 3)] {
		s := &shown[i]
		if len(s.Curve) < 2 || s.Curve[0].Seconds <= 0 || s.Curve[0].Seconds == s.Curve[len(s.Curve)-1].Seconds {
			continue
		}
		p := panel(fmt.Sprintf("%s: recorded (whole) and %s (dashed), at most %s apart", s.Pattern, s.Service().String(), percent(s.Distance)), "a worker takes at most", "share, %")
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
