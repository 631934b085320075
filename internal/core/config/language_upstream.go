package config

import "strconv"

var upstreamBlock = &Block{
	Name: "upstream", Label: &Label{Name: "name"}, Many: true, Required: true,
	Help: "a named group of backends that serve the same thing",
	Keys: []*Key{
		{Name: "algorithm", Type: Text, Default: `"round-robin"`,
			Allowed: Algorithms,
			Help:    "the choice of a backend. " + describe(false) + "; hash: by a key, see the block",
			Example: `"least-connections"`},
		{Name: "backends", Type: Members, Required: true,
			Help:    "the servers by name, each an address or an object",
			Example: `{ auk = "192.0.2.11:8080", gannet = { address = "192.0.2.12:8080", weight = 2 } }`,
			Fields:  memberFields},
		{Name: "slow_start", Type: Duration, Min: `"10ms"`, Help: "a backend that comes back is given a tenth of its weight at first, and all of it after this time; hash does not scale",
			Example: `"20s"`},
		{Name: "proxy_protocol", Type: Text, Allowed: []string{"v1", "v2"}, Help: "each connection to a backend begins with a PROXY protocol header that names the client; http connections then serve one request each", Example: `"v2"`},
		{Name: "http_version", Type: Text, Default: `"1.1"`, Allowed: []string{"1.1", "2"}, Help: "what http requests to backends are spoken in, probes included; 2 puts many on one connection, in clear text by prior knowledge (RFC 9113 section 3.3)", Example: `"2"`},
		{Name: "when_all_down", Type: Text, Default: `"refuse"`, Allowed: []string{"refuse", "try-anyway"},
			Help: "with no backend in rotation: answer 503, or try one that is down or suspended (never one that an operator took out)", Example: `"try-anyway"`},
		{Name: "on_down", Type: Text, Allowed: []string{"keep", "close"},
			Help: "what becomes of the connections and streams (tcp, WebSockets, event streams) that are open with a backend when it goes down or is parked: they are kept until they end, or closed, so that clients connect to another. If not given: close for tcp, keep for the others", Example: `"close"`},
		{Name: "connect_from", Type: Text, Help: "an address of this machine from which backends are connected to, and probed; if not given, the system chooses one", Example: `"192.0.2.5"`},
		{Name: "resolve", Type: Text, Default: `"once"`, Allowed: []string{"once", "each"}, Help: "a name with several addresses counts once, as one backend that is looked up with each new connection; or each of its addresses counts as a backend of its own", Example: `"each"`},
		{Name: "resolve_every", Type: Duration, Default: `"30s"`, Min: `"1s"`, Help: "how often names are looked up again with resolve = \"each\"; addresses that are gone drain, new ones join", Example: `"10s"`},
		withoutKey,
	},
	Blocks: []*Block{
		upstreamTLSBlock,
		{
			Name: "probe", Label: &Label{Name: "kind", Allowed: probeKindNames()},
			Help: probeKindsHelp(),
			Keys: []*Key{
				{Name: "path", Type: Text, Default: `"/"`, Help: "what an http probe asks for", Example: `"/ready"`},
				{Name: "method", Type: Text, Default: `"GET"`, Allowed: []string{"GET", "HEAD", "OPTIONS"}, Help: "how an http probe asks; HEAD has no body for `expect` to look at", Example: `"HEAD"`},
				{Name: "host", Type: Text, Help: "the host that an http probe asks for, as an application of many names wants it; the backend's own address, if not given. With tls and without tls { name } the certificate is held against the backend's address all the same", Example: `"tickets.tern.example"`},
				{Name: "headers", Type: FieldTable, Help: "header fields that an http probe sends", Example: `{ "X-Probe" = "kestrix" }`},
				{Name: "port", Type: Whole, Min: "1", Max: "65535", Help: "where the probe connects to; the backend's own port, if not given", Example: "9100"},
				{Name: "send", Type: Text, Help: "text that a tcp probe writes once it is connected", Example: `"PING\r\n"`},
				{Name: "name", Type: Text, Help: "server name that a tls probe shows and verifies; the upstream's tls block or the backend's host, if not given", Example: `"tickets.tern.example"`},
				{Name: "verify", Type: Switch, Help: "whether a tls probe verifies the certificate; true, if not given", Example: "false"},
				{Name: "service", Type: Text, Help: "name of the service that a grpc probe asks for; the server as a whole, if not given", Example: `"tern.Booking"`},
				{Name: "expect", Type: Block1, Help: "answers of an http or tcp probe that pass; tcp has body only",
					Example: `{ status = ["200-299"], body = "*ready*" }`, Fields: expectFields},
				{Name: "every", Type: Duration, Default: `"5s"`, Min: `"10ms"`, Help: "from the start of one probe to the start of the next", Example: `"3s"`},
				{Name: "every_while_down", Type: Duration, Min: `"10ms"`, Help: "the same while the backend is down or recovering; as every, if not given", Example: `"1s"`},
				{Name: "jitter", Type: Percent, Default: `"0%"`, Help: "each probe comes up to this share of its interval later, so that many proxies do not ask together", Example: `"10%"`},
				{Name: "timeout", Type: Duration, Default: `"2s"`, Min: `"1ms"`, Help: "for the whole probe, connecting included", Example: `"1s"`},
				{Name: "down_after", Type: Whole, Default: "2", Min: "1", Max: "100", Help: "failures in a row until a backend is down", Example: "2"},
				{Name: "up_after", Type: Whole, Default: "2", Min: "1", Max: "100", Help: "passes in a row until it is up again", Example: "3"},
			},
		},
		{
			Name: "suspend",
			Help: "real traffic failed, so a backend rests for a while",
			Keys: []*Key{
				{Name: "after", Type: Whole, Default: "5", Min: "1", Max: "100000", Help: "failures in a row that suspend a backend", Example: "4"},
				{Name: "rest", Type: Duration, Default: `"10s"`, Min: `"10ms"`, Help: "the first rest", Example: `"10s"`},
				{Name: "growth", Type: Number, Default: "2", Min: "1", Max: "100", Help: "each further rest is this many times as long", Example: "2"},
				{Name: "longest", Type: Duration, Default: `"2m"`, Min: `"10ms"`, Help: "no rest is longer", Example: `"2m"`},
				{Name: "keep", Type: Percent, Default: `"50%"`, Help: "of the upstream's backends are always left in rotation, and always one", Example: `"50%"`},
				{Name: "silent_after", Type: Duration, Min: `"0s"`, Help: "time without a first byte to any client, with `after` requests begun in it, that suspends a backend, be its clients waiting or gone; the upstream's answer timeout, if not given; 0s turns it off", Example: `"10s"`},
				{Name: "on", Type: Texts, Default: `["connect", "timeout", "reset", "502", "503", "504"]`,
					Help: "what counts as a failure: connect, timeout, reset, or a status", Example: `["connect", "timeout"]`},
			},
		},
		{
			Name: "sticky",
			Help: "a client keeps its backend",
			Keys: []*Key{
				{Name: "by", Type: Text, Required: true, Allowed: []string{"cookie", "existing-cookie", "address", "header"},
					Help: "how a client is known again: a cookie of our own, one that the application sets, its address, or a header field", Example: `"cookie"`},
				{Name: "name", Type: Text, Help: "name of the cookie or header field; kestrix_seat for a cookie of our own, if not given", Example: `"tern_seat"`},
				{Name: "ttl", Type: Duration, Default: `"8h"`, Min: `"1s"`, Help: "how long a client that stays away is remembered", Example: `"8h"`},
				{Name: "on_loss", Type: Text, Default: `"move"`, Allowed: []string{"move", "refuse"},
					Help: "when its backend is out: move to another permanently, or refuse", Example: `"move"`},
				{Name: "secret", Type: Text, Secret: true, Help: "seals the cookie, at least 16 characters; the same on every proxy. Without it one is made at each start, and sessions end with the process",
					Example: `"a long line that only the proxies know"`},
				{Name: "pass_cookie", Type: Switch, Default: "false", Help: "backends receive the cookie of our own too; otherwise it is removed from requests", Example: "true"},
			},
		},
		{
			Name: "retry",
			Help: "a failed attempt is repeated on another backend, where that is safe",
			Keys: []*Key{
				{Name: "attempts", Type: Whole, Default: "2", Min: "1", Max: "10", Help: "at most, the first included", Example: "2"},
				{Name: "on", Type: Texts, Default: `["connect", "timeout", "reset", "502", "503"]`,
					Help: "what is repeated: connect for any method, the rest only for idempotent ones (RFC 9110 section 9.2.2)", Example: `["connect", "503"]`},
				{Name: "budget", Type: Percent, Help: "retries are at most this share of the requests, and ten at once; beyond it a failure is final, so that retries do not bury backends that struggle; none is no limit", Example: `"20%"`},
			},
		},
		{
			Name: "hash", Help: "what `algorithm = \"hash\"` goes by, and how",
			Keys: []*Key{
				{Name: "key", Type: Text, Default: `"client"`, Allowed: []string{"client", "client-prefix", "header", "cookie", "path", "query"},
					Help: "what decides: the client's address; its network, /24 or /64; a header field, cookie or query parameter of that name; or the path without query. A request without it goes by the client's address", Example: `"header"`},
				{Name: "name", Type: Text, Help: "of the header field, cookie or query parameter", Example: `"X-Tenant"`},
				{Name: "method", Type: Text, Default: `"ring"`, Allowed: hashMethods,
					Help: describe(true), Example: `"rendezvous"`},
				{Name: "bound", Type: Number, Min: "1", Max: "100", Help: "of the ring: no backend has more open than this many times the mean of its weight; the key then goes to the next; none is no bound", Example: "1.25"},
			},
		},
		{
			Name: "failover",
			Help: "which backends are given requests while others lack capacity; the share of a tier is its healthy weight against all its weight, held against spill_below",
			Keys: []*Key{
				{Name: "prefer", Type: Text, Default: `"none"`, Allowed: []string{"none", "zone"}, Help: "within a tier, backends in the proxy's own zone first", Example: `"zone"`},
				{Name: "spill_below", Type: Percent, Default: `"80%"`, Help: "a tier, or the own zone, takes all of its requests down to this share of healthy capacity; below it the rest spills to the next", Example: `"85%"`},
			},
		},
		{
			Name: "queue",
			Help: "while every backend has max_in_flight requests open, further ones wait, first come first served",
			Keys: []*Key{
				{Name: "limit", Type: Whole, Default: "100", Min: "1", Max: "1000000", Help: "how many may wait; a further one is answered with 503", Example: "200"},
				{Name: "timeout", Type: Duration, Default: `"5s"`, Min: `"1ms"`, Help: "how long one may wait", Example: `"2s"`},
			},
		},
		{
			Name: "timeouts", Always: true,
			Help: "how long a backend is waited for",
			Keys: append([]*Key{
				{Name: "connect", Type: Duration, Default: `"2s"`, Min: `"1ms"`, Help: "until the connection stands", Example: `"500ms"`},
				{Name: "kept", Type: Duration, Default: `"1m"`, Min: `"10ms"`, Help: "an unused connection is kept open this long for the next request; below what the backend itself allows", Example: `"30s"`},
			}, waitKeys("30s", "5m", "0s")...),
		},
	},
}

