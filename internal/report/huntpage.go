package report

import (
	"errors"
	"fmt"
	"html/template"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"kestrix/internal/core/result"
	"kestrix/internal/core/study"
)

// huntPage is what the page of a hunt shows, in words.
type huntPage struct {
	pageTop
	Search, Requests, Latency                      template.HTML
	SearchCaption, RequestsCaption, LatencyCaption string
	Sure, Cost, Scenario                           string
	Shrunk                                         []huntStep
	Others                                         []string
	Rows                                           []huntRow
}

type huntStep struct{ What, To, Replays string }

type huntRow struct {
	Faults, Kind, Tried, Broken, Nearest, Distance string
	Bad                                            bool
}

// HuntPage writes a hunt as a page of HTML that needs nothing besides itself: the search, the
// failure that was found and what it costs. The error is that of writing it, which a buffer does
// not have.
func HuntPage(h *study.Hunt, version string) ([]byte, error) {
	of := h.Of
	names := strings.Join(of.Names, " · ")
	v := huntPage{pageTop: top(names+" · kestrix hunt", version)}
	v.Of = fmt.Sprintf("%s · seed %d · %s in %s", names, of.Seed, plural(of.Requests, "request"), span(of.Duration))
	v.Headline, v.Bad = capital(huntHeadline(h)), h.Found != nil
	v.Notes = append([]string{capital(huntCost(h)) + "."}, h.Notes...)
	v.Notes = append(v.Notes, Style{Width: 1 << 20}.noteLines(&result.Replay{Trace: of.Trace})...)
	if h.Partial {
		v.Notes = append(v.Notes, "Stopped early: the result is partial.")
	}
	v.Assumed = assumptions(of.Assumed)
	if v.Search = searchChart(h); v.Search != "" {
		v.SearchCaption = "Each mark is a replay, at the distance from the bound of the expectation that is nearest to it. Circle: one failure, square: two, triangle: three. Above the line the expectation is not met."
	}
	if w := h.Found; w != nil {
		v.Sure, v.Cost = capital(brokenText(w)+": "+w.That)+".", capital(costText(h, w))+"."
		v.Scenario = w.Scenario
		for i, x := range w.Shrunk {
			if i == 0 {
				v.Shrunk = append(v.Shrunk, huntStep{"found", huntFailure(&x.From), ""})
			}
			v.Shrunk = append(v.Shrunk, huntStep{x.What, huntFailure(&x.To), count(int64(x.Replays))})
		}
		if r := (Replay{Result: h.FoundReplay}); h.FoundReplay != nil && len(h.FoundReplay.Timeline.Rows) > 1 {
			v.Requests, v.RequestsCaption = r.requestsChart()
			v.Latency, v.LatencyCaption = r.latencyChart()
		}
	}
	for i := range h.Others {
		v.Others = append(v.Others, capital(huntFailure(&h.Others[i].Failure)+": "+brokenText(&h.Others[i])))
	}
	for _, x := range h.Tried {
		v.Rows = append(v.Rows, huntRow{count(int64(x.Faults)), x.Kind, count(int64(x.Tried)), count(int64(x.Broken)), x.Nearest, pastText(x.PastMost), x.Broken > 0})
	}
	return render("hunt", &v)
}

// mostShots is how many tried failures are drawn: more hide each other.
const mostShots = 3000

// searchChart draws how near to a bound each tried failure came, in the order of the replays.
func searchChart(h *study.Hunt) template.HTML {
	shots := h.Shots[:min(len(h.Shots), mostShots)]
	if len(shots) == 0 {
		return ""
	}
	c := newChart(260, 0, float64(shots[len(shots)-1].Replay))
	c.top, c.high = c.top-bandRow, 1
	for _, x := range []struct {
		at   float64
		text string
	}{{-1, "100 %"}, {-0.5, "50 %"}, {0, "bound"}, {0.5, "+50 %"}, {1, "+100 %"}} {
		class := "rule"
		if x.at == 0 {
			class = "axis"
		}
		c.rule(c.left, c.y((x.at+1)/2), c.right, c.y((x.at+1)/2), class)
		c.text(c.left-7, c.y((x.at+1)/2)+4, "e soft", x.text)
	}
	broken := 0
	for _, s := range shots {
		class := accent.name
		if s.Broken {
			class = warn.name
			broken++
		}
		title := fmt.Sprintf("replay %s, %s: %s with %s, %s", count(int64(s.Replay)), s.Phase, s.Kind, plural(int64(s.Faults), "failure"), pastText(s.Past))
		c.b.WriteString(shape(min(max(s.Faults, 1), 3)-1).svg(c.x(float64(s.Replay)), c.y((s.Past+1)/2), class, title))
	}
	c.text(c.right+6, c.y(0.75), "soft", "not met")
	c.text(c.right+6, c.y(0.25), "soft", "met")
	var marks []mark
	for _, v := range steps5(c.until) {
		if v <= c.until {
			marks = append(marks, mark{v, count(int64(v))})
		}
	}
	c.times(marks)
	return c.SVG(fmt.Sprintf("Distance from the bound of %s, of which %s not met", plural(int64(len(shots)), "replay"), count(int64(broken))))
}

// HuntFigure draws the search, and the failure that was found. The kind is svg or png.
func HuntFigure(kind string, h *study.Hunt) ([]byte, error) {
	if len(h.Shots) == 0 {
		return nil, errors.New("nothing was tried, so that there is nothing to draw")
	}
	p := panel(strings.Join(h.Of.Names, ", ")+": "+plural(int64(len(h.Shots)), "replay"), "replays", "distance from the bound, %")
	p.Y.Min, p.Y.Max = -100, 100
	for _, x := range []struct {
		name   string
		look   colour
		broken bool
		shape  shape
	}{{"met", accent, false, circle}, {"not met", warn, true, triangle}} {
		var points plotter.XYs
		for _, s := range h.Shots {
			if s.Broken == x.broken {
				points = append(points, plotter.XY{X: float64(s.Replay), Y: 100 * s.Past})
			}
		}
		if len(points) == 0 {
			continue
		}
		marks, err := plotter.NewScatter(points)
		if err != nil {
			return nil, err
		}
		marks.Color, marks.Shape, marks.Radius = x.look.rgb(), x.shape.glyph(), vg.Points(2)
		p.Add(marks)
		p.Legend.Add(x.name, marks)
	}
	p.Legend.Padding = vg.Points(3)
	p.Legend.TextStyle.Font, p.Legend.TextStyle.Color = p.X.Tick.Label.Font, ink.rgb()
	panels := []*plot.Plot{p}
	if r := (Replay{Result: h.FoundReplay}); h.FoundReplay != nil && len(h.FoundReplay.Timeline.Rows) > 1 {
		c := r.requestsOverTime()
		c.title = "the failure found: " + clip(huntFailure(&h.Found.Failure), 90)
		requests, err := c.panel()
		if err != nil {
			return nil, err
		}
		panels = append(panels, requests)
		if took := r.latencyOverTime(); took != nil {
			x, err := took.panel()
			if err != nil {
				return nil, err
			}
			panels = append(panels, x)
		}
	}
	return drawPanels(kind, panels)
}
