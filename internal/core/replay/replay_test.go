package replay

import (
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/sim"
	"kestrix/internal/core/trace"
)

// source makes a trace of a text.
func source(text string) []ingest.Source {
	return []ingest.Source{{Name: "t.log", Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }}}
}

// even makes a trace of n requests, the same time apart, from so many clients.
func even(n int, every time.Duration, clients int) string {
	var b []byte
	for i := range n {
		r := trace.Record{
			Time: 1_790_000_000e9 + int64(i)*int64(every), Client: []byte(fmt.Sprintf("192.0.2.%d", i%clients+1)),
			Method: []byte("GET"), Path: []byte("/seats"), Status: 200, Bytes: -1, Duration: -1,
		}
		b = append(trace.AppendJSON(b, &r), '\n')
	}
	return string(b)
}

func scenarioOf(t testing.TB, c *config.Config, text string) *scenario.Scenario {
	if text == "" {
		return scenario.None()
	}
	s, found, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte(text)}, c)
	require.NoError(t, err)
	for _, f := range found {
		require.Fail(t, f.Message)
	}
	return s
}

func run(t testing.TB, c *config.Config, sc, text string, o Options) *result.Replay {
	r, err := Run(context.Background(), c, scenarioOf(t, c, sc), source(text), o)
	require.NoError(t, err)
	conserved(t, r)
	return r
}

// conserved holds a result to what must add up.
func conserved(t require.TestingT, r *result.Replay) {
	require.Equal(t, r.Requests, r.Answered+r.Failed+r.ClientLeft+r.Unfinished, "answered + failed + client_left + unfinished = requests")
	sum := int64(0)
	for _, e := range r.Errors.List() {
		sum += e.Requests
	}
	require.Equal(t, r.Failed, sum, "the causes sum to failed")
	var reqs, answered, failed, rows, open int64
	for _, u := range r.Upstreams {
		reqs += u.Requests
		answered += u.Answered
		failed += u.Failed
		for _, b := range u.Backends {
			rows -= b.Requests
			require.GreaterOrEqual(t, b.Requests, b.Answered+b.Failed)
			require.LessOrEqual(t, b.Busy, 1+1e-9)
		}
	}
	refused := r.Requests - (reqs + r.Errors[cause.NoRoute] + r.Errors[cause.RateLimited] + r.Replied) // by a proxy that was gone
	require.True(t, refused >= 0 && refused <= r.Errors[cause.Closing], "%d requests are in no upstream", refused)
	require.Equal(t, r.Answered, answered+r.Replied)
	require.Equal(t, r.Failed, failed+r.Errors[cause.NoRoute]+r.Errors[cause.RateLimited]+refused)
	require.GreaterOrEqual(t, r.Failed+r.ClientLeft, r.GivenUp+r.AskedAgain, "each request that comes again had failed or was left")
	answered, failed = 0, 0
	for i, row := range r.Timeline.Rows {
		answered += row.Answered
		failed += row.Failed
		for _, u := range row.Upstreams {
			for _, b := range u {
				rows += b.Requests
				if i == len(r.Timeline.Rows)-1 {
					open += b.InFlight
				}
			}
		}
	}
	require.Equal(t, r.Answered, answered, "the timeline holds every answer")
	require.Equal(t, r.Failed, failed, "and every failure")
	require.Zero(t, rows, "and every attempt")
	require.Equal(t, r.Unfinished, open, "nothing is open at the end but what is unfinished")
}

const probe = "probe \"http\" {\n path = \"/ready\"\n every = \"3s\"\n timeout = \"1s\"\n down_after = 2\n up_after = 3\n}\n"

