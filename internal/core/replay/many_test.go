package replay

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

func of(c *config.Config, s *scenario.Scenario) Case { return Case{Config: c, Scenario: s} }

// variant returns a configuration with another algorithm and the same routes.
func variant(c *config.Config, algorithm string, hash *config.Hash) *config.Config {
	out := *c
	out.Upstreams = nil
	for _, u := range c.Upstreams {
		x := *u
		x.Algorithm, x.Hash = algorithm, hash
		out.Upstreams = append(out.Upstreams, &x)
	}
	return &out
}

// logOf makes log lines with stamps of whole seconds, some of them out of order.
func logOf(t *rapid.T) string {
	var b []byte
	at := int64(1_790_000_000e9)
	for i := range rapid.IntRange(1, 3000).Draw(t, "lines") {
		at += int64(time.Duration(i%7) * 3 * time.Millisecond)
		r := trace.Record{
			Time: at - int64(i%11/10)*3e9, Client: []byte(fmt.Sprintf("192.0.2.%d", i*i%97)), Method: []byte([]string{"GET", "POST"}[i%5/4]),
			Path: []byte([]string{"/seats", "/board/7"}[i%3/2]), Status: 200, Bytes: 10, Duration: -1, UserAgent: []byte(fmt.Sprintf("reader %d", i%3)),
		}
		b = append(trace.AppendCombined(b, &r), '\n')
	}
	return string(b)
}

// TestSideBySideIsAsAlone replays random cases side by side from one reading, and
// each alone: the results are the same to the byte.
func TestSideBySideIsAsAlone(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		more := rapid.SampledFrom([]string{"", probe, "sticky {\n by = \"cookie\"\n}\n", "sticky {\n by = \"address\"\n}\n", "retry {\n attempts = 2\n}\n"}).Draw(rt, "more")
		one := pool2(rt, 3, "round-robin", more)
		other, found, err := config.Read([]config.File{{Name: "other.hcl", Source: []byte(strings.Replace(poolText(2, "hash", probe+"hash {\n key = \"path\"\n}\n"),
			"route \"all\" {", "limits {\n rate = \"20/s\"\n}\nroute \"board\" {\n when {\n path = \"/board/*\"\n}\n reply {\n status = 404\n}\n}\nroute \"all\" {", 1))}})
		require.NoError(rt, err)
		require.Empty(rt, found)
		fault := func(kind string) *scenario.Scenario {
			text := fmt.Sprintf("behaviour \"*\" {\n workers = 2\n backlog = 3\n}\nfault \"f\" {\n backend = \"app.b0\"\n kind = %q\n at = \"2s\"\n until = \"5s\"\n}\n", kind)
			s, found, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte(text)}, one)
			require.NoError(rt, err)
			require.Empty(rt, found)
			return s
		}
		cases := []Case{
			of(one, scenario.None()), of(variant(one, "hash", &config.Hash{Key: "path", Method: "ring"}), scenario.None()), of(other, fault("hang")),
			of(one, fault("refuse")), of(variant(one, "two-choices", nil), fault("slow")), of(variant(one, "hash", &config.Hash{Key: "client", Method: "ring"}), scenario.None()), of(variant(one, "hash", &config.Hash{Key: "client-prefix", Method: "modulo"}), scenario.None()),
		}
		cases = cases[rapid.IntRange(0, len(cases)-1).Draw(rt, "from"):]
		o := Options{Seed: rapid.Uint64().Draw(rt, "seed"), Instances: rapid.IntRange(0, 3).Draw(rt, "instances")}
		if rapid.Bool().Draw(rt, "until") {
			o.Part.Until, _ = trace.ParseMoment("3s")
		}
		text := logOf(rt)
		all, err := RunAll(context.Background(), cases, source(text), o)
		require.NoError(rt, err)
		for i, c := range cases {
			alone, err := Run(context.Background(), c.Config, c.Scenario, source(text), o)
			require.NoError(rt, err)
			a, err := json.Marshal(alone)
			require.NoError(rt, err)
			b, err := json.Marshal(all[i])
			require.NoError(rt, err)
			for at := range min(len(a), len(b)) {
				if a[at] != b[at] {
					rt.Fatalf("case %d: alone …%s, side by side …%s", i, a[max(at-80, 0):at+20], b[max(at-80, 0):at+20])
				}
			}
		}
	})
}

