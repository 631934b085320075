package report

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gonum.org/v1/plot"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/study"
)

func TestAxes(t *testing.T) {
	for high, want := range map[float64][]float64{
		0: {0, 1}, 1: {0, 0.25, 0.5, 0.75, 1}, 7: {0, 2, 4, 6, 8}, 38: {0, 10, 20, 30, 40}, 146: {0, 50, 100, 150}, 0.03: {0, 0.01, 0.02, 0.03},
	} {
		got := steps5(high)
		assert.InDeltaSlice(t, want, got, 1e-9, "%v", high)
		assert.LessOrEqual(t, high, got[len(got)-1]*1.001)
	}
	assert.InDeltaSlice(t, []float64{0.1, 0.2, 0.5, 1, 2}, decades(0.09, 2.1), 1e-9)
	assert.InDeltaSlice(t, []float64{0.001, 0.01, 0.1, 1}, decades(0.0009, 1.5), 1e-9, "only powers where the rest would be many")
	for v, want := range map[float64]string{0: "0", 0.25: "0.25", 40: "40", 12500: "12,500"} {
		assert.Equal(t, want, tick(v))
	}
}

func TestLinesAndBands(t *testing.T) {
	c := newChart(100, 0, 10)
	c.high = 10
	c.line([]point{{0, 5}, {2, math.NaN()}, {4, 10}, {6, 0}}, 10, wholeAccent)
	path := c.b.String()
	assert.Equal(t, 2, strings.Count(path, "M"), "a gap where there is nothing")
	assert.Contains(t, path, "M64 58H248.8", "each holds until the next")
	assert.InDelta(t, c.bottom, c.y(0), 1e-9)
	assert.InDelta(t, c.top, c.y(10), 1e-9)
	assert.InDelta(t, c.right, c.x(99), 1e-9, "nothing is drawn outside")
	c.log, c.low, c.high = true, 0.01, 100
	assert.InDelta(t, (c.top+c.bottom)/2, c.y(1), 1e-9)
	assert.InDelta(t, c.bottom, c.y(0.001), 1e-9)

	c = newChart(100, 0, 100)
	c.bands([]band{{10, 20, "first & <foremost>"}, {12, 30, "second"}, {14, 30, "third has no room"}, {90, 100, "at the right edge"}}, c.bottom)
	text := c.b.String()
	assert.Equal(t, 4, strings.Count(text, "<rect"))
	assert.Contains(t, text, ">first &amp; &lt;foremost&gt;</text>")
	assert.Contains(t, text, ">second</text>", "in a second row")
	assert.NotContains(t, text, ">third has no room</text>")
	assert.Contains(t, text, "<title>third has no room</title>", "but it can be read all the same")
	assert.Contains(t, text, ">at the right edge</text>")

	c = newChart(100, 0, 10)
	c.labels([]label{{50, "a", ""}, {52, "b", ""}, {49, "c", ""}})
	assert.Contains(t, c.b.String(), `y="54" class="">a<`)
	assert.Contains(t, c.b.String(), `y="41" class="">b<`, "moved apart")
	assert.Contains(t, string(c.SVG(`a "picture"`)), `aria-label="a &#34;picture&#34;"`)
	long := newChart(100, 0, 86400*30)
	long.times((&timeChart{until: 86400 * 30}).times(11))
	assert.LessOrEqual(t, strings.Count(long.b.String(), "<text"), 12, "a month has no more marks than a minute")
}

// TestPagesAndFiguresDrawTheSame: names, values, faults and colours of a chart.
func TestPagesAndFiguresDrawTheSame(t *testing.T) {
	p := replayed(t)
	for _, c := range []*timeChart{p.requestsOverTime(), p.latencyOverTime(), p.busiestOverTime()} {
		x, err := c.panel()
		require.NoError(t, err)
		figure, err := drawPanels("svg", []*plot.Plot{x})
		require.NoError(t, err)
		page := string(c.svg(230))
		_, _, marked := c.values()
		words := []string{"auk falls"}
		for _, v := range marked {
			words = append(words, c.value(v))
		}
		for _, s := range c.series {
			words = append(words, s.name)
			assert.Contains(t, page, s.look.name+`" d="M`, s.name)
			assert.Contains(t, strings.ToLower(string(figure)), s.look.light, s.name)
			assert.Contains(t, pageCSS, "--"+s.look.name+": "+s.look.light)
		}
		for _, w := range words {
			assert.Contains(t, page, ">"+w+"<")
			assert.Contains(t, string(figure), w+"</text>")
		}
	}
}