func TestSharesAreAThirdEach(t *testing.T) {
	r := run(t, pool(t, 3, "round-robin", ""), "", even(6000, 10*time.Millisecond, 50), Options{Seed: 1})
	for name, b := range r.Upstreams["app"].Backends {
		assert.EqualValues(t, 2000, b.Requests, name)
		assert.InDelta(t, 1.0/3, b.Share, 1e-12)
		assert.InDelta(t, 1.0/3, b.FairShare, 1e-12)
	}
	assert.InDelta(t, 1, r.Upstreams["app"].Imbalance.MaxOverMean, 1e-12)
	assert.Zero(t, r.Upstreams["app"].Imbalance.CV)
	assert.EqualValues(t, 6000, r.Answered)
	assert.EqualValues(t, 50, r.Trace.Clients)
	assert.EqualValues(t, 50, r.Sessions.Seen)
	assert.InDelta(t, 0.041, r.Latency.Mean, 0.002, "40 ms of service, and sometimes 1 ms of connecting")
}

func TestFixedServiceIsExact(t *testing.T) {
	r := run(t, pool(t, 1, "round-robin", ""), "behaviour \"*\" {\n service = \"30ms\"\n connect = \"5ms\"\n}\n", even(100, time.Second, 1), Options{})
	assert.InDelta(t, 0.03005, r.Latency.Mean, 1e-12, "one of a hundred has to connect")
	assert.InDelta(t, 0.035, r.Latency.Max, 1e-12)
	assert.InDelta(t, 0.030, r.Latency.P50, 0.0004)
	assert.InDelta(t, 99.030, r.Duration, 1e-9)
	assert.InDelta(t, 100*0.030/16/99.030, r.Upstreams["app"].Backends["b0"].Busy, 1e-9)
}

func TestAFullBacklogRefuses(t *testing.T) {
	// Ten at once for two workers and three places: five are refused.
	r := run(t, pool(t, 1, "round-robin", ""), "behaviour \"*\" {\n service = \"100ms\"\n workers = 2\n backlog = 3\n}\n", even(10, time.Nanosecond, 1), Options{})
	assert.EqualValues(t, 5, r.Answered)
	assert.EqualValues(t, 5, r.Errors[cause.Refused])
	assert.InDelta(t, 0.301, r.Latency.Max, 1e-6, "the last one waits for two rounds")
	assert.Equal(t, 10, r.Upstreams["app"].Backends["b0"].PeakInFlight)
}

func TestWorkGivenUpKeepsAWorkerBusy(t *testing.T) {
	// One worker takes 3 s; the proxy waits 2 s. Each request begins behind
	// work that nobody waits for any more.
	r := run(t, pool(t, 1, "round-robin", "timeouts {\n answer = \"2s\"\n}\n"), "behaviour \"*\" {\n service = \"3s\"\n workers = 1\n}\n", even(3, time.Second, 1), Options{})
	assert.EqualValues(t, 3, r.Errors[cause.AnswerTimeout])
	assert.InDelta(t, 4.001, r.Duration, 1e-9)
}

// struck makes a scenario with one fault on b0 from 60 s to 120 s.
func struck(kind, more string) string {
	return "fault \"f\" {\n backend = \"app.b0\"\n kind = \"" + kind + "\"\n at = \"60s\"\n until = \"120s\"\n" + more + "\n}\n"
}

