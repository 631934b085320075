package replay

import (
	"context"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
)

// TestClientsAskAgain: where each request fails with a probability q of its own, and clients
// repeat it up to k times, 1 + q + ... + q^k requests come of each, and q^(k+1) are given up.
func TestClientsAskAgain(t *testing.T) {
	const n, q = 40_000, 0.3
	fault := fmt.Sprintf("fault \"f\" {\n backend = \"*\"\n kind = \"errors\"\n rate = \"%g%%\"\n at = \"0s\"\n}\n", 100*q)
	impatient := "behaviour \"*\" {\n service = exponential(\"70ms\")\n workers = 100000\n connect = \"0s\"\n}\n" // leaves before its answer in 30 of 100 cases
	for name, c := range map[string]struct{ load, clients, more string }{
		"failed, open":   {"rate = \"200/s\"\n for = \"200s\"\n arrivals = \"even\"", "after = exponential(\"1s\")", fault},
		"failed, closed": {"requests = 40000\n concurrency = 20", "after = \"10ms\"", fault},
		"left, open":     {"rate = \"200/s\"\n for = \"200s\"\n arrivals = \"even\"", "patience = exponential(\"163.333ms\")", impatient},
		"left, closed":   {"requests = 40000\n concurrency = 20", "patience = exponential(\"163.333ms\")", impatient},
	} {
		for _, again := range []int{0, 1, 3} {
			cfg := pool(t, 2, "random", "")
			s := scenarioOf(t, cfg, fmt.Sprintf("load {\n %s\n}\nclients {\n again = %d\n %s\n}\n%s", c.load, again, c.clients, c.more))
			r, err := Run(context.Background(), cfg, s, nil, Options{Seed: 5})
			require.NoError(t, err)
			conserved(t, r)
			asked, given := 0.0, math.Pow(q, float64(again+1))*n
			for k := 1; k <= again; k++ {
				asked += math.Pow(q, float64(k)) * n
			}
			require.EqualValues(t, n, r.Requests-r.AskedAgain, name)
			assert.InDelta(t, asked, r.AskedAgain, 5*math.Sqrt(asked), "%s %d", name, again)
			assert.InDelta(t, given, r.GivenUp, 5*math.Sqrt(given), "%s %d", name, again)
			assert.Equal(t, r.Failed+r.ClientLeft, r.AskedAgain+r.GivenUp, "%s %d", name, again)
			assert.Equal(t, again == 0, says(r, result.Repeats))
		}
	}
}

// says reports whether a result lists an assumption.
func says(r *result.Replay, what string) bool {
	for _, a := range r.Assumed {
		if a.What == what {
			return true
		}
	}
	return false
}

// TestThinkTimesAreOfTheirMeanAlone: what a closed load gets done depends on the mean of the time
// that its clients think (Baskett, Chandy, Muntz, Palacios 1975), where work takes exponential
// times.
func TestThinkTimesAreOfTheirMeanAlone(t *testing.T) {
	get := func(think string) float64 {
		var all []float64
		for _, r := range runs(t, 1, "round-robin", "service = exponential(\"10ms\")\n workers = 2\n backlog = 100", "requests = 40000\n concurrency = 8\n think = "+think) {
			all = append(all, r.Throughput)
		}
		mean, half := interval(all)
		require.Less(t, half, 0.02*mean)
		return mean
	}
	fixed := get("\"40ms\"")
	assert.InEpsilon(t, fixed, get("exponential(\"40ms\")"), 0.01)
	assert.InEpsilon(t, fixed, get("lognormal(\"40ms\", 2)"), 0.02)
}