func TestWhatLosingOneCosts(t *testing.T) {
	much := 2.1
	for want, l := range map[string]study.LoadLimit{
		"2.00x (20.0 req/s) without a.auk; at 2.10x 3.00 % of the requests fail (0.00 % without the fault), elapsed p99 1.00 s (500 ms); 5 seeds": {Backend: "a.auk", Load: 2, TooMuch: &much, Rate: 20, Seeds: 5, Failed: 0.03, P99: 0.4, ElapsedP99: 1, Undisturbed: study.Undisturbed{P99: 0.4, ElapsedP99: 0.5}},
		"at least 64.0x (640 req/s) without a.auk, the highest load that was tried":                                                               {Backend: "a.auk", Load: 64, Rate: 640},
		"less than 0.25x without a.auk: too many requests fail at a quarter of the load":                                                          {Backend: "a.auk", TooMuch: &much},
	} {
		text, bad := limitOf(&l, false)
		assert.Equal(t, want, text)
		assert.Equal(t, l.Load == 0, bad)
	}
	text, bad := limitOf(&study.LoadLimit{Backend: "a.auk", Load: 0.5, TooMuch: &much}, true)
	assert.True(t, bad)
	assert.True(t, strings.HasPrefix(text, "perhaps over capacity at the load of the replay: "))
	much = 0.9
	text, _ = limitOf(&study.LoadLimit{Backend: "a.auk", Load: 0.5, TooMuch: &much}, true)
	assert.True(t, strings.HasPrefix(text, "over capacity at the load of the replay: "))

	w := &study.Sweep{Of: study.SweptRun{At: 90.5, Until: 150}}
	usual, never := study.SweepPart{P99: 0.05, ElapsedP99: 0.1}, 12.5
	for want, c := range map[string]study.SweepCase{
		"a.x (hang, from 01:30.5 for 10.0 s): 5 additional failed requests, 1 request in 20 during the fault; elapsed p99 200 ms instead of 100 ms":                                                                                                         {Name: "a.x", Kind: "hang", Seeds: 1, More: 5, MoreLow: 5, MoreHigh: 5, During: study.SweepPart{Failed: 5, ErrorRate: 0.05, P99: 0.05, ElapsedP99: 0.2}},
		"a.x, y or z (reset, from 01:30.5 for 10.0 s): 5 (3–9) additional failed requests (10 seeds), 1 request in 20 during the fault; elapsed p99 100 ms, as without the fault":                                                                           {Name: "a.x", Alike: []string{"a.y", "a.z"}, Kind: "reset", Seeds: 10, More: 5, MoreLow: 3, MoreHigh: 9, During: study.SweepPart{ErrorRate: 0.05, ElapsedP99: 0.1}},
		"x (slow, from 01:30.5 for 10.0 s): no additional failed requests, but requests take longer; elapsed p99 200 ms instead of 100 ms":                                                                                                                  {Name: "x", Kind: "slow", During: study.SweepPart{P99: 0.05, ElapsedP99: 0.2}},
		"x (park, from 01:30.5 for 10.0 s): no additional failed requests, and 1 session moves; elapsed p99 100 ms, as without the fault":                                                                                                                   {Name: "x", Kind: "park", SessionsMoved: 1, During: study.SweepPart{P99: 0.05, ElapsedP99: 0.1}},
		"x (park, from 01:30.5 for 10.0 s): no additional failed requests, and none takes noticeably longer; elapsed p99 100 ms, as without the fault":                                                                                                      {Name: "x", Kind: "park", During: study.SweepPart{P99: 0.05, ElapsedP99: 0.1}},
		"x (slow, from 01:30.5 for 10.0 s): 900 additional failed requests (10 seeds), 0.0 % of all requests during the fault; elapsed p99 100 ms, as without the fault; no recovery in the replay with 7 of 10 seeds: 900 of 1,000 requests after it fail": {Name: "x", Kind: "slow", More: 900, MoreLow: 900, MoreHigh: 900, Seeds: 10, Unrecovered: 7, Aftermath: result.Aftermath{Requests: 1000, Failed: 900}, During: study.SweepPart{ElapsedP99: 0.1}},
		"x (slow, from 01:30.5 for 10.0 s): no additional failed requests, but requests take longer; elapsed p99 5.00 s instead of 100 ms; no recovery in the replay: requests after it take longer":                                                        {Name: "x", Kind: "slow", Seeds: 1, Unrecovered: 1, Aftermath: result.Aftermath{Requests: 1000}, During: study.SweepPart{ElapsedP99: 5}},
		"x (hang, from 01:30.5 for 10.0 s): 9 additional failed requests, 100.0 % of all requests during the fault; elapsed p99 100 ms, as without the fault; 3 of 40 requests after it fail, recovered after 12.5 s":                                       {Name: "x", Kind: "hang", Seeds: 1, More: 9, MoreLow: 9, MoreHigh: 9, Aftermath: result.Aftermath{Requests: 40, Failed: 3, Until: &never}, During: study.SweepPart{ErrorRate: 1, ElapsedP99: 0.1}},
	} {
		c.At, c.Until, c.Otherwise = 90.5, 100.5, usual
		w.Worst = &c
		assert.Equal(t, want, worstOf(w))
	}
	// What is printed to be replayed can be.
	p := replayed(t)
	w.Worst = &study.SweepCase{Kind: "hang", Failed: []string{"app.auk", "app.gannet"}, At: 90.5, Until: 150}
	s, found, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte(faultText(w))}, p.Config)
	require.NoError(t, err)
	require.Empty(t, found)
	assert.Equal(t, []time.Duration{90500 * time.Millisecond, 150 * time.Second}, []time.Duration{s.Faults[0].At, s.Faults[0].Until})
	assert.Len(t, s.Faults[0].Backends, 2)
}
