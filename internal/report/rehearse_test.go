package report

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/study"
)

func number(v float64) *float64 { return &v }

// rehearsed is a small rehearsal in which some of it holds.
func rehearsed() *Rehearsal {
	outcome := func(failed int64, detected *float64) *result.Replay {
		r := &result.Replay{Requests: 1000, Answered: 1000 - failed, Failed: failed, Duration: 40, Timeline: result.Timeline{Bucket: 10}}
		r.Trace.Clients = 30
		for i := range 4 {
			r.Timeline.Rows = append(r.Timeline.Rows, result.TimelineRow{At: float64(10 * i), Answered: 250, Failed: failed / 4, Upstreams: map[string]map[string]result.TimelineBox{"app": {"auk": {Requests: int64(100 * i)}}}})
			r.Timeline.Coarse = append(r.Timeline.Coarse, result.CoarseRow{At: float64(10 * i), P95: 0.05 * float64(i+1)})
		}
		r.Upstreams = map[string]*result.Upstream{"app": {Requests: 1000, Order: []string{"auk"}, Backends: map[string]*result.Backend{"auk": {Share: 1}}}}
		r.Faults = []result.Fault{{Name: "it & <it>", Kind: "refuse", At: 10, Until: number(20), Began: true, Backends: []string{"app.auk"}, DetectedAfter: detected}}
		r.Health = []result.HealthChange{{At: 11.5, Upstream: "app", Backend: "auk", From: "up", To: "down", Why: "2 probes failed"}}
		r.Expectations = []scenario.Verdict{{Name: "few are lost", That: "result.failed < 100", Met: failed < 100}}
		return r
	}
	p := &Rehearsal{
		Names: []string{"site.hcl", "it.scenario.hcl"}, Scenario: scenario.None(), Prediction: outcome(40, number(1.5)), Rehearsal: outcome(120, number(1.502)), Speed: 1, KeptUp: true,
		Config:  &config.Config{Upstreams: []*config.Upstream{{Name: "app", Backends: []config.Backend{{Name: "auk"}}}}},
		Mapping: []MappedAddress{{"app.auk", "192.0.2.11:8080", "127.0.0.1:4711"}}, Left: []string{"frontend web is rehearsed in clear text"},
	}
	p.Prediction.Health = append(p.Prediction.Health, result.HealthChange{At: 22, Upstream: "app", Backend: "auk", From: "down", To: "up", Why: "2 probes passed"})
	p.Rehearsal.Health = append(p.Rehearsal.Health, result.HealthChange{At: 30, Upstream: "app", Backend: "auk", From: "down", To: "suspended", Why: "it failed"})
	p.Fidelity = study.Fidelity{Seeds: 8, Off: 2, Rows: []study.Held{
		{What: "failed", Unit: "count", Prediction: number(40), Rehearsal: number(120), Difference: number(80), Chance: number(12), Goal: 12},
		{What: "latency.p95", Unit: "seconds", Prediction: number(0.1), Rehearsal: number(0.09), Difference: number(-0.01), Chance: number(0.004), Goal: 0.015, WithinGoal: true},
		{What: "share", Of: "app.auk", Unit: "share", Prediction: number(0.5), Rehearsal: number(0.53), Difference: number(0.03), Chance: number(0.04), Goal: 0.02, WithinGoal: true},
		{What: "recovered_after", Of: "it", Unit: "seconds", Prediction: number(2), Goal: 1},
	}}
	return p
}

func TestPredictionAndRehearsalStandSideBySide(t *testing.T) {
	text := plainStyle.Rehearse(rehearsed())
	for _, want := range []string{
		"site.hcl · it.scenario.hcl · seed 0\n1,000 requests from 30 clients in 40.0 s, once in virtual time and once for real on this machine\n",
		"\nthe prediction does not hold in 2 of 4 figures\n",
		"  failed                      40        120         +80        ±12  off\n",
		"  p95                     100 ms    90.0 ms    -10.0 ms   ±4.00 ms  as predicted\n",
		"  app.auk share           50.0 %     53.0 %      +3.0 %     ±4.0 %  within chance\n",
		"  it recovered after      2.00 s      never           -          -  off\n",
		"  few are lost  met         not met    result.failed < 100\n",
		"  00:11.5  app.auk  down       2 probes failed; predicted for 00:11.5\n",
		"  00:20.0  fault    it & <it>  is over\n",
		"  00:30.0  app.auk  suspended  it failed; not predicted\n",
		"predicted and did not happen: app.auk up at 00:22.0\n",
		"  app.auk  192.0.2.11:8080  127.0.0.1:4711\n  frontend web is rehearsed in clear text\n",
	} {
		assert.Contains(t, text, want)
	}
	late := rehearsed()
	late.KeptUp, late.Late, late.Speed, late.Rehearsal.Partial = false, Late{0.01, 0.5, 1}, 4, true
	text = plainStyle.Rehearse(late)
	assert.Contains(t, text, "4.00 times as fast")
	assert.Contains(t, text, "stopped early: both are of what was sent until then")
	assert.Contains(t, text, "the driver did not keep up: requests were late by p50 10.0 ms")
	ascii := Style{Width: 80, Terminal: true}.Rehearse(rehearsed())
	for _, l := range strings.Split(ascii, "\n") {
		assert.LessOrEqual(t, visible(l), 80, l)
	}
	assert.NotContains(t, ascii, "±")
}