// TestACanaryIsPredictedWithoutATrace: clients of a load send header fields and cookies, by which
// routes are taken; each client stays with its own.
func TestACanaryIsPredictedWithoutATrace(t *testing.T) {
	const routes = "frontend \"web\" {\n listen = \"127.0.0.1:8080\"\n route \"beta\" {\n when {\n header = { X-Tern-Channel = \"beta\" }\n }\n send_to = upstream.new\n }\n route \"preview\" {\n when {\n cookie = { tern_preview = \"on\" }\n }\n send_to = upstream.new\n }\n route \"all\" {\n send_to = upstream.old\n }\n}\nupstream \"old\" {\n backends = {\n a = \"127.0.0.1:9001\"\n }\n}\nupstream \"new\" {\n backends = {\n a = \"127.0.0.1:9002\"\n }\n}\n"
	c, found, err := config.Read([]config.File{{Name: "canary.hcl", Source: []byte(routes)}})
	require.NoError(t, err)
	require.Empty(t, found)
	get := func(sends string) *result.Replay {
		s := scenarioOf(t, c, "load {\n rate = \"100/s\"\n for = \"200s\"\n clients = 5000\n popularity = 0\n"+sends+"}\n")
		r, err := Run(context.Background(), c, s, nil, Options{Seed: 1})
		require.NoError(t, err)
		return r
	}
	r := get("")
	assert.EqualValues(t, r.Requests, r.Routes["web/all"])
	assert.Equal(t, r.Requests, r.Trace.Unknown["header"], "nothing says what they send")
	assert.Equal(t, []any{false, int64(0)}, []any{r.Sessions.Known, r.Sessions.Misses})

	r = get("header \"x-tern-channel\" {\n values = [\"beta=5\", \"=95\"]\n}\ncookie \"tern_preview\" {\n values = [\"on=20\", \"off=40\", \"=40\"]\n}\nsessions = true\n")
	n := float64(r.Requests)
	// Clients are 5,000, so that a share of them is known to within 5 standard deviations.
	assert.InDelta(t, 0.05, float64(r.Routes["web/beta"])/n, 5*math.Sqrt(0.05/5000))
	assert.InDelta(t, 0.95*0.2, float64(r.Routes["web/preview"])/n, 5*math.Sqrt(0.19/5000))
	assert.Empty(t, r.Trace.Unknown["header"]+r.Trace.Unknown["cookie"])
	assert.True(t, r.Sessions.Known)
	assert.Zero(t, r.Sessions.Misses, "each client goes by one route, to one backend")
}

// TestPagesFetchTheirParts: parts come when the page was answered, so many at a time; nothing is
// fetched of a page that failed, and one with a part that failed is not loaded.
func TestPagesFetchTheirParts(t *testing.T) {
	cfg := pool(t, 2, "round-robin", "")
	get := func(load, more string, times float64) *result.Replay {
		s := scenarioOf(t, cfg, fmt.Sprintf("load {\n %s\n paths = [\"/seats\", \"/other\"]\n page \"/seats\" {\n fetches = [\"/a.css\", \"/b.js\", \"/c.json\", \"POST /seen\", \"/{n}\"]\n at_once = 2\n }\n}\nbehaviour \"*\" {\n service = \"100ms\"\n workers = 10000\n connect = \"0s\"\n}\n%s", load, more))
		all, err := RunAll(context.Background(), []Case{{Config: cfg, Scenario: s, Times: times}}, nil, Options{Seed: 1, ByPath: true})
		require.NoError(t, err)
		conserved(t, all[0])
		return all[0]
	}
	for name, load := range map[string]string{"open": "rate = \"50/s\"\n for = \"100s\"\n arrivals = \"even\"", "closed": "requests = 5000\n concurrency = 10"} {
		for _, times := range []float64{1, 2.5} {
			if name == "closed" && times > 1 {
				continue
			}
			r := get(load, "", times)
			p := r.Pages[0]
			// Every second request is for the page, and five more come with it.
			n := 5000 * times
			assert.InDelta(t, n/2, p.Loaded, 5*math.Sqrt(n/4)*times, name)
			assert.InDelta(t, n, r.Requests-5*p.Loaded, 5*math.Sqrt(n)*(times-1), name)
			assert.Zero(t, p.Failed)
			assert.InDelta(t, 0.4, p.Elapsed.Max, 0.01, "the page, and five parts in three turns")
			assert.InDelta(t, 0.4, p.Elapsed.Mean, 1e-6)
		}
	}
	r := get("rate = \"50/s\"\n for = \"100s\"\n arrivals = \"even\"", "fault \"f\" {\n backend = \"*\"\n kind = \"errors\"\n after = \"100ms\"\n rate = \"10%\"\n at = \"0s\"\n}\n", 1)
	p := r.Pages[0]
	n := float64(p.Loaded + p.Failed)
	assert.InDelta(t, math.Pow(0.9, 6)*n, p.Loaded, 5*math.Sqrt(n/4))
	assert.InDelta(t, 5000+0.9*5*n, r.Requests, 5*math.Sqrt(n*25*0.09), "no parts of a page that failed")
	again := get("rate = \"50/s\"\n for = \"100s\"\n arrivals = \"even\"", "clients {\n again = 4\n after = \"10ms\"\n}\nfault \"f\" {\n backend = \"*\"\n kind = \"errors\"\n after = \"100ms\"\n rate = \"10%\"\n at = \"0s\"\n}\n", 1)
	assert.InDelta(t, n, again.Pages[0].Loaded, 2, "what is asked again is no failure of its page")
	assert.Greater(t, again.Pages[0].Elapsed.Mean, 0.42)
}
