package replay

import (
	"context"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/result"
	"kestrix/internal/core/rng"
)

// Queueing theory gives exact figures for simple systems. The replay is held to
// them over several seeds: the theory's figure must lie within a 99.9 %
// confidence interval (Student's t) of the seeds' mean, widened by half a per
// cent for the empty start of every run.

// seeds is how many runs a mean is taken over, and tSeeds the quantile of
// Student's t of that many less one at 99.95 %.
const (
	seeds  = 8
	tSeeds = 5.408
)

// interval returns the mean of a figure over the seeds, and how far the truth may
// lie from it.
func interval(x []float64) (mean, half float64) {
	for _, v := range x {
		mean += v / float64(len(x))
	}
	ss := 0.0
	for _, v := range x {
		ss += (v - mean) * (v - mean)
	}
	return mean, tSeeds * math.Sqrt(ss/float64(len(x)-1)/float64(len(x)))
}

// runs replays a load once for each seed.
func runs(t *testing.T, backends int, algorithm, behaviour, load string) []*result.Replay {
	c := pool(t, backends, algorithm, "timeouts {\n connect = \"1h\"\n answer = \"1h\"\n}")
	s := scenarioOf(t, c, fmt.Sprintf("behaviour \"*\" {\n connect = \"0s\"\n %s\n}\nload {\n %s\n}\n", behaviour, load))
	var out []*result.Replay
	for seed := range uint64(seeds) {
		r, err := Run(context.Background(), c, s, nil, Options{Seed: seed + 1})
		require.NoError(t, err)
		conserved(t, r)
		out = append(out, r)
	}
	return out
}

// erlangC returns the probability that an arrival waits in M/M/c (Erlang, 1917),
// a the offered load.
func erlangC(c int, a float64) float64 {
	b := erlangB(c, a)
	rho := a / float64(c)
	return b / (1 - rho + rho*b)
}

// erlangB returns the probability that an arrival is lost in M/M/c/c.
func erlangB(c int, a float64) float64 {
	b := 1.0
	for k := 1; k <= c; k++ {
		b = a * b / (float64(k) + a*b)
	}
	return b
}

// supermarket returns the mean time in a system of many queues of which the
// shorter of two is joined, in service times (Mitzenmacher 1996, Vvedenskaya,
// Dobrushin and Karpelevich 1996).
func supermarket(rho float64) float64 {
	sum := 0.0
	for i := 1; i < 40; i++ {
		sum += math.Pow(rho, math.Pow(2, float64(i))-2)
	}
	return sum
}

// gim1 returns the mean time in GI/M/1 whose gaps are the sum of n exponential
// ones, in service times (Kleinrock, Queueing Systems I, 6.4).
func gim1(rho float64, n int) float64 {
	// sigma = A*(1 - sigma); gaps of mean 1/rho.
	sigma := 0.5
	for range 10_000 {
		sigma = math.Pow(1+(1-sigma)/(rho*float64(n)), -float64(n))
	}
	return 1 / (1 - sigma)
}

func TestTimesAgreeWithQueueingTheory(t *testing.T) {
	if testing.Short() {
		t.Skip("nine million requests, which the race detector makes slow")
	}
	const ms = 1e-3
	exponential := func(workers int) string {
		return fmt.Sprintf("service = exponential(\"10ms\")\n workers = %d\n backlog = 10000000", workers)
	}
	shared := func(cores int, behaviour string) string {
		return fmt.Sprintf("%s\n sharing {\n  cores = %d\n }", behaviour, cores)
	}
	load := func(rate float64, seconds int) string {
		return fmt.Sprintf("rate = \"%g/s\"\n for = \"%ds\"\n clients = 10000\n popularity = 0", rate, seconds)
	}
	for _, c := range []struct {
		name      string
		backends  int
		algorithm string
		behaviour string
		load      string
		want      float64 // mean time in the system, seconds
	}{
		{"M/M/1", 1, "round-robin", exponential(1), load(70, 1500), 10 * ms / (1 - 0.7)},
		{"random split to five M/M/1", 5, "random", exponential(1), load(400, 300), 10 * ms / (1 - 0.8)},
		{"M/M/4 (Erlang C)", 1, "random", exponential(4), load(340, 300), 10*ms + erlangC(4, 3.4)*10*ms/(4-3.4)},
		{"M/M/16 (Erlang C)", 1, "random", exponential(16), load(1440, 70), 10*ms + erlangC(16, 14.4)*10*ms/(16-14.4)},
		{"M/D/1 (Pollaczek, Khinchine)", 1, "random", "service = \"10ms\"\n workers = 1\n backlog = 10000000", load(80, 1200), 10*ms + 0.8*10*ms/2/(1-0.8)},
		{"M/G/1 (Pollaczek, Khinchine)", 1, "random", "service = lognormal(\"10ms\", 1.2)\n workers = 1\n backlog = 10000000", load(70, 1500), 10*ms + 0.7*10*ms*(1+1.2*1.2)/2/(1-0.7)},
		// Sharing is insensitive to the distribution, so that M/M/c gives the mean for all (Cohen 1979).
		{"M/M/1, shared", 1, "random", shared(1, exponential(100_000)), load(70, 1500), 10 * ms / (1 - 0.7)},
		{"M/G/1, shared", 1, "random", shared(1, "service = lognormal(\"10ms\", 1.2)\n workers = 100000"), load(70, 1500), 10 * ms / (1 - 0.7)},
		{"M/D/4, shared", 1, "random", shared(4, "service = \"10ms\"\n workers = 100000"), load(340, 300), 10*ms + erlangC(4, 3.4)*10*ms/(4-3.4)},
		{"round-robin split to GI/M/1", 5, "round-robin", exponential(1), load(400, 300), 10 * ms * gim1(0.8, 5)},
		{"supermarket at 0.5", 400, "two-choices", exponential(1), load(20000, 6), 10 * ms * supermarket(0.5)},
		{"supermarket at 0.7", 400, "two-choices", exponential(1), load(28000, 6), 10 * ms * supermarket(0.7)},
		{"supermarket at 0.9", 400, "two-choices", exponential(1), load(36000, 6), 10 * ms * supermarket(0.9)},
		{"supermarket at 0.95", 400, "two-choices", exponential(1), load(38000, 8), 10 * ms * supermarket(0.95)},
	} {
		t.Run(c.name, func(t *testing.T) {
			var means []float64
			for _, r := range runs(t, c.backends, c.algorithm, c.behaviour, c.load) {
				require.Zero(t, r.Failed)
				means = append(means, r.Latency.Mean)
			}
			mean, half := interval(means)
			t.Logf("theory %.4f ms, replay %.4f ms, give or take %.4f ms", c.want*1e3, mean*1e3, half*1e3)
			assert.InDelta(t, c.want, mean, half+0.005*c.want)
			assert.Less(t, half, 0.08*c.want, "an interval so wide would say nothing")
		})
	}
}