// TestCasesWithALoad: an open load is made once for all, of a closed one each makes
// its own.
func TestCasesWithALoad(t *testing.T) {
	c := pool(t, 3, "round-robin", probe)
	for _, load := range []string{"load {\n rate = \"50/s\"\n for = \"20s\"\n}\n", "load {\n requests = 500\n concurrency = 7\n}\n"} {
		s := scenarioOf(t, c, load)
		cases := []Case{of(c, s), of(variant(c, "least-connections", nil), s), of(variant(c, "random", nil), s), of(c, s), of(c, s), of(c, s)}
		all, err := RunAll(context.Background(), cases, nil, Options{Seed: 3})
		require.NoError(t, err)
		assert.Equal(t, all[0], all[5])
		assert.NotEqual(t, all[0], all[2])
		alone, err := Run(context.Background(), cases[1].Config, s, nil, Options{Seed: 3})
		require.NoError(t, err)
		assert.Equal(t, alone, all[1])
	}
}

// TestOverloadIsNoMove: keys that overload pushes to another backend are told from those that
// the method gives another one.
func TestOverloadIsNoMove(t *testing.T) {
	c := pool(t, 4, "hash", "hash {\n key = \"client\"\n method = \"rendezvous\"\n}\nsuspend {\n after = 3\n rest = \"2s\"\n}\ntimeouts {\n answer = \"1s\"\n}\n")
	sc := "behaviour \"*\" {\n service = \"100ms\"\n workers = 1\n backlog = 20\n}\n"
	for busy, every := range map[bool]time.Duration{false: 200 * time.Millisecond, true: 20 * time.Millisecond} {
		all, err := RunAll(context.Background(), []Case{of(c, scenarioOf(t, c, sc))}, source(even(4000, every, 200)), Options{Seed: 1, Leave: 4000})
		require.NoError(t, err)
		l := all[0].Leave
		assert.Greater(t, l.Requests, int64(1000))
		assert.Equal(t, busy, *l.Pushed > 0.1, "%+v", l)
		assert.Zero(t, l.Moved, "%+v", l)
	}
}

// TestWhoMovesWhenABackendLeaves holds what is tried against what each way of
// choosing promises to clients that are known.
func TestWhoMovesWhenABackendLeaves(t *testing.T) {
	text := even(9000, 20*time.Millisecond, 200)
	hash := func(method string) *config.Config {
		return variant(pool(t, 5, "round-robin", ""), "hash", &config.Hash{Key: "client", Method: method})
	}
	seated := pool(t, 5, "round-robin", "sticky {\n by = \"cookie\"\n}\n")
	calm := scenarioOf(t, seated, "fault \"f\" {\n backend = \"app.*\"\n kind = \"refuse\"\n at = \"1s\"\n until = \"100s\"\n}\nbehaviour \"*\" {\n service = fixed(\"5ms\")\n}\n")
	var cases []Case
	for _, c := range []*config.Config{hash("ring"), hash("rendezvous"), seated, hash("modulo"), pool(t, 5, "random", "")} {
		cases = append(cases, of(c, calm))
	}
	all, err := RunAll(context.Background(), cases, source(text), Options{Seed: 5, Leave: 8000})
	require.NoError(t, err)
	for i, r := range all {
		l := r.Leave
		assert.Equal(t, []string{"app.b0"}, l.Backends)
		assert.InDelta(t, 4000*0.8, float64(l.Requests), 300, "a fifth were with the one that left")
		if i < 3 {
			assert.Zero(t, l.Moved, "case %d keeps whom it can", i)
			continue
		}
		assert.InDelta(t, 0.75, l.Share, 0.08, "case %d gives any of four, of which one is the same", i)
		assert.InDelta(t, float64(l.Moved)/float64(l.Requests), l.Share, 1e-12)
	}
	alone := pool(t, 2, "round-robin", "")
	all, err = RunAll(context.Background(), []Case{of(alone, scenarioOf(t, alone, "load {\n requests = 100\n concurrency = 3\n}\n"))}, nil, Options{Leave: 50})
	require.NoError(t, err)
	assert.Empty(t, all[0].Leave.Backends, "of two none leaves: the other would be no choice")
	assert.EqualValues(t, 100, all[0].Requests)
}