func TestThePageOfARehearsal(t *testing.T) {
	page, err := RehearsalPage(rehearsed(), "1")
	require.NoError(t, err)
	text := string(page)
	for _, want := range []string{
		`<h1 class="bad">The prediction does not hold in 2 of 4 figures</h1>`, "<td>app.auk share</td>", `<b>off</b>`, "within chance", "auk: req/s",
		"The prediction whole, the rehearsal dashed"[4:], "it &amp; &lt;it&gt;", "predicted and did not happen: app.auk up at 00:22.0", "<td>127.0.0.1:4711</td>",
	} {
		assert.Contains(t, text, want)
	}
	assert.Equal(t, 3, strings.Count(text, "<svg viewBox"), "failures, latencies and the one backend")
	assert.Equal(t, 3, strings.Count(text, `class="line s0"`))
	assert.Equal(t, 3, strings.Count(text, `class="line s1"`))
	for _, never := range []string{"<script", "<it>", "http"} {
		assert.NotContains(t, strings.ReplaceAll(text, "http-equiv", ""), never)
	}
}

func TestWhatCameOfADrive(t *testing.T) {
	r := &result.Replay{Requests: 1000, Answered: 990, Failed: 10, ErrorRate: 0.01, Duration: 10, Throughput: 99, Errors: cause.Counts{cause.Reset: 10}, Latency: result.Latency{P50: 0.01, P95: 0.02, P99: 0.03, Max: 1}}
	r.Trace.Clients, r.Sessions = 20, result.Sessions{Seen: 20, Misses: 1}
	r.Upstreams = map[string]*result.Upstream{
		"booking": {Order: []string{"auk"}, Backends: map[string]*result.Backend{"auk": {Requests: 600, Share: 1, Failed: 4, Latency: result.Latency{P50: 0.01, P95: 0.02, P99: 0.03}}}},
		"answers": {Order: []string{"skua"}, Backends: map[string]*result.Backend{"skua": {Requests: 300, Share: 1}}},
	}
	d := &Drive{Names: []string{"made.log"}, URL: "http://127.0.0.1:8080", Speed: 10, HTTP: "2", By: "X-Who", Result: r, Late: Late{0.0001, 0.002, 0.02}, Open: true, KeptUp: true}
	text := plainStyle.Drive(d)
	for _, want := range []string{
		"made.log · http://127.0.0.1:8080 · HTTP/2 · 10.0 times as fast\n1,000 requests in 10.0 s from 20 clients; 99.0 req/s answered\n",
		"clients 20, with another backend than before 1 time\n", "  failed by cause: reset 10\n", "\nbooking\n", "\nanswers by X-Who\n", "  skua          300  ████████████████████  100.0 %       0    -    -    -\n",
		"the driver kept up: requests were late by p50 100 µs, p99 2.00 ms\n",
	} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "without an answer")
	d.KeptUp, r.Partial, d.First = false, true, "the tide is out"
	text = plainStyle.Drive(d)
	assert.Contains(t, text, "the driver did not keep up")
	assert.Contains(t, text, "stopped early")
	assert.Contains(t, text, "\n  the first without an answer: the tide is out\n")
	d.Open, r.Upstreams = false, nil
	text = plainStyle.Drive(d)
	assert.NotContains(t, text, "the driver", "clients that wait for their answers are never late")
	assert.Contains(t, text, "no answer names its backend in a field X-Who")
	at := time.Date(2026, 11, 27, 3, 4, 5, 6e6, time.FixedZone("elsewhere", 3600))
	assert.Equal(t, "02:04:05.006Z  200   booking.auk             12.0 ms\n", plainStyle.DriveLine(at, 200, "booking.auk", "", 12*time.Millisecond))
	assert.Equal(t, "02:04:05.006Z  -     -                        1.00 s  connect timeout\n", plainStyle.DriveLine(at, 0, "", "connect_timeout", time.Second))
}

func TestWhyAPastRequestWentWhereItWent(t *testing.T) {
	at := time.Date(2026, 11, 27, 3, 4, 5, 0, time.UTC)
	stood := []PastBackend{{"auk", "up", "", 1, 3}, {"gannet", "suspended", "it is suspended", 2, 0}}
	text := plainStyle.Past(7, []PastMoment{
		{At: at, Upstream: "booking", Call: "choose", Reason: "queued", Backends: stood},
		{At: at.Add(20 * time.Millisecond), Call: "granted", Attempt: 1, Backend: "auk", Reason: "algorithm", Backends: stood},
		{At: at.Add(30 * time.Millisecond), Call: "settle", Outcome: "connection broken", Again: true},
		{At: at.Add(30 * time.Millisecond), Call: "choose", Reason: "no_backend", Backends: stood},
		{At: at.Add(40 * time.Millisecond), Call: "cancel", Outcome: "the client left"},
	}, false)
	for _, want := range []string{
		"request 7 · booking · 2026-11-27 03:04:05.000000 UTC\n", "  +0 s  waits in the queue: no backend has capacity\n", "  +20.0 ms  attempt 1 goes to auk, by algorithm\n",
		"      auk      up              1          3  chosen\n      gannet   suspended       2          0  it is suspended\n", "  +30.0 ms  connection broken: it is tried once more\n", "  +30.0 ms  refused: no_backend\n", "  +40.0 ms  the client left\n", "\nThis is what was written at the time. The beginning of the journal is gone",
	} {
		assert.Contains(t, text, want)
	}
}