// TestEachFaultShowsAsTheNetworkWouldShowIt replays 180 s of ten requests a
// second over three backends and looks at what becomes of a fault on one.
func TestEachFaultShowsAsTheNetworkWouldShowIt(t *testing.T) {
	tcp := strings.Replace(strings.Replace(probe, "\"http\"", "\"tcp\"", 1), " path = \"/ready\"\n", "", 1)
	short := "timeouts {\n connect = \"500ms\"\n answer = \"2s\"\n}\n"
	retry := "retry {\n attempts = 2\n}\n"
	for _, c := range []struct {
		name, kind, own, more string
		detected              bool
		check                 func(t *testing.T, r *result.Replay)
	}{
		{"refuse", "refuse", "", probe, true, func(t *testing.T, r *result.Replay) {
			assert.Positive(t, r.Errors[cause.Refused])
			assert.Equal(t, r.Failed, r.Errors[cause.Refused]+r.Errors[cause.Reset])
		}},
		{"refuse with retry", "refuse", "", probe + retry, true, func(t *testing.T, r *result.Replay) {
			assert.Zero(t, r.Failed)
			assert.Positive(t, r.Retried)
			assert.Equal(t, r.Retried, r.Faults[0].Exposed)
			assert.Zero(t, r.Faults[0].ExposedFailed)
		}},
		{"blackhole", "blackhole", "", probe + short, true, func(t *testing.T, r *result.Replay) {
			assert.Positive(t, r.Errors[cause.ConnectTimeout])
			assert.InDelta(t, r.Failed, r.Errors[cause.ConnectTimeout]+r.Errors[cause.AnswerTimeout], 0)
		}},
		{"hang", "hang", "", probe + short, true, func(t *testing.T, r *result.Replay) {
			assert.Equal(t, r.Failed, r.Errors[cause.AnswerTimeout])
			assert.Positive(t, r.Failed)
		}},
		{"hang behind a probe of the port", "hang", "", tcp + short, false, func(t *testing.T, r *result.Replay) {
			assert.InDelta(t, 200, r.Errors[cause.AnswerTimeout], 3, "a third of 600: the probe never notices")
		}},
		{"reset", "reset", "", probe + retry, true, func(t *testing.T, r *result.Replay) {
			assert.Equal(t, r.Failed, r.Errors[cause.Reset], "half an answer was passed on: no retry")
			assert.Positive(t, r.Failed)
		}},
		{"reset behind a probe of the port", "reset", "", tcp, false, func(t *testing.T, r *result.Replay) {
			assert.InDelta(t, 200, r.Errors[cause.Reset], 3)
		}},
		{"errors", "errors", "status = 500", probe, true, func(t *testing.T, r *result.Replay) {
			assert.Equal(t, r.Failed, r.Errors[cause.Status5xx])
		}},
		{"some errors", "errors", "rate = \"25%\"", tcp, false, func(t *testing.T, r *result.Replay) {
			assert.InDelta(t, 50, r.Errors[cause.Status5xx], 20)
		}},
		{"slow", "slow", "factor = 30", probe + short, false, func(t *testing.T, r *result.Replay) {
			assert.Greater(t, r.Upstreams["app"].Backends["b0"].Latency.P95, 0.5)
			assert.Less(t, r.Upstreams["app"].Backends["b1"].Latency.P95, 0.2)
		}},
		{"probe-fails", "probe-fails", "", probe, true, func(t *testing.T, r *result.Replay) {
			assert.Zero(t, r.Failed, "only the probe fails")
			assert.Contains(t, r.Health[0].Why, "status 503")
		}},
		{"probe-fails on a port", "probe-fails", "", tcp, true, func(t *testing.T, r *result.Replay) { assert.Zero(t, r.Failed) }},
		{"park", "park", "", probe, true, func(t *testing.T, r *result.Replay) {
			assert.Zero(t, *r.Faults[0].DetectedAfter)
			assert.Zero(t, *r.Faults[0].RecoveredAfter)
			assert.InDelta(t, 60, r.Upstreams["app"].Backends["b0"].SecondsOut, 1e-9)
			assert.InDelta(t, 400, r.Upstreams["app"].Backends["b0"].Requests, 2)
		}},
		{"drain", "drain", "", probe, true, func(t *testing.T, r *result.Replay) {
			assert.Equal(t, "draining", r.Health[0].To)
			assert.Zero(t, r.Failed)
		}},
		{"weight", "weight", "weight = 4", probe, false, func(t *testing.T, r *result.Replay) {
			assert.InDelta(t, 400+400, r.Upstreams["app"].Backends["b0"].Requests, 4, "4 of 6 while it lasts")
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := run(t, pool(t, 3, "round-robin", c.more), struck(c.kind, c.own), even(1800, 100*time.Millisecond, 20), Options{Seed: 3})
			f := r.Faults[0]
			assert.True(t, f.Began)
			assert.Equal(t, []string{"app.b0"}, f.Backends)
			assert.Equal(t, c.detected, f.DetectedAfter != nil)
			if c.detected && c.kind != "park" && c.kind != "drain" {
				// The second failure in a row ends it: after one to two intervals
				// where connecting fails at once, and up to a timeout later.
				assert.GreaterOrEqual(t, *f.DetectedAfter, 3.0)
				assert.LessOrEqual(t, *f.DetectedAfter, 2*3.0+1.0)
				require.NotNil(t, f.RecoveredAfter)
				assert.LessOrEqual(t, *f.RecoveredAfter, 3*3.0+1.0)
				out := r.Upstreams["app"].Backends["b0"].SecondsOut
				assert.InDelta(t, 60-*f.DetectedAfter+*f.RecoveredAfter, out, 1e-6)
				for _, row := range r.Timeline.Rows {
					if row.At > 60+*f.DetectedAfter && row.At+1 < 120+*f.RecoveredAfter {
						assert.Zero(t, row.Upstreams["app"]["b0"].Requests, "none goes to it at %v", row.At)
					}
				}
			}
			c.check(t, r)
		})
	}
}