// TestMoreOfTheSame: so many times as many requests come, from as many more clients,
// and in each second of the trace likewise.
func TestMoreOfTheSame(t *testing.T) {
	c := pool(t, 3, "round-robin", "sticky {\n by = \"cookie\"\n}\n")
	text := even(3000, 10*time.Millisecond, 30)
	var cases []Case
	for _, times := range []float64{0.25, 1, 2.5} {
		cases = append(cases, Case{Config: c, Scenario: scenario.None(), Times: times})
	}
	all, err := RunAll(context.Background(), cases, source(text), Options{Seed: 4})
	require.NoError(t, err)
	for i, r := range all {
		times := cases[i].Times
		conserved(t, r)
		assert.InDelta(t, 3000*times, float64(r.Requests), 80)
		assert.InDelta(t, 30*max(times, 1), float64(r.Upstreams["app"].Sessions.Seen), 16, "at least a client comes")
		for _, row := range r.Timeline.Rows[2:29] {
			n := int64(0)
			for _, b := range row.Upstreams["app"] {
				n += b.Requests
			}
			assert.InDelta(t, 100*times, float64(n), 40, "at %v", row.At)
		}
	}
	assert.EqualValues(t, 3000, all[1].Requests, "once is exactly once")
	assert.Zero(t, all[2].Sessions.Misses, "each of the further clients has a place of its own")
}

// TestStoppedSideBySide: when whoever asked stops waiting, what was done comes back,
// and says that it is partial; an error of reading is that of all.
func TestStoppedSideBySide(t *testing.T) {
	c := pool(t, 3, "round-robin", "")
	cases := []Case{of(c, scenario.None()), of(variant(c, "random", nil), scenario.None()), of(pool(t, 2, "random", ""), scenario.None())}
	ctx, stop := context.WithCancel(context.Background())
	text := even(200_000, time.Millisecond, 50)
	all, err := RunAll(ctx, cases, source(text), Options{Leave: 100, Progress: func(int64, int64) { stop() }})
	require.NoError(t, err)
	for _, r := range all {
		assert.True(t, r.Partial)
		assert.Less(t, r.Requests, int64(200_000))
		assert.Nil(t, r.Leave)
		conserved(t, r)
	}
	_, err = RunAll(context.Background(), cases, source("no trace at all\n"), Options{})
	require.Error(t, err)
	_, err = RunAll(context.Background(), cases, source(even(2000, time.Millisecond, 5)+"{\"time\":1}\n"), Options{})
	require.ErrorContains(t, err, "t.log:2001", "the place is told, whoever reads it")
	_, err = RunAll(context.Background(), []Case{of(c, scenarioOf(t, c, "load {\n rate = \"9/s\"\n}\n"))}, source("x"), Options{})
	require.ErrorContains(t, err, "a trace has no place beside it")
	_, err = RunAll(context.Background(), cases, nil, Options{Frontend: "nobody"})
	require.ErrorContains(t, err, `no frontend is called "nobody"`)
}

// TestTheCoarseTimeline: percentiles of several rows are those of all their answers,
// and no more rows come out than can be seen.
func TestTheCoarseTimeline(t *testing.T) {
	c := pool(t, 1, "round-robin", "")
	sc := "behaviour \"*\" {\n service = fixed(\"10ms\")\n}\nfault \"f\" {\n backend = \"app.b0\"\n kind = \"slow\"\n factor = 10\n at = \"300s\"\n}\n"
	r := run(t, c, sc, even(6000, 100*time.Millisecond, 5), Options{})
	tl := r.Timeline
	assert.Equal(t, 6, tl.PerRow(), "601 rows in at most 120 parts")
	require.Len(t, tl.Coarse, 101)
	for i, x := range tl.Coarse[:100] {
		want := 0.011
		if i >= 50 {
			want = 0.101
		}
		assert.InEpsilon(t, want, x.P50, 0.07, "at %v", x.At)
		assert.InEpsilon(t, want, x.P99, 0.07, "at %v", x.At)
	}
}
