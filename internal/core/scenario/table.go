// Package scenario reads scenarios: how backends and clients behave during a replay,
// faults with a beginning and an end, and what is expected of the result.
//
// Replay, rehearse, stand-ins and the checker use it. It must never act on what it
// reads: the replay and the stand-ins do, each from the same values.
package scenario

import "kestrix/internal/core/config"

// Language is the table of the scenario language. It is read only.
var Language = &config.Block{
	Name: "scenario",
	Help: "what happens during a replay",
	Keys: []*config.Key{
		{Name: "seed", Type: config.Whole, Default: "1", Min: "0", Help: "keys every random draw", Example: "7"},
		{Name: "instances", Type: config.Whole, Default: "1", Min: "1", Max: "64", Help: "so many proxies side by side, each with a view of its own and its own probes; clients are spread over them", Example: "3"},
	},
	Blocks: []*config.Block{
		{
			Name: "load",
			Help: "requests that are made instead of read from a trace: so many a second whatever comes back (rate), or so many that each wait for the one before (requests, concurrency)",
			Keys: []*config.Key{
				{Name: "rate", Type: config.Rate, Help: "open: requests a second on average", Example: `"200/s"`},
				{Name: "for", Type: config.Duration, Default: `"10m"`, Max: `"8784h"`, Help: "open: for how long", Example: `"10m"`},
				{Name: "arrivals", Type: config.Text, Default: `"poisson"`, Allowed: []string{"poisson", "even"}, Help: "open: at random moments, or the same time apart", Example: `"poisson"`},
				{Name: "shape", Type: config.Text, Default: `"steady"`, Allowed: []string{"steady", "ramp", "spike", "day"}, Help: "open: the course of the rate", Example: `"spike"`},
				{Name: "clients", Type: config.Whole, Default: "500", Min: "1", Max: "100000000", Help: "open: from how many clients", Example: "500"},
				{Name: "popularity", Type: config.Number, Default: "0.8", Min: "0", Max: "10", Help: "open: exponent of the zipf distribution of clients; 0 makes them equal", Example: "0.8"},
				{Name: "behind", Type: config.Percent, Default: `"0%"`, Help: "share of the clients that share an address with others, as behind a company's gateway", Example: `"20%"`},
				{Name: "addresses", Type: config.Whole, Default: "3", Min: "1", Max: "1000000", Help: "number of the addresses that the clients behind share", Example: "3"},
				{Name: "requests", Type: config.Whole, Min: "1", Max: "1000000000", Help: "closed: how many in all", Example: "4000"},
				{Name: "concurrency", Type: config.Whole, Min: "1", Max: "1000000", Help: "closed: clients that each send the next request when the one before is answered or has failed", Example: "100"},
				{Name: "think", Type: config.Duration, Default: `"0s"`, Help: "closed: how long a client waits before its next request", Example: `"1s"`},
				{Name: "paths", Type: config.Texts, Default: `"/"`, Help: "what is asked, each with a method before it if not GET and a weight after it; {n} is a number drawn anew", Example: `["/seats=5", "POST /bookings=1"]`},
				{Name: "host", Type: config.Text, Help: "of every request", Example: `"tickets.tern.example"`},
				{Name: "frontend", Type: config.Text, Help: "that takes them, where there are several", Example: `"tickets"`},
			},
		},
		{
			Name: "streams",
			Help: "which requests are long answers, such as event streams, that hold no worker",
			Keys: []*config.Key{
				{Name: "path", Type: config.Texts, Required: true, Help: "patterns as in a route's when", Example: `["/live/**"]`},
				{Name: "lasts", Type: config.Dist, Default: `"1m"`, Help: "how long, where the trace does not say", Example: `lognormal("5m", 1)`},
				{Name: "quiet", Type: config.Duration, Default: `"0s"`, Help: "the longest silence in them; longer than the idle timeout, the proxy ends them", Example: `"15s"`},
				{Name: "resend", Type: config.Switch, Default: "false", Help: "clients connect again when a stream breaks, for as long as it would have lasted", Example: "true"},
				{Name: "resend_after", Type: config.Duration, Default: `"1s"`, Min: `"1ms"`, Help: "how long they wait before that", Example: `"3s"`},
			},
		},
		{
			Name: "clients",
			Help: "how clients behave",
			Keys: []*config.Key{
				{Name: "patience", Type: config.Dist, Min: `"1ms"`, Help: "time that a client waits for the answer to begin; then it leaves. If not given they wait indefinitely", Example: `lognormal("8s", 0.5)`},
				{Name: "sessions", Type: config.Switch, Default: "false", Help: "each client has a session that the application keeps at the backend that answered it last, so that requests which reach another one matter; a trace that names sessions says so by itself", Example: "true"},
			},
		},
		{
			Name: "members", Label: &config.Label{Name: "backend"}, Many: true,
			Help: "how many backends the name of a backend stands for, in an upstream with resolve = \"each\", since a replay looks no names up; otherwise one",
			Keys: []*config.Key{
				{Name: "count", Type: config.Whole, Required: true, Min: "1", Max: "254", Help: "of UPSTREAM.BACKEND", Example: "3"},
			},
		},
		{
			Name: "behaviour", Label: &config.Label{Name: "pattern"}, Many: true,
			Help: "how backends behave, by UPSTREAM.BACKEND with * for any text; of several that fit, the last, and one with path before those without",
			Keys: []*config.Key{
				{Name: "path", Type: config.Texts, Help: "only of requests whose path fits one of these patterns, as in a route's when, before the route rewrites it: then only service is given; an upstream's requests are told apart by at most 8 such lists", Example: `["/search/**"]`},
				{Name: "service", Type: config.Dist, Traced: true, Help: "how long a worker takes: fixed, exponential, lognormal(mean, coefficient of variation) or from_trace(); " +
					"by default the trace's own durations where it has them, else lognormal(\"40ms\", 0.6)", Example: `lognormal("40ms", 0.6)`},
				{Name: "workers", Type: config.Whole, Default: "16", Min: "1", Max: "1000000", Help: "requests it works on at once", Example: "16"},
				{Name: "backlog", Type: config.Whole, Default: "64", Min: "0", Max: "10000000", Help: "requests that wait for a worker; a full one refuses", Example: "64"},
				{Name: "connect", Type: config.Duration, Default: `"1ms"`, Max: `"1h"`, Help: "how long connecting takes", Example: `"1ms"`},
			},
		},
		{
			Name: "fault", Label: &config.Label{Name: "title"}, Many: true,
			Help: "a scripted failure with a beginning and an end",
			Keys: []*config.Key{
				{Name: "backend", Type: config.Texts, Help: "whom it strikes, by UPSTREAM.BACKEND with * for any text", Example: `"booking.auk"`},
				{Name: "upstream", Type: config.Texts, Help: "every backend of these upstreams", Example: `"booking"`},
				{Name: "zone", Type: config.Texts, Help: "every backend that stands in these zones, of whatever upstream", Example: `"north-quay"`},
				{Name: "kind", Type: config.Text, Required: true, Allowed: FaultNames(AllFaults), Help: "what fails", Example: `"refuse"`},
				{Name: "at", Type: config.Duration, Required: true, Help: "when it begins, from the start of the replay", Example: `"2m"`},
				{Name: "until", Type: config.Duration, Help: "when it ends; without it, never", Example: `"5m"`},
				{Name: "status", Type: config.Whole, Default: "503", Min: "400", Max: "599", Help: "of errors and probe-lies: the status answered", Example: "503"},
				{Name: "rate", Type: config.Percent, Default: `"100%"`, Help: "of errors and probe-lies: how many answers", Example: `"50%"`},
				{Name: "after", Type: config.Duration, Help: "of errors and probe-lies: how long such an answer takes; 2 % of the service time, if not given, as an application that fails before it has done its work", Example: `"5ms"`},
				{Name: "factor", Type: config.Number, Default: "10", Min: "0.001", Max: "1000000", Help: "of slow: how many times as long", Example: "10"},
				{Name: "fails_for", Type: config.Duration, Default: `"5s"`, Min: `"1ms"`, Help: "of flap: how long it refuses each time", Example: `"5s"`},
				{Name: "works_for", Type: config.Duration, Default: `"15s"`, Min: `"1ms"`, Help: "of flap: how long it works in between", Example: `"15s"`},
				{Name: "weight", Type: config.Whole, Default: "0", Min: "0", Max: "10000", Help: "of weight: the weight while it lasts", Example: "1"},
			},
		},
		{
			Name: "expect", Label: &config.Label{Name: "title"}, Many: true,
			Help: "what the result must be; if it is not, replay exits with 1",
			Keys: []*config.Key{
				{Name: "that", Type: config.Any, Required: true, Help: "a condition over the result's keys, share(\"UPSTREAM.BACKEND\"), and before, during and after(\"FAULT\"); a moment that never came counts as infinite",
					Example: "result.error_rate <= 0.002"},
				{Name: "seeds", Type: config.Whole, Default: "1", Min: "1", Max: "1000", Help: "number of seeds with which it is judged, each by a replay of its own", Example: "20"},
				{Name: "share", Type: config.Number, Default: "0.95", Min: "0.01", Max: "1", Help: "share of the seeds with which it must be met", Example: "0.95"},
			},
		},
	},
}