// TestWhatWasLearnedIsAScenario reads back what is written.
func TestWhatWasLearnedIsAScenario(t *testing.T) {
	c, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte("frontend \"web\" {\n  listen = \"127.0.0.1:1\"\n  route \"all\" {\n    send_to = upstream.app\n  }\n}\nupstream \"app\" {\n  backends = {\n    auk = \"127.0.0.1:2\"\n  }\n}\n")}})
	require.NoError(t, err)
	require.Empty(t, found)
	l := &study.Learned{
		Records: 12345, Notes: []string{"3 records have no time"},
		Load: &study.LearnedLoad{Rate: 1234.5, For: 7200, Arrivals: "poisson", Gaps: 1, Shape: "day", ShapeFit: 0.9, Clients: 17, Popularity: 0.8, Paths: []study.LearnedPath{{Line: "/seats", Requests: 70}, {Line: "POST /bookings/{n}", Requests: 5}}, PathsShare: 0.9, Host: "tern.example"},
		Services: []study.LearnedService{
			{Pattern: "app.auk", Requests: 100, Others: 30, Backends: 1, Workers: 4, Queued: true, Open: 9, LearnedFit: study.LearnedFit{Kind: "lognormal", Mean: 0.0412345, CV: 0.61234, Distance: 0.01, Curve: []study.LearnedAt{{Seconds: 0.01}, {Seconds: 0.1, Recorded: 1, Fitted: 0.9}}},
				Paths: []study.LearnedPathFit{{Path: "/search/*", Requests: 70, LearnedFit: study.LearnedFit{Kind: "fixed", Mean: 3, Worked: study.LearnedTimes{Mean: 3, P99: 3}, Fitted: study.LearnedTimes{Mean: 3, P99: 2}}}}},
			{Pattern: "app.*", Requests: 50, Others: 50, Backends: 2, Workers: 3, LearnedFit: study.LearnedFit{Kind: "exponential", Mean: 2, Distance: 0.3}},
		},
	}
	text := LearnedScenario(l, []string{"today.jsonl"})
	s, found, err := scenario.Read(config.File{Name: "learned.scenario.hcl", Source: []byte(text)}, c)
	require.NoError(t, err)
	require.Empty(t, found, text)
	assert.Equal(t, []any{1235.0, 2 * time.Hour, "day", 17, "tern.example"}, []any{s.Load.Spec.Rate, s.Load.Spec.For, s.Load.Spec.Shape, s.Load.Spec.Clients, s.Load.Spec.Host}, text)
	assert.Equal(t, []float64{70, 5}, []float64{s.Load.Spec.Paths[0].Weight, s.Load.Spec.Paths[1].Weight})
	assert.Equal(t, config.Distribution{Kind: "lognormal", Mean: 41230 * time.Microsecond, CV: 0.612}, s.Behaviours[0].Service)
	assert.Equal(t, []int{4, 16}, []int{s.Behaviours[0].Workers, s.Behaviours[2].Workers}, "where none waited their number does not show")
	assert.Equal(t, []string{"/search/*"}, s.Behaviours[1].Paths)
	for _, want := range []string{"# fair fit: recorded mean 3.00 s, p99 3.00 s; fitted 3.00 s, 2.00 s; 0.0 % of requests lie elsewhere", "# 3 records have no time.", "good: the mean is", "poor: the mean is 0.0 % off, p99 0.0 %. from_trace() with the trace says more.", "does not show"} {
		assert.Contains(t, strings.ReplaceAll(text, "\n# ", " "), strings.TrimPrefix(want, "# "))
	}
	for want, x := range map[string][3]float64{ // distance, and how far mean and p99 are off
		"good": {0.05, 0.1, 0.25}, "fair": {0.05, 0.11, 0}, "fair ": {0.01, 0, 0.26}, " fair": {0.06, 0, 0}, "poor": {0.04, 0.73, 0.98}, "poor ": {0.16, 0, 0},
	} {
		assert.Equal(t, strings.TrimSpace(want), verdict(x[0], x[1], x[2]), want)
	}
	for _, kind := range []string{"svg", "png"} {
		drawn, err := LearnFigure(kind, l)
		require.NoError(t, err)
		assert.Greater(t, len(drawn), 1000)
	}
	_, err = LearnFigure("svg", &study.Learned{})
	assert.EqualError(t, err, "no service time was learned that could be drawn")
}