// waitKeys are the timeouts that a route may change.
func waitKeys(answer, idle, stream string) []*Key {
	quote := func(s string) string {
		if s == "" {
			return ""
		}
		return strconv.Quote(s)
	}
	return []*Key{
		{Name: "answer", Type: Duration, Default: quote(answer), Min: `"1ms"`, Help: "from the request being sent to the head of its answer", Example: `"10s"`},
		{Name: "idle", Type: Duration, Default: quote(idle), Min: `"10ms"`, Help: "an answer or stream on which nothing moves is cut off after this time", Example: `"90s"`},
		{Name: "stream", Type: Duration, Default: quote(stream), Help: "an event stream or TCP connection lasts at most this long; 0s is no limit", Example: `"4h"`},
	}
}

var memberFields = &Block{
	Name: "backend",
	Help: "one server of an upstream",
	Keys: []*Key{
		{Name: "address", Type: Addr, Required: true, Help: "where it is reached", Example: `"192.0.2.12:8080"`},
		{Name: "tier", Type: Whole, Default: "1", Min: "1", Max: "100", Help: "order of failover: a higher tier is for when the lower ones lack capacity; needs failover", Example: "2"},
		{Name: "zone", Type: Text, Help: "where it stands; needs failover { prefer = \"zone\" }", Example: `"north-quay"`},
		{Name: "weight", Type: Whole, Default: "1", Min: "0", Max: "10000", Help: "its share beside the others' weights; 0 gives it no new requests", Example: "2"},
		{Name: "max_in_flight", Type: Whole, Default: "0", Min: "0", Max: "1000000", Help: "requests it may have open at once; 0 is no limit", Example: "200"},
	},
}

