package replay

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
	"kestrix/internal/core/sim"
	"kestrix/internal/core/trace"
)

// loaded replays a scenario that makes its own requests.
func loaded(t *testing.T, c *config.Config, sc string, o Options) *result.Replay {
	r, err := Run(context.Background(), c, scenarioOf(t, c, sc), nil, o)
	require.NoError(t, err)
	conserved(t, r)
	return r
}

const probe10 = "probe \"tcp\" {\n every = \"10s\"\n timeout = \"1s\"\n down_after = 1\n up_after = 1\n}\n"

func TestOpenLoadsComeWhateverIsAnswered(t *testing.T) {
	c := pool(t, 3, "round-robin", "")
	r := loaded(t, c, "load {\n rate = \"50/s\"\n for = \"20s\"\n arrivals = \"even\"\n clients = 40\n}\n", Options{Seed: 2})
	assert.EqualValues(t, 1000, r.Requests)
	assert.EqualValues(t, 334, r.Upstreams["app"].Backends["b0"].Requests, "in turn")
	assert.LessOrEqual(t, r.Trace.Clients, int64(40))
	assert.Nil(t, r.Trace.First, "it has no time of day")
	part, err := trace.ParseMoment("5s")
	require.NoError(t, err)
	r = loaded(t, c, "load {\n rate = \"50/s\"\n for = \"20s\"\n arrivals = \"even\"\n}\n", Options{Seed: 2, Part: trace.Span{Until: part}})
	assert.EqualValues(t, 250, r.Requests)
	assert.InDelta(t, 5, r.Duration, 1e-9)
	assert.Positive(t, r.Unfinished, "what is open when the clock stops")
	_, err = Run(context.Background(), c, scenarioOf(t, c, "load {\n rate = \"50/s\"\n}\n"), source("x"), Options{})
	assert.ErrorContains(t, err, "a trace has no place beside it")
}

// Clients that are turned away at once still take the time to hear of it, so
// that a closed load ends.
func TestClosedLoadsEnd(t *testing.T) {
	c := pool(t, 1, "round-robin", probe10)
	r := loaded(t, c, "load {\n requests = 5000\n concurrency = 10\n}\nfault \"f\" {\n backend = \"app.b0\"\n kind = \"refuse\"\n at = \"0s\"\n}\n", Options{})
	assert.EqualValues(t, 5000, r.Failed)
	assert.GreaterOrEqual(t, r.Duration, 0.4)
	part, err := trace.ParseMoment("100ms")
	require.NoError(t, err)
	r = loaded(t, c, "load {\n requests = 5000\n concurrency = 10\n}\nbehaviour \"*\" {\n service = \"9ms\"\n}\n", Options{Part: trace.Span{Until: part}})
	assert.EqualValues(t, []int64{110, 100, 10}, []int64{r.Requests, r.Answered, r.Unfinished}, "ten at a time, each nine milliseconds, and one more to connect at first")
}