func TestOpenRequestsBreakWhenAProcessDies(t *testing.T) {
	sc := "behaviour \"*\" {\n service = \"10s\"\n}\nfault \"f\" {\n backend = \"app.b0\"\n kind = \"refuse\"\n at = \"5s\"\n}\n"
	r := run(t, pool(t, 1, "round-robin", ""), sc, even(3, time.Second, 1), Options{})
	assert.EqualValues(t, 3, r.Errors[cause.Reset])
	assert.InDelta(t, 5, r.Duration, 1e-9)
	assert.Nil(t, r.Faults[0].DetectedAfter, "nobody looks")
	assert.Nil(t, r.Faults[0].Until)
	assert.EqualValues(t, 3, r.Faults[0].ExposedFailed)
}

func TestSuspensionWithoutAProbe(t *testing.T) {
	r := run(t, pool(t, 3, "round-robin", "suspend {\n after = 3\n rest = \"10s\"\n longest = \"20s\"\n}\nretry {\n}\n"), struck("refuse", ""), even(1800, 100*time.Millisecond, 20), Options{})
	assert.Zero(t, r.Failed)
	assert.Less(t, *r.Faults[0].DetectedAfter, 1.0)
	assert.Equal(t, "suspended", r.Health[0].To)
	assert.GreaterOrEqual(t, len(r.Health), 5, "one request is tried after each rest")
}

func TestSessions(t *testing.T) {
	text := even(3000, 50*time.Millisecond, 30)
	plain := run(t, pool(t, 3, "round-robin", probe), struck("park", ""), even(3000, 50*time.Millisecond, 31), Options{})
	assert.Zero(t, plain.Sessions.Moved)
	assert.Greater(t, plain.Sessions.Misses, int64(1000), "without stickiness nearly each request finds another backend")
	for _, by := range []string{"cookie", "address"} {
		r := run(t, pool(t, 3, "round-robin", probe+"sticky {\n by = \""+by+"\"\n}\n"), struck("park", ""), text, Options{})
		assert.EqualValues(t, 30, r.Sessions.Seen)
		assert.EqualValues(t, 10, r.Sessions.Moved, "%s: the third that sat on b0", by)
		assert.EqualValues(t, 10, r.Sessions.Misses, by)
		assert.Zero(t, r.Failed)
		assert.Zero(t, run(t, pool(t, 3, "round-robin", probe+"sticky {\n by = \""+by+"\"\n}\n"), struck("drain", ""), text, Options{}).Sessions.Moved, "draining keeps seats")
		refuse := run(t, pool(t, 3, "round-robin", probe+"sticky {\n by = \""+by+"\"\n on_loss = \"refuse\"\n}\n"), struck("park", ""), text, Options{})
		assert.EqualValues(t, 400, refuse.Errors[cause.SessionRefused], "%s: a third of 20 a second for 60 s", by)
		assert.EqualValues(t, 400, refuse.Sessions.Refused)
	}
}