var expectFields = &Block{
	Name: "expect",
	Help: "which answers of an http probe pass",
	Keys: []*Key{
		{Name: "status", Type: Texts, Default: `["200-299"]`, Help: "statuses and ranges of them", Example: `["200-299", "401"]`},
		{Name: "body", Type: Text, Help: "the first 4 KiB of the answer must fit; * stands for any text", Example: `"*ready*"`},
	},
}

var upstreamTLSBlock = &Block{
	Name: "tls",
	Help: "TLS is spoken with the backends, and by their http probes",
	Keys: []*Key{
		{Name: "verify", Type: Switch, Default: "true", Help: "whether the backend's certificate is held against name and authority", Example: "true"},
		{Name: "name", Type: Text, Help: "the name its certificate must be for; the host of its address, if not given", Example: `"app.inside.example"`},
		{Name: "ca", Type: Text, Help: "PEM file of the authorities that count; those of the machine, if not given", Example: `"inside-ca.pem"`},
		{Name: "certificate", Type: Text, Help: "PEM file of a certificate to show to backends that ask for one", Example: `"proxy.pem"`},
		{Name: "key", Type: Text, Help: "PEM file of its private key", Example: `"proxy.key"`},
		{Name: "min_version", Type: Text, Default: `"1.2"`, Allowed: []string{"1.0", "1.1", "1.2", "1.3"}, Help: "the oldest version of TLS that is spoken", Example: `"1.3"`},
	},
}