func TestStreamsOfAScenario(t *testing.T) {
	text := strings.ReplaceAll(even(10, time.Second, 5), "/seats", "/live/x?y")
	streams := func(more string) string {
		return "streams {\n path = \"/live/**\"\n lasts = \"30s\"\n" + more + "\n}\n"
	}
	c := pool(t, 2, "round-robin", "timeouts {\n idle = \"5s\"\n}\n"+probe10)
	r := run(t, c, streams(""), text, Options{})
	assert.EqualValues(t, 10, r.Answered)
	assert.InDelta(t, 39.001, r.Duration, 1e-6)
	assert.InDelta(t, 0.001, r.Latency.Max, 1e-6, "its client waits for its beginning")
	r = run(t, c, streams("quiet = \"10s\""), text, Options{})
	assert.EqualValues(t, 10, r.Errors[cause.IdleTimeout], "the idle timeout is shorter than the silence")
	assert.InDelta(t, 14.001, r.Duration, 1e-6)

	dies := "fault \"f\" {\n backend = \"app.b0\"\n kind = \"refuse\"\n at = \"12s\"\n until = \"100s\"\n}\n"
	r = run(t, c, streams("")+dies, text, Options{})
	assert.EqualValues(t, []int64{5, 5, 0}, []int64{r.Answered, r.Errors[cause.BrokenStream], r.Resent})
	r = run(t, c, streams("resend = true")+dies, text, Options{})
	assert.GreaterOrEqual(t, r.Resent, int64(5))
	assert.EqualValues(t, 10, r.Answered, "those that broke go on elsewhere")
	assert.InDelta(t, 39.001, r.Duration, 1e-6, "for as long as they would have lasted")

	// A silent backend: streams go on when it speaks again before the idle timeout.
	hangs := func(until string) string {
		return "fault \"f\" {\n backend = \"app.*\"\n kind = \"hang\"\n at = \"12s\"\n until = " + fmt.Sprintf("%q", until) + "\n}\n"
	}
	r = run(t, c, streams("")+hangs("16s"), text, Options{})
	assert.EqualValues(t, 10, r.Answered)
	r = run(t, c, streams("")+hangs("18s"), text, Options{})
	assert.EqualValues(t, 10, r.Errors[cause.IdleTimeout])
	assert.InDelta(t, 17, r.Duration, 1e-6)
	one := "{\"time\":1000,\"path\":\"/x\"}\n{\"time\":1014,\"path\":\"/live/x\"}\n"
	r = run(t, pool(t, 1, "round-robin", "timeouts {\n answer = \"20s\"\n}\n"), streams("")+hangs("16s"), one, Options{})
	assert.EqualValues(t, 1, r.Errors[cause.AnswerTimeout], "one that came while it hung is never answered")
	assert.InDelta(t, 34.001, r.Duration, 1e-6)
	slow := "fault \"f\" {\n backend = \"app.*\"\n kind = \"slow\"\n at = \"1s\"\n until = \"2s\"\n}\n"
	r = run(t, c, streams("quiet = \"10s\"")+slow, text, Options{})
	assert.EqualValues(t, 10, r.Errors[cause.IdleTimeout], "the end of another fault changes nothing about silence")
	sick := "fault \"f\" {\n backend = \"app.*\"\n kind = \"errors\"\n status = 404\n at = \"0s\"\n}\n"
	r = run(t, c, streams("")+sick, text, Options{})
	assert.InDelta(t, 0.001, r.Latency.Max, 1e-6, "a stream that is answered with a status ends with it")
	short := strings.ReplaceAll(text, `"protocol":"http"`, `"protocol":"stream","duration":6`)
	r = run(t, c, "fault \"f\" {\n backend = \"app.*\"\n kind = \"hang\"\n at = \"12s\"\n until = \"16500ms\"\n}\n", short, Options{})
	assert.EqualValues(t, 10, r.Answered)
	assert.InDelta(t, 16.5, r.Duration, 1e-6, "what would have ended meanwhile ends when it speaks")
}

// TestProxiesSideBySide: each has its own view, its own probes and its share of
// the clients.
func TestProxiesSideBySide(t *testing.T) {
	c := pool(t, 3, "round-robin", probe10+"sticky {\n by = \"cookie\"\n}\n")
	sc := "instances = 4\nfault \"f\" {\n backend = \"app.b0\"\n kind = \"refuse\"\n at = \"30s\"\n until = \"60s\"\n}\n"
	text := even(6000, 20*time.Millisecond, 200)
	seen := map[uint64]int{}
	r := run(t, c, sc, text, Options{Observe: func(d sim.Decision) { seen[d.Request] = d.Instance }})
	byProxy := map[int]int{}
	for _, i := range seen {
		byProxy[i]++
	}
	assert.Len(t, byProxy, 4)
	downs := map[int]float64{}
	for _, h := range r.Health {
		if h.To == "down" {
			downs[h.Instance] = h.At
		}
	}
	require.Len(t, downs, 4, "every proxy finds out by itself")
	last := 0.0
	moments := map[float64]bool{}
	for _, at := range downs {
		last = max(last, at)
		moments[at] = true
	}
	assert.Len(t, moments, 4, "and at a moment of its own")
	assert.InDelta(t, last-30, *r.Faults[0].DetectedAfter, 1e-9, "it is out when the last has seen it")
	assert.EqualValues(t, 200, r.Sessions.Seen)
	assert.Less(t, r.Sessions.Moved, int64(200), "a cookie of one proxy is good at the others")
	assert.Equal(t, 4, r.Model.Instances)
	one := run(t, c, sc, text, Options{Instances: 1})
	assert.Zero(t, one.Health[0].Instance)
}

func TestFlapsAndLies(t *testing.T) {
	c := pool(t, 2, "round-robin", probe10)
	flap := "fault \"f\" {\n backend = \"app.b0\"\n kind = \"flap\"\n at = \"10s\"\n until = \"39s\"\n fails_for = \"2s\"\n works_for = \"8s\"\n}\n"
	r := run(t, pool(t, 1, "round-robin", ""), "behaviour \"*\" {\n service = \"1ms\"\n}\n"+flap, even(500, 100*time.Millisecond, 1), Options{})
	assert.EqualValues(t, 60, r.Errors[cause.Refused], "three turns of two seconds at ten a second")
	lies := "fault \"f\" {\n backend = \"app.b0\"\n kind = \"probe-lies\"\n at = \"10s\"\n until = \"40s\"\n}\n"
	r = run(t, c, lies, even(500, 100*time.Millisecond, 1), Options{})
	assert.EqualValues(t, 150, r.Errors[cause.Status5xx])
	assert.Empty(t, r.Health)
	http := strings.Replace(probe10, "tcp", "http", 1)
	http = strings.Replace(http, "{", "{\n path = \"/\"", 1)
	r = run(t, pool(t, 2, "round-robin", http), strings.Replace(lies, "probe-lies", "errors", 1), even(500, 100*time.Millisecond, 1), Options{})
	assert.Less(t, r.Errors[cause.Status5xx], int64(60), "an honest probe sees it")
}

