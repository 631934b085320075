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
	Help: "the scenario of a replay: load, behaviour, faults, expectations",
	Keys: []*config.Key{
		{Name: "seed", Type: config.Whole, Default: "1", Why: "a result can be repeated", Min: "0", Help: "seed of the random number generator", Example: "7"},
		{Name: "instances", Type: config.Whole, Default: "1", Why: "most configurations run in one proxy", Min: "1", Max: "64", Help: "number of proxies that share the traffic, each with its own state and probes; clients are spread over them", Example: "3"},
		{Name: "load_factor", Type: config.Number, Default: "1", Why: "the load as it is", Min: "0.01", Max: "100", Help: "how often each request of the trace or of an open load comes, on average. Copies come from further clients, within a second", Example: "1.3"},
	},
	Blocks: []*config.Block{
		{
			Name: "load",
			Help: "generated requests instead of a trace. An open load has a rate that does not depend on responses. A closed load has clients that each wait for their response (requests, concurrency)",
			Keys: []*config.Key{
				{Name: "rate", Type: config.Rate, Help: "open load: mean rate of requests", Example: `"200/s"`},
				{Name: "for", Type: config.Duration, Default: `"10m"`, Why: "long enough for a failure and a recovery", Max: `"8784h"`, Help: "open load: duration", Example: `"10m"`},
				{Name: "arrivals", Type: config.Text, Default: `"poisson"`, Why: "independent clients arrive at random times", Allowed: []string{"poisson", "even"}, Meanings: []string{"random, independent of each other", "equal"}, Help: "open load: times between requests", Example: `"poisson"`},
				{Name: "shape", Type: config.Text, Default: `"steady"`, Why: "a change of rate is a question of its own", Allowed: []string{"steady", "ramp", "spike", "day"}, Meanings: []string{"constant", "growing from 0.1 to 1.9 times the mean", "five times the rest for a tenth of the time, in the middle", "from 0.2 times the mean to 1.8 times and back"}, Help: "open load: course of the rate", Example: `"spike"`},
				{Name: "clients", Type: config.Whole, Default: "500", Why: "enough for a smooth spread by client", Min: "1", Max: "100000000", Help: "open load: number of clients", Example: "500"},
				{Name: "popularity", Type: config.Number, Default: "0.8", Why: "typical of public sites: few clients send many requests", Min: "0", Max: "10", Help: "open load: exponent of the Zipf distribution of requests over clients; 0 is uniform", Example: "0.8"},
				{Name: "behind", Type: config.Percent, Default: `"0%"`, Help: "share of the clients behind shared addresses, as behind a company's gateway", Example: `"20%"`},
				{Name: "addresses", Type: config.Whole, Default: "3", Why: "a company often has a few gateways", Min: "1", Max: "1000000", Help: "number of the shared addresses", Example: "3"},
				{Name: "requests", Type: config.Whole, Min: "1", Max: "1000000000", Help: "closed load: total number of requests", Example: "4000"},
				{Name: "concurrency", Type: config.Whole, Min: "1", Max: "1000000", Help: "closed load: number of clients; each sends its next request after the last was answered or failed", Example: "100"},
				{Name: "think", Type: config.Dist, Default: `"0s"`, Help: "closed load: time between a response and the client's next request", Example: `exponential("1s")`},
				{Name: "sessions", Type: config.Switch, Default: "false", Help: "whether the requests of each client carry a session of its own, as a trace with sessions does", Example: "true"},
				{Name: "paths", Type: config.Texts, Default: `"/"`, Why: "every site has it", Help: "paths of the requests, each after its method if it is not GET, with a weight after =; {n} is a random number", Example: `["/seats=5", "POST /bookings=1"]`},
				{Name: "host", Type: config.Text, Help: "host of every request", Example: `"tickets.tern.example"`},
				{Name: "frontend", Type: config.Text, Help: "frontend of the requests; needed when there are several", Example: `"tickets"`},
			},
			Blocks: []*config.Block{
				{
					Name: "page", Label: &config.Label{Name: "path"}, Many: true,
					Help: "what a client fetches as soon as a path of paths was answered, as the parts of a page. The load's rate or requests do not count them",
					Keys: []*config.Key{
						{Name: "fetches", Type: config.Texts, Required: true, Help: "paths of the parts, each after its method if it is not GET; {n} is a random number", Example: `["/app.css", "/app.js", "/seats.json"]`},
						{Name: "at_once", Type: config.Whole, Default: "6", Why: "browsers commonly open six connections to a host", Min: "1", Max: "1000", Help: "parts that are fetched at the same time", Example: "6"},
					},
				},
				sentBlock("header", "a header field that clients send, each always the same value", `["beta=5", "=95"]`, "X-Tern-Channel"),
				sentBlock("cookie", "a cookie that clients send, each always the same value", `["on=5", "=95"]`, "tern_preview"),
			},
		},
		{
			Name: "streams",
			Help: "requests that are long responses, such as event streams; they occupy no worker",
			Keys: []*config.Key{
				{Name: "path", Type: config.Texts, Required: true, Help: "path patterns, as in a route's when", Example: `["/live/**"]`},
				{Name: "lasts", Type: config.Dist, Default: `"1m"`, Why: "a chat or a board stays open for a minute or longer; this is an assumption", Help: "duration of a stream that has none in the trace", Example: `lognormal("5m", 1)`},
				{Name: "quiet", Type: config.Duration, Default: `"0s"`, Help: "maximum time without data in a stream; the proxy closes a stream whose silence exceeds the idle timeout", Example: `"15s"`},
				{Name: "resend", Type: config.Switch, Default: "false", Help: "whether clients reconnect when a stream breaks, for the rest of its duration", Example: "true"},
				{Name: "resend_after", Type: config.Duration, Default: `"1s"`, Why: "clients usually wait for about a second before they reconnect", Min: `"1ms"`, Help: "time before a client reconnects", Example: `"3s"`},
			},
		},
		{
			Name: "clients",
			Help: "behaviour of clients",
			Keys: []*config.Key{
				{Name: "patience", Type: config.Dist, Min: `"1ms"`, Help: "maximum time that a client waits for the response to begin; then it leaves. If not given clients wait indefinitely", Example: `lognormal("8s", 0.5)`},
				{Name: "again", Type: config.Whole, Default: "0", Min: "0", Max: "100", Help: "how often a client repeats a request that failed or that it left. Streams are not repeated", Example: "2"},
				{Name: "after", Type: config.Dist, Default: `"1s"`, Why: "a person who presses the button again, or a program that waits for a second", Min: `"1ms"`, Help: "time before a client repeats a request", Example: `exponential("1s")`},
				{Name: "sessions", Type: config.Switch, Default: "false", Help: "whether each client has a session that only the backend which answered it last knows. A trace with sessions needs no such setting", Example: "true"},
			},
		},
		{
			Name: "members", Label: &config.Label{Name: "backend"}, Many: true,
			Help: "number of addresses of a backend's host name, for upstreams with resolve = \"each\". A replay resolves no names; one if not given",
			Keys: []*config.Key{
				{Name: "count", Type: config.Whole, Required: true, Min: "1", Max: "254", Help: "number of addresses of UPSTREAM.BACKEND", Example: "3"},
			},
		},
		{
			Name: "behaviour", Label: &config.Label{Name: "pattern"}, Many: true,
			Help: "behaviour of backends, by UPSTREAM.BACKEND with * for any text. Of several matching blocks the last counts; a block with path takes precedence",
			Keys: []*config.Key{
				{Name: "path", Type: config.Texts, Help: "path patterns to which this block is limited, matched before the rewrite; the block then has service only. An upstream may have at most 8 such lists", Example: `["/search/**"]`},
				{Name: "service", Type: config.Dist, Traced: true, Help: "service time of a worker: a duration, exponential(mean), lognormal(mean, coefficient of variation) or from_trace(). If not given: the durations of the trace, or else lognormal(\"40ms\", 0.6)", Example: `lognormal("40ms", 0.6)`},
				{Name: "workers", Type: config.Whole, Default: "16", Why: "a common number of worker processes; this is an assumption, and trace learn replaces it", Min: "1", Max: "1000000", Help: "requests processed at once", Example: "16"},
				{Name: "backlog", Type: config.Whole, Default: "64", Why: "a small listen backlog; this is an assumption", Min: "0", Max: "10000000", Help: "maximum requests that wait for a worker; further connections are refused", Example: "64"},
				{Name: "connect", Type: config.Duration, Default: `"1ms"`, Why: "a connection within one site", Max: `"1h"`, Help: "time to connect", Example: `"1ms"`},
				{Name: "handshake", Type: config.Duration, Max: `"1h"`, Help: "time of the TLS handshake of a new connection, in upstreams with TLS; as long as connect if not given", Example: `"2ms"`},
			},
			Blocks: []*config.Block{
				{
					Name: "sharing",
					Help: "processor sharing: requests in progress share the cores equally, so that each takes longer the more there are. Without it a request takes the same time however many others are in progress",
					Keys: []*config.Key{
						{Name: "cores", Type: config.Number, Required: true, Min: "0.01", Max: "100000", Help: "requests that progress at full speed; n requests in progress each progress at cores / n of it. workers still limits how many are in progress", Example: "4"},
					},
				},
				{
					Name: "cold",
					Help: "slow beginning of a backend whose process has restarted, that is at the end of a refuse fault and in the pauses of a flap fault. Without it a restarted backend is as fast as before",
					Keys: []*config.Key{
						{Name: "for", Type: config.Duration, Required: true, Min: `"1ms"`, Max: `"24h"`, Help: "time until the backend is as fast as before", Example: `"30s"`},
						{Name: "factor", Type: config.Number, Default: "5", Why: "empty caches and code that is not compiled yet often cost several times as much", Min: "1", Max: "1000000", Help: "factor of the service time at first; it falls evenly to 1", Example: "5"},
					},
				},
			},
		},
		{
			Name: "dependency", Label: &config.Label{Name: "name"}, Many: true,
			Help: "a service that backends share, such as a database. A backend calls it after its own work on a request, and holds the worker until the call ends. Several are called one after the other",
			Keys: []*config.Key{
				{Name: "backend", Type: config.Texts, Required: true, Help: "backends that call it: UPSTREAM.BACKEND with * for any text, or a name that only one backend has", Example: `"booking.*"`},
				{Name: "path", Type: config.Texts, Help: "path patterns of the requests that need it, matched before the rewrite; all if not given", Example: `["/seats/**"]`},
				{Name: "service", Type: config.Dist, Required: true, Help: "time that a call takes", Example: `exponential("5ms")`},
				{Name: "workers", Type: config.Whole, Default: "16", Why: "a small pool of connections to a database", Min: "1", Max: "1000000", Help: "calls that it works on at once", Example: "20"},
				{Name: "backlog", Type: config.Whole, Default: "1000000", Why: "callers usually wait as long as it takes", Min: "0", Max: "10000000", Help: "calls that wait; others fail at once", Example: "100"},
				{Name: "timeout", Type: config.Duration, Min: `"1ms"`, Help: "time after which a backend gives a call up; it waits indefinitely if not given", Example: `"2s"`},
				{Name: "status", Type: config.Whole, Default: "500", Why: "what applications answer when their database fails", Min: "400", Max: "599", Help: "status with which a backend answers when a call failed", Example: "503"},
				{Name: "probes", Type: config.Switch, Default: "false", Help: "whether http probes need it as well, so that they fail when it fails", Example: "true"},
			},
		},
		{
			Name: "fault", Label: &config.Label{Name: "title"}, Many: true,
			Help: "failure with a beginning and an end",
			Keys: []*config.Key{
				{Name: "backend", Type: config.Texts, Help: "backends that fail: UPSTREAM.BACKEND with * for any text, or a name that only one backend has", Example: `"booking.auk"`},
				{Name: "upstream", Type: config.Texts, Help: "upstreams whose backends all fail", Example: `"booking"`},
				{Name: "zone", Type: config.Texts, Help: "zones whose backends all fail, in every upstream", Example: `"north-quay"`},
				{Name: "dependency", Type: config.Texts, Help: "dependencies that fail, in place of backends", Example: `"db"`},
				{Name: "kind", Type: config.Text, Required: true, Allowed: FaultNames(AllFaults), Meanings: faultDocs(), Help: "kind of failure", Example: `"refuse"`},
				{Name: "at", Type: config.Duration, Required: true, Help: "beginning, as time since the start of the replay", Example: `"2m"`},
				{Name: "until", Type: config.Duration, Help: "end, as time since the start of the replay; none if not given", Example: `"5m"`},
				{Name: "status", Type: config.Whole, Default: "503", Why: "an overloaded or restarting application answers with it", Min: "400", Max: "599", Help: "errors and probe-lies: status of the response", Example: "503"},
				{Name: "rate", Type: config.Percent, Default: `"100%"`, Why: "the clearest case; a smaller share is harder to detect", Help: "errors and probe-lies: share of the responses with that status", Example: `"50%"`},
				{Name: "after", Type: config.Duration, Help: "errors and probe-lies: duration of such a response; 2 % of the service time if not given, as of an application that fails early", Example: `"5ms"`},
				{Name: "factor", Type: config.Number, Default: "10", Why: "a slow disk or a cold cache is often that much slower", Min: "0.001", Max: "1000000", Help: "slow: factor of the service time", Example: "10"},
				{Name: "fails_for", Type: config.Duration, Default: `"5s"`, Why: "short enough to end before probes detect it with the default interval", Min: `"1ms"`, Help: "flap: time for which the backend refuses connections", Example: `"5s"`},
				{Name: "works_for", Type: config.Duration, Default: `"15s"`, Why: "the backend returns to rotation between two failures", Min: `"1ms"`, Help: "flap: time for which the backend works in between", Example: `"15s"`},
				{Name: "proxy", Type: config.Whole, Default: "1", Why: "most scenarios have one proxy", Min: "1", Max: "64", Help: "gone: number of the proxy that ends, of instances", Example: "2"},
				{Name: "moves_after", Type: config.Duration, Default: `"0s"`, Max: `"1h"`, Help: "gone: time after which clients of that proxy reach another one; until then their requests fail", Example: `"3s"`},
				{Name: "weight", Type: config.Whole, Default: "0", Why: "a weight of 0 sends no new requests", Min: "0", Max: "10000", Help: "weight: weight during the fault", Example: "1"},
			},
		},
		{
			Name: "expect", Label: &config.Label{Name: "title"}, Many: true,
			Help: "expectation of the result; replay exits with 1 when one is not met",
			Keys: []*config.Key{
				{Name: "that", Type: config.Any, Required: true, Help: "condition on the result's keys, share(\"UPSTREAM.BACKEND\"), and before, during and after(\"FAULT\"). A moment that never came is infinite",
					Example: "result.error_rate <= 0.002"},
				{Name: "seeds", Type: config.Whole, Default: "1", Why: "one replay is fastest; several show how much is chance", Min: "1", Max: "1000", Help: "number of seeds with which it is judged, each by its own replay", Example: "20"},
				{Name: "share", Type: config.Number, Default: "0.95", Why: "19 of 20", Min: "0.01", Max: "1", Help: "share of the seeds with which it must be met", Example: "0.95"},
			},
		},
	},
}

// sentBlock is the block of something that clients of a load send with their requests.
func sentBlock(name, help, example, called string) *config.Block {
	return &config.Block{
		Name: name, Label: &config.Label{Name: "name"}, Many: true, Help: help + ", such as " + called,
		Keys: []*config.Key{
			{Name: "values", Type: config.Texts, Required: true, Help: "values with their weights after =, by which clients are divided; clients with an empty value do not send it", Example: example},
		},
	}
}
