package report

import (
	"bytes"
	"context"
	"fmt"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/replay"
	"kestrix/internal/core/study"
	"kestrix/internal/core/trace"
)

func compared(t *testing.T) Compared {
	p := replayed(t)
	ways, left, err := study.Variants([]study.Subject{{Name: "tern.hcl", Config: p.Config, Scenario: p.Scenario}}, study.Axes{Algorithms: []string{"round-robin", "ring", "first-fit"}})
	require.NoError(t, err)
	c, err := study.SideBySide(context.Background(), ways, nil, nil, replay.Options{Seed: 1}, 10, nil, nil)
	require.NoError(t, err)
	c.LeftOut = left
	out := Compared{Names: []string{"tern.hcl"}, Ways: ways, Result: c}
	c.Advice = out.Advise()
	return out
}

func swept(t *testing.T) *study.Sweep {
	p := replayed(t)
	p.Scenario.Faults = nil
	w, err := study.RunSweep(context.Background(), p.Config, p.Scenario, nil, study.SweepOptions{Names: []string{"tern.hcl"}, Kinds: []string{"refuse", "hang"}, Pairs: true, TooMuch: 0.01, Replay: replay.Options{Seed: 1}})
	require.NoError(t, err)
	return w
}

func TestThePageOfAHunt(t *testing.T) {
	failure := study.Failure{LoadFactor: 1.3, Faults: []study.HuntFault{
		{Kind: "slow", Targets: []string{"app.auk"}, At: 61.5, Until: 91.5, Factor: 4.5}, {Kind: "errors", Targets: []string{"app.gannet", "app.petrel"}, At: 70, Until: 72, Rate: 0.25},
		{Kind: "flap", Targets: []string{"proxy 2"}, Until: 0.5, FailsFor: 0.2, WorksFor: 2},
	}}
	words := "app.auk (slow 4.5x, from 01:01.5 for 30.0 s) with app.gannet and app.petrel (errors 25.00 %, from 01:10.0 for 2.00 s) with proxy 2 (flap, down 200 ms and up 2.00 s, from 00:00.0 for 500 ms) with 1.3x the load"
	assert.Equal(t, words, huntFailure(&failure))
	w := study.Weakness{Failure: failure, Expectation: "few <fail>", That: "result.failed == 0", Broken: 8, Needed: 8, Seeds: 9, FailedMore: 12, MoreLow: 3, MoreHigh: 40, ErrorRate: 0.01, ElapsedP99: 1.5, CalmP99: 0.25, Scenario: "seed = 1\n", Shrunk: []study.ShrinkStep{{What: "milder", From: failure, To: failure, Replays: 7}}}
	p := replayed(t)
	h := &study.Hunt{
		Of:    study.HuntRun{Names: []string{"tern.hcl"}, Requests: 100, Duration: 60, Kinds: []string{"slow"}, Targets: 2, Equal: 1, LoadFactor: 1.5, Faults: 3, Tries: 1000, Longest: 60},
		Found: &w, FoundReplay: p.Result, Others: []study.Weakness{w}, Replays: 900, Partial: true, Tried: []study.HuntTried{{Faults: 2, Kind: "slow", Tried: 9, Broken: 1, Nearest: "few <fail>", PastMost: 0.5}, {Faults: 1, Kind: "load", Tried: 9, Nearest: "few <fail>", PastMost: -0.25}},
		Shots: []study.HuntShot{{Replay: 1, Phase: "search", Faults: 1, Kind: "slow", Past: -0.5}, {Replay: 2, Phase: "confirm", Faults: 3, Kind: "slow", Past: 0.5, Broken: true}},
	}
	page, err := HuntPage(h, "1")
	require.NoError(t, err)
	text := onItsOwn(t, page)
	for _, want := range []string{"<h1 class=\"bad\">The smallest failure found: app.auk (slow 4.5x", "few &lt;fail&gt;", "<title>replay 2, confirm: slow with 3 failures, +50 %</title>", "12 (3 to 40) additional failed requests", "Stopped early", "<td>milder</td>", "<pre>seed = 1"} {
		assert.Contains(t, text, want)
	}
	plain := strings.Join(strings.Fields(plainStyle.Hunt(h, "")), " ")
	for _, want := range []string{"breaks \"few <fail>\"", "is not met with 8 of 9 fresh seeds; 8 are needed (result.failed == 0)", "milder: app.auk", "+50 %", "25 %", "seed = 1", "900 of 1,000 replays", "the result is partial"} {
		assert.Contains(t, plain, want)
	}
	for _, kind := range []string{"svg", "png"} {
		_, err := HuntFigure(kind, h)
		require.NoError(t, err)
	}
	h.Found, h.FoundReplay, h.Others = nil, nil, nil
	assert.Contains(t, plainStyle.Hunt(h, "x"), "this is no proof that there is none")
	assert.Contains(t, plainStyle.Hunt(&study.Hunt{}, ""), "stopped before the first failure was tried")
	_, err = HuntFigure("png", &study.Hunt{})
	assert.Error(t, err)
}