// TestNamesStandForSeveral: what a name stands for is said, since none is looked
// up.
func TestNamesStandForSeveral(t *testing.T) {
	text := strings.Replace(poolText(2, "round-robin", "resolve = \"each\""), "b1 = \"127.0.0.1:10001\"", "pool = \"app.tern.example:80\"", 1)
	c, found, err := config.Read([]config.File{{Name: "p.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	require.Empty(t, found)
	r := run(t, c, "members \"app.pool\" {\n count = 3\n}\nfault \"f\" {\n backend = \"app.pool-*\"\n kind = \"park\"\n at = \"5s\"\n}\n", even(400, 10*time.Millisecond, 1), Options{})
	require.Len(t, r.Upstreams["app"].Backends, 4)
	assert.EqualValues(t, 100, r.Upstreams["app"].Backends["pool-192.0.2.2"].Requests)
	assert.Len(t, r.Faults[0].Backends, 3)
	r = run(t, c, "", even(400, 10*time.Millisecond, 1), Options{})
	assert.EqualValues(t, 200, r.Upstreams["app"].Backends["pool"].Requests, "otherwise one")
}

func TestWhatTheTraceTellsOfTimesAndFailures(t *testing.T) {
	text := "{\"time\":1000.5,\"path\":\"/\",\"duration\":0.5,\"status\":503}\n{\"time\":1001,\"path\":\"/\",\"duration\":0.25,\"status\":200}\n"
	c := pool(t, 1, "round-robin", "")
	r := run(t, c, "", text, Options{})
	assert.EqualValues(t, 2, r.Answered)
	assert.InDelta(t, 0.75, r.Duration, 1e-9)
	r = run(t, c, "", text, Options{Stamp: "end", Spread: "none"})
	assert.InDelta(t, 1, r.Duration, 1e-9, "they began at 1000 and 1000.75")
	// Where some lines do not say how long they took, all keep their order: of 800 in a
	// second, at 1 ms each, few are open at once.
	mixed := ""
	for i := range 800 {
		mixed += `10.0.0.9 - - [23/Nov/2026:06:55:08 +0000] "GET / HTTP/1.1" 200 7 "-" "a"` + []string{"", " 0.0125"}[i%2] + "\n"
	}
	r = run(t, c, "behaviour \"*\" {\n service = fixed(\"1ms\")\n}\n", mixed, Options{Stamp: "end"})
	assert.Less(t, r.Upstreams["app"].Backends["b0"].PeakInFlight, 12)
	assert.InDelta(t, 1, r.Duration, 0.05)
	r = run(t, c, "", text, Options{Recorded: true})
	assert.EqualValues(t, []int64{1, 1}, []int64{r.Answered, r.Errors[cause.Status5xx]})
	from, err := trace.ParseMoment("400ms")
	require.NoError(t, err)
	r = run(t, c, "", text, Options{Part: trace.Span{From: from}})
	assert.EqualValues(t, 1, r.Requests)
	_, err = Run(context.Background(), c, scenarioOf(t, c, ""), source(text), Options{Part: trace.Span{From: func() trace.Moment { m, _ := trace.ParseMoment("1h"); return m }()}})
	assert.ErrorContains(t, err, "no record lies in the part")
}

func TestAnOverloadIsToldOf(t *testing.T) {
	c := pool(t, 2, "round-robin", "")
	sc := "behaviour \"*\" {\n service = \"100ms\"\n workers = 1\n backlog = 10000\n}\nload {\n rate = \"10/s\"\n for = \"4m\"\n shape = \"ramp\"\n}\n"
	r := loaded(t, c, sc, Options{})
	assert.Empty(t, r.Overloaded, "it ends below what two can do")
	r = loaded(t, c, strings.Replace(sc, "10/s", "20/s", 1), Options{})
	require.Len(t, r.Overloaded, 1)
	assert.InDelta(t, 120, r.Overloaded[0].From, 25, "the ramp passes twenty a second half-way")
	assert.Positive(t, r.Overloaded[0].Waiting)
}

// What lies beyond the end is not made: this load would take a day.
func TestALoadIsMadeUpToTheEnd(t *testing.T) {
	until, err := trace.ParseMoment("2s")
	require.NoError(t, err)
	o := Options{Seed: 1}
	o.Part.Until = until
	c := pool(t, 1, "round-robin", "")
	sc := scenarioOf(t, c, "load {\n rate = \"1000/s\"\n arrivals = \"even\"\n for = \"8784h\"\n paths = [\"/seats\"]\n}\n")
	r, err := Run(context.Background(), c, sc, nil, o)
	require.NoError(t, err)
	assert.EqualValues(t, 2000, r.Requests)
}