// TestLossAgreesWithErlangB: with no room to wait, requests are refused as often
// as Erlang's loss formula gives, whatever the distribution of service times.
func TestLossAgreesWithErlangB(t *testing.T) {
	for _, service := range []string{"exponential(\"10ms\")", "\"10ms\"", "lognormal(\"10ms\", 0.6)"} {
		var lost []float64
		for _, r := range runs(t, 1, "round-robin", "service = "+service+"\n workers = 8\n backlog = 0", "rate = \"700/s\"\n for = \"100s\"") {
			lost = append(lost, r.ErrorRate)
			require.Equal(t, r.Failed, r.Errors[cause.Refused])
		}
		mean, half := interval(lost)
		want := erlangB(8, 7)
		assert.InDelta(t, want, mean, half+0.005*want, service)
		assert.Less(t, half, 0.1*want)
	}
}

// TestClosedLoadsObeyLittlesLaw: the clients are in service, waiting or
// thinking, so that their number is throughput times (answer time + thinking)
// (Little 1961).
func TestClosedLoadsObeyLittlesLaw(t *testing.T) {
	for _, r := range runs(t, 3, "least-connections", "service = exponential(\"10ms\")\n workers = 2\n backlog = 1000", "requests = 40000\n concurrency = 30\n think = \"20ms\"") {
		require.EqualValues(t, 40000, r.Answered)
		assert.InDelta(t, 30, r.Throughput*(r.Latency.Mean+0.02), 0.1)
	}
	// The asymptotic bound: so many workers can do no more, and are never idle.
	for _, r := range runs(t, 5, "round-robin", "service = \"10ms\"\n workers = 4\n backlog = 1000", "requests = 4000\n concurrency = 100") {
		for name, b := range r.Upstreams["app"].Backends {
			assert.EqualValues(t, 800, b.Requests, name)
		}
		assert.InDelta(t, 2000, r.Throughput, 1)
	}
}

// TestDetectionTakesWhatTheProbeSays: after a refused connection a backend is
// out between (d-1) and d intervals later, after silence up to a timeout more.
func TestDetectionTakesWhatTheProbeSays(t *testing.T) {
	for _, c := range []struct {
		kind            string
		every, timeout  float64
		down            int
		lowest, highest float64
	}{
		{"refuse", 2, 1, 3, 4, 6.01},
		{"refuse", 1, 0.5, 1, 0, 1.01},
		{"hang", 2, 1, 3, 5, 7.01},
		{"blackhole", 3, 0.5, 2, 3.5, 6.51},
	} {
		cfg := pool(t, 20, "round-robin", fmt.Sprintf("probe \"http\" {\n path = \"/\"\n every = \"%gs\"\n timeout = \"%gs\"\n down_after = %d\n}", c.every, c.timeout, c.down))
		text := "load {\n rate = \"20/s\"\n for = \"60s\"\n}\n"
		for i := range 20 {
			// A moment of its own for each, anywhere in the interval.
			at := 20 + rng.Unit(rng.Bits(1, uint64(i), 0, rng.Phase))*c.every
			text += fmt.Sprintf("fault \"f%d\" {\n backend = \"app.b%d\"\n kind = %q\n at = \"%.3fs\"\n}\n", i, i, c.kind, at)
		}
		r, err := Run(context.Background(), cfg, scenarioOf(t, cfg, text), nil, Options{Seed: 3})
		require.NoError(t, err)
		assert.InEpsilon(t, 20/c.every, r.ProbeRate, 0.06, "twenty backends, each so often")
		mean := 0.0
		for _, f := range r.Faults {
			require.NotNil(t, f.DetectedAfter, f.Name)
			assert.GreaterOrEqual(t, *f.DetectedAfter, c.lowest, "%s %s", c.kind, f.Name)
			assert.LessOrEqual(t, *f.DetectedAfter, c.highest, "%s %s", c.kind, f.Name)
			mean += *f.DetectedAfter / 20
		}
		// Uniform over an interval: five standard errors of twenty.
		assert.InDelta(t, (c.lowest+c.highest)/2, mean, 5*c.every/math.Sqrt(12*20), c.kind)
	}
}