func TestClientsAreToldApartHoweverTheyAreWritten(t *testing.T) {
	written := []string{
		"2001:db8::9", "2001:DB8:0:0::9", "[2001:db8::9]:443", "2001:db8:0:0:0:0:0:9",
		"203.0.113.9:5123", "::ffff:203.0.113.9", "203.0.113.9", "[::ffff:203.0.113.9]:80", "203.0.113.9:5124", "kiosk.example:99", "kiosk.example:1", "k:1", "k",
	}
	var log, lines strings.Builder
	for i := range 1500 {
		at, who := time.Unix(1_790_000_000+int64(i)/10, 0).UTC(), written[i*i%len(written)]
		fmt.Fprintf(&log, "%s - - [%s] \"GET /seats HTTP/1.1\" 200 9 \"-\" \"TernApp/4.0\"\n", who, at.Format("02/Jan/2006:15:04:05 -0700"))
		fmt.Fprintf(&lines, "{\"time\":%q,\"client\":\"\\u00%x%s\",\"path\":\"/seats\",\"user_agent\":\"TernApp/4.0\"}\n", at.Format(time.RFC3339), who[0], who[1:])
	}
	for _, with := range []string{"", "sticky {\n by = \"cookie\"\n}\n", "sticky {\n by = \"address\"\n}\n"} {
		for _, text := range []string{log.String(), lines.String()} {
			r := run(t, pool(t, 5, "random", with), "", text, Options{})
			assert.EqualValues(t, 4, r.Trace.Clients)
			assert.EqualValues(t, 4, r.Sessions.Seen)
			used := 0
			for _, b := range r.Upstreams["app"].Backends {
				used += int(min(b.Requests, 1))
			}
			assert.True(t, with == "" || used <= 4, "each stays with one backend")
		}
	}
}

func TestSeatsOfClientsThatStayAwayEnd(t *testing.T) {
	text := even(2, 2*time.Hour, 1)
	kept := run(t, pool(t, 3, "round-robin", "sticky {\n by = \"cookie\"\n ttl = \"3h\"\n}\n"), "", text, Options{})
	lost := run(t, pool(t, 3, "round-robin", "sticky {\n by = \"cookie\"\n ttl = \"1h\"\n}\n"), "", text, Options{})
	assert.Zero(t, kept.Sessions.Misses)
	assert.EqualValues(t, 1, lost.Sessions.Misses)
	assert.Zero(t, lost.Sessions.Moved, "it had no seat any more")
}

