package report

import (
	"bytes"
	"context"
	"fmt"
	"image/png"
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