func TestThePageOfAComparison(t *testing.T) {
	p := compared(t)
	page, err := ComparePage(p, "1")
	require.NoError(t, err)
	text := onItsOwn(t, page)
	require.NotEmpty(t, p.Result.Advice)
	assert.Contains(t, text, "<h1>"+capital(p.Result.Advice[0].Say))
	assert.Contains(t, text, "first-fit was not compared")
	for _, r := range p.Result.Runs {
		assert.Contains(t, text, "<b>"+r.Name+"</b>")
		assert.Contains(t, text, fmt.Sprintf("<title>p99 %s</title>", span(r.Figures.P99)), "what is drawn is what was measured")
		assert.Contains(t, text, ">"+count(int64(r.Figures.Failed))+"</text>")
	}
	plain := plainStyle.Compare(p)
	assert.Contains(t, plain, "round-robin (now)")
	assert.Contains(t, plain, "no other variant is better beyond chance")
}

func TestThePageOfASweep(t *testing.T) {
	w := swept(t)
	page, err := SweepPage(w, "1")
	require.NoError(t, err)
	text := onItsOwn(t, page)
	assert.Contains(t, text, "<h1 class=\"bad\">Worst case: app.auk and app.gannet")
	for _, c := range w.Cases {
		assert.Contains(t, text, fmt.Sprintf("<b>%s</b></td><td>%s</td>", caseName(&c), c.Kind))
	}
	assert.Contains(t, text, "hang: the backend accepts connections and never answers")
	plain := plainStyle.Sweep(w)
	assert.Contains(t, plain, flow("worst case: "+worstOf(w), 110, 2))
	assert.Contains(t, plain, headroomTitle)
	w.Partial = true
	assert.Contains(t, plainStyle.Sweep(w), "stopped early: figures are partial, 4 of 4 cases")
	assert.Contains(t, plainStyle.Sweep(&study.Sweep{}), "stopped before the first fault")
	assert.Equal(t, "1 request in 12", oneIn(0.083))
	assert.Equal(t, "85.5 % of all requests", oneIn(0.8545))
}

func TestThePageOfATrace(t *testing.T) {
	d := trace.NewDescriber()
	for i := range 200 {
		r := trace.Record{Time: 1_790_000_000e9 + int64(i)*3e8, Client: []byte("192.0.2.1"), Method: []byte("GET"), Path: []byte("/<seats>"), Status: 200, Bytes: 100, Duration: 5e7}
		d.Add(&r)
	}
	sum := d.Summary()
	sum.Format = "combined"
	page, err := TracePage("morning.log", &sum, "1")
	require.NoError(t, err)
	text := onItsOwn(t, page)
	assert.Contains(t, text, "<h1>200 records from 1 client</h1>")
	assert.Contains(t, text, "<td>/&lt;seats&gt;</td><td class=\"n\">200</td>")
	page, err = TracePage("empty", &trace.Summary{}, "1")
	require.NoError(t, err)
	assert.Contains(t, string(page), "Durations are not recorded")
}

func TestFiguresAreDrawn(t *testing.T) {
	p, c, w := replayed(t), compared(t), swept(t)
	for name, draw := range map[string]func(kind string) ([]byte, error){
		"replay":  func(kind string) ([]byte, error) { return ReplayFigure(kind, p) },
		"compare": func(kind string) ([]byte, error) { return CompareFigure(kind, c) },
		"sweep":   func(kind string) ([]byte, error) { return SweepFigure(kind, w) },
	} {
		picture, err := draw("png")
		require.NoError(t, err, name)
		img, err := png.Decode(bytes.NewReader(picture))
		require.NoError(t, err, name)
		assert.Equal(t, 1280, img.Bounds().Dx(), name)
		svg, err := draw("svg")
		require.NoError(t, err, name)
		again, err := draw("svg")
		require.NoError(t, err, name)
		assert.Equal(t, svg, again, "%s: the same bytes each time", name)
		for _, want := range map[string][]string{"replay": {"auk falls", "p99", "gannet"}, "compare": {"round-robin (now)", "ring", count(int64(c.Result.Runs[0].Figures.Failed))}, "sweep": {"app.auk and app.gannet, hang", count(int64(w.Cases[0].More))}}[name] {
			assert.Contains(t, string(svg), want, name)
		}
		_, err = draw("gif")
		require.Error(t, err)
	}
	_, err := SweepFigure("png", &study.Sweep{})
	require.Error(t, err)
}