func TestUnknownFieldsAndRoutes(t *testing.T) {
	text := "frontend \"web\" {\n listen = \"127.0.0.1:1\"\n route \"board\" {\n when {\n host = \"board.tern.example\"\n }\n send_to = upstream.app\n }\n}\nupstream \"app\" {\n backends = { a = \"127.0.0.1:2\" }\n}\n"
	c, found, err := config.Read([]config.File{{Name: "c.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	require.Empty(t, found)
	r := run(t, c, "", even(10, time.Second, 1), Options{})
	assert.EqualValues(t, 10, r.Errors[cause.NoRoute])
	assert.EqualValues(t, 10, r.Trace.Unknown["host"])
	r = run(t, c, "", even(10, time.Second, 1), Options{Host: "board.tern.example"})
	assert.EqualValues(t, 10, r.Answered)
	assert.EqualValues(t, 10, r.Routes["web/board"])
	_, err = Run(context.Background(), c, scenario.None(), source(even(1, 1, 1)), Options{Frontend: "wob"})
	assert.ErrorContains(t, err, `no frontend is called "wob"; there are: web`)
}

func TestWhatTheProxyAnswersItself(t *testing.T) {
	text := "frontend \"web\" {\n listen = \"127.0.0.1:1\"\n route \"old\" {\n when {\n path = \"/old\"\n }\n redirect {\n to = \"/new\"\n }\n }\n route \"all\" {\n send_to = upstream.app\n }\n}\nupstream \"app\" {\n backends = { a = \"127.0.0.1:2\" }\n}\n"
	c, found, err := config.Read([]config.File{{Name: "c.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	require.Empty(t, found)
	r := run(t, c, "", "{\"time\":1,\"path\":\"/old\"}\n{\"time\":2,\"path\":\"/\"}\n", Options{})
	assert.EqualValues(t, 2, r.Answered)
	assert.EqualValues(t, 1, r.Replied)
	assert.EqualValues(t, 1, r.Upstreams["app"].Requests)
	assert.Equal(t, map[string]int64{"web/old": 1, "web/all": 1}, r.Routes)
}

func TestRoutesByQueryAndCookie(t *testing.T) {
	text := "frontend \"web\" {\n listen = \"127.0.0.1:1\"\n route \"fi\" {\n when {\n query = { lang = \"fi\" }\n }\n send_to = upstream.app\n }\n route \"beta\" {\n when {\n cookie = { beta = \"on\" }\n }\n send_to = upstream.app\n }\n}\nupstream \"app\" {\n backends = { a = \"127.0.0.1:2\" }\n}\n"
	c, found, err := config.Read([]config.File{{Name: "c.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	require.Empty(t, found)
	r := run(t, c, "", "{\"time\":1,\"path\":\"/?lang=fi\"}\n{\"time\":2,\"path\":\"/?lang=sv\",\"cookies\":{\"beta\":\"on\"}}\n{\"time\":3,\"path\":\"/\"}\n", Options{})
	assert.Equal(t, map[string]int64{"web/fi": 1, "web/beta": 1}, r.Routes)
	assert.EqualValues(t, 1, r.Errors[cause.NoRoute])
	assert.EqualValues(t, 1, r.Trace.Unknown["cookie"], "a record without cookies may have had some")
	assert.Zero(t, r.Trace.Unknown["query"])
}

func TestStampsAreSpreadAndPutInOrder(t *testing.T) {
	line := func(sec int) string {
		return fmt.Sprintf("a - - [23/Nov/2026:06:00:%02d +0000] \"GET / HTTP/1.1\" 200 1\n", sec)
	}
	var at []float64
	o := Options{Observe: func(d sim.Decision) { at = append(at, d.At.Seconds()) }}
	c := pool(t, 1, "round-robin", "")
	spread := run(t, c, "", line(0)+line(0)+line(0)+line(0)+line(1), o)
	assert.Equal(t, []float64{0, 0.25, 0.5, 0.75, 1}, at)
	assert.EqualValues(t, 3, spread.Trace.Shifted)
	at = nil
	o.Spread = "none"
	run(t, c, "", line(0)+line(0)+line(1), o)
	assert.Equal(t, []float64{0, 0, 1}, at)
	at = nil
	r := run(t, c, "", line(5)+line(2)+line(9)+line(8)+line(3), o)
	assert.Equal(t, []float64{0, 1, 3, 6, 7}, at, "within the window they are put right")
	assert.EqualValues(t, 3, r.Trace.OutOfOrder)
	_, err := Run(context.Background(), c, scenario.None(), source(line(30)+line(5)), Options{})
	require.ErrorContains(t, err, "t.log:2:1: the time 2026-11-23 06:00:05 is 25 s before an earlier record")
	assert.ErrorContains(t, err, "-window 26s accepts it")
	_, err = Run(context.Background(), c, scenario.None(), source(line(30)+line(5)), Options{Window: 26 * time.Second})
	assert.NoError(t, err)
}

func TestWhatCannotBeReplayed(t *testing.T) {
	c := pool(t, 1, "round-robin", "")
	for text, want := range map[string]string{
		"":                                "t.log: there is nothing to replay",
		"# only a comment\n\n":            "there is nothing to replay",
		"{\"path\":\"/\"}\n":              "t.log:1:1: the record has no time",
		"garbage\n":                       "t.log:1:1: this is not a Common or Combined log line",
		"{\"time\":1,\"frontend\":\"x\"}": `t.log:1:1: the record names the frontend "x"`,
	} {
		_, err := Run(context.Background(), c, scenario.None(), source(text), Options{})
		assert.ErrorContains(t, err, want, "%q", text)
	}
	r := run(t, c, "", even(3, time.Second, 1)+"garbage\n", Options{Read: trace.Options{Skip: true}})
	assert.EqualValues(t, 1, r.Trace.BadLines)
	assert.EqualValues(t, 4, r.Trace.Bad[0].Line)
}

func TestStreamsHoldNoWorker(t *testing.T) {
	var b strings.Builder
	for i := range 5 {
		fmt.Fprintf(&b, "{\"time\":%d,\"path\":\"/board\",\"protocol\":\"stream\",\"duration\":100}\n", 1000+i)
	}
	sc := "behaviour \"*\" {\n workers = 1\n backlog = 0\n}\n"
	r := run(t, pool(t, 1, "round-robin", ""), sc, b.String(), Options{})
	assert.EqualValues(t, 5, r.Answered)
	assert.Equal(t, 5, r.Upstreams["app"].Backends["b0"].PeakInFlight)
	r = run(t, pool(t, 1, "round-robin", ""), sc+"fault \"f\" {\n backend = \"*\"\n kind = \"refuse\"\n at = \"50s\"\n}\n", b.String(), Options{})
	assert.EqualValues(t, 5, r.Errors[cause.BrokenStream], "a stream that is cut is broken, not answered")
}

func TestStreamsAreCutWhenTheyHaveLastedTheirTime(t *testing.T) {
	trace := "{\"time\":1000,\"path\":\"/board\",\"protocol\":\"stream\",\"duration\":100}\n{\"time\":1000,\"path\":\"/board\",\"protocol\":\"stream\",\"duration\":20}\n"
	r := run(t, pool(t, 1, "round-robin", "timeouts {\n stream = \"1m\"\n}\nsuspend {\n after = 1\n keep = \"0%\"\n}\n"), "", trace, Options{})
	assert.EqualValues(t, []int64{2, 0}, []int64{r.Answered, r.Failed}, "cut by the proxy's own limit, it has been answered")
	assert.InDelta(t, 60.001, r.Duration, 1e-9)
	assert.Empty(t, r.Health, "that says nothing of the backend")
}

func TestTheQueueInTheReplay(t *testing.T) {
	// Six at once. Two are worked on, three wait, one finds the queue full. Two
	// of the three are let go on after 100 ms, the third has then 50 ms left.
	text := strings.Replace(poolText(1, "round-robin", "queue {\n limit = 3\n timeout = \"150ms\"\n}\n"), "\"127.0.0.1:10000\"", "{ address = \"127.0.0.1:10000\", max_in_flight = 2 }", 1)
	require.Contains(t, text, "max_in_flight")
	c, found, err := config.Read([]config.File{{Name: "pool.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	require.Empty(t, found)
	r := run(t, c, "behaviour \"*\" {\n service = \"100ms\"\n connect = \"0s\"\n}\n", even(6, time.Nanosecond, 1), Options{})
	assert.EqualValues(t, []int64{4, 1, 1}, []int64{r.Answered, r.Errors[cause.QueueFull], r.Errors[cause.QueueTimeout]})
	assert.InDelta(t, 0.2, r.Latency.Max, 1e-6)
	assert.Equal(t, 2, r.Upstreams["app"].Backends["b0"].PeakInFlight)
	// Nobody is refused for a lack of room when all may wait long enough, and
	// the last one waits for all before it: 20 rounds of 100 ms.
	text = strings.Replace(strings.Replace(text, "limit = 3", "limit = 100", 1), "150ms", "1m", 1)
	c, _, err = config.Read([]config.File{{Name: "pool.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	r = run(t, c, "behaviour \"*\" {\n service = \"100ms\"\n connect = \"0s\"\n}\n", even(40, time.Nanosecond, 1), Options{})
	assert.EqualValues(t, 40, r.Answered)
	assert.InDelta(t, 2, r.Latency.Max, 1e-6)
}

func TestRatesInTheReplay(t *testing.T) {
	text := strings.Replace(poolText(1, "round-robin", ""), "send_to", "limits {\n rate = \"1/s\"\n burst = 2\n }\n send_to", 1)
	c, found, err := config.Read([]config.File{{Name: "pool.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	require.Empty(t, found)
	// Two clients ask five times a second each for ten seconds.
	r := run(t, c, "", even(100, 100*time.Millisecond, 2), Options{})
	assert.EqualValues(t, 2*11, r.Answered, "two at once, then one a second")
	assert.EqualValues(t, 78, r.Errors[cause.RateLimited])
}

func TestAnEndedContextGivesWhatIsKnownSoFar(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	n := 0
	o := Options{Observe: func(sim.Decision) {
		if n++; n == 100 {
			cancel()
		}
	}}
	r, err := Run(ctx, pool(t, 1, "round-robin", ""), scenario.None(), source(even(50000, time.Millisecond, 5)), o)
	require.NoError(t, err)
	conserved(t, r)
	assert.True(t, r.Partial)
	assert.Less(t, r.Requests, int64(50000))
}

func TestRowsTellWhatIsOpenAtTheirEnd(t *testing.T) {
	r := run(t, pool(t, 1, "round-robin", ""), "behaviour \"*\" {\n service = \"1500ms\"\n connect = \"0s\"\n}\n", even(3, time.Second, 1), Options{})
	var open []int64
	for _, row := range r.Timeline.Rows {
		open = append(open, row.Upstreams["app"]["b0"].InFlight)
	}
	assert.Equal(t, []int64{1, 1, 1, 0}, open)
}

func TestTheTimelineDoublesItsBucket(t *testing.T) {
	r := run(t, pool(t, 2, "round-robin", ""), "", even(5000, 2*time.Second, 5), Options{})
	assert.InDelta(t, 8, r.Timeline.Bucket, 1e-12, "10,000 s in at most 2,048 rows")
	assert.LessOrEqual(t, len(r.Timeline.Rows), 2048)
	assert.EqualValues(t, 2, r.Timeline.Rows[10].Upstreams["app"]["b0"].Requests)
	assert.InDelta(t, r.Latency.P99, r.Timeline.Rows[10].P99, 0.2)
}

// TestABarePrefixIsRedirected as the live proxy does, whatever else its route takes, and
// remembered so.
func TestABarePrefixIsRedirected(t *testing.T) {
	text := "frontend \"web\" {\n listen = \"127.0.0.1:1\"\n route \"seats\" {\n %s rewrite {\n drop_prefix = \"/seats\"\n %s}\n send_to = upstream.app\n }\n}\nupstream \"app\" {\n backends = { b0 = \"127.0.0.1:9000\" }\n}\n"
	for _, c := range []struct {
		when, more string
		replied    int64
	}{
		{"", "", 20},
		{"when {\n path = \"/seats/**\"\n }\n", "", 20},
		{"when {\n path = \"/seats/**\"\n }\n", "bare_prefix = \"serve\"\n", 0},
		{"when {\n path = \"/seats\"\n }\n", "", 0}, // which does not take /seats/
	} {
		cfg, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(fmt.Sprintf(text, c.when, c.more))}})
		require.NoError(t, err)
		require.Empty(t, found)
		assert.Equal(t, c.replied, run(t, cfg, "", even(20, time.Second, 3), Options{}).Replied, "%+v", c)
	}
}
