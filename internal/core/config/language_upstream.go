package config

import "strconv"

var upstreamBlock = &Block{
	Name: "upstream", Label: &Label{Name: "name"}, Many: true, Required: true,
	Help: "group of backends that serve the same content",
	Keys: []*Key{
		{Name: "algorithm", Type: Text, Default: `"round-robin"`, Why: "it needs no measurements, and its spread is easy to predict",
			Allowed:  Algorithms,
			Meanings: append(meanings(false), "the backend for a key of the request, see the block hash"),
			Help:     "algorithm that chooses a backend", Example: `"least-connections"`},
		{Name: "backends", Type: Members,
			Help:    "backends by name, each an address or an object; required without backends_from",
			Example: `{ auk = "192.0.2.11:8080", gannet = { address = "192.0.2.12:8080", weight = 2 } }`,
			Fields:  memberFields},
		{Name: "backends_from", Type: Text, Help: "JSON file with the backends instead: an object like that of backends. A running proxy follows the file. A file that cannot be used changes nothing", Example: `"backends.json"`},
		{Name: "slow_start", Type: Duration, Min: `"10ms"`, Help: "time in which the weight of a recovered backend grows from a tenth to its full value; hash ignores it",
			Example: `"20s"`},
		{Name: "proxy_protocol", Type: Text, Allowed: []string{"v1", "v2"}, Help: "version of the PROXY protocol header with the client's address, sent at the start of each connection to a backend. HTTP connections then serve one request each. If not given, none is sent", Example: `"v2"`},
		{Name: "http_version", Type: Text, Default: `"1.1"`, Why: "every HTTP server has it", Allowed: []string{"1.1", "2"}, Meanings: []string{"one request at a time per connection", "many requests per connection (RFC 9113); without TLS by prior knowledge"}, Help: "version of HTTP to backends, also for probes", Example: `"2"`},
		{Name: "when_all_down", Type: Text, Default: `"refuse"`, Why: "requests to backends that are known to fail only make clients wait", Allowed: []string{"refuse", "try-anyway"},
			Meanings: []string{"answer 503", "try a backend that is down or suspended, but never one that an operator took out"}, Help: "behaviour when no backend is in rotation", Example: `"try-anyway"`},
		{Name: "on_down", Type: Text, Allowed: []string{"keep", "close"},
			Meanings: []string{"keep them until they end", "close them, so that clients connect to another backend"}, Help: "treatment of open connections and streams (tcp, WebSockets, event streams) when their backend goes down or is parked. If not given: close for tcp, keep for others", Example: `"close"`},
		{Name: "connect_from", Type: Text, Help: "local address for connections to backends, also for probes; the system chooses one if not given", Example: `"192.0.2.5"`},
		{Name: "resolve", Type: Text, Default: `"once"`, Why: "the addresses of a name often belong to one balancer that chooses itself", Allowed: []string{"once", "each"}, Meanings: []string{"the name is one backend, resolved for each new connection", "each address is a backend of its own"}, Help: "treatment of a host name with several addresses", Example: `"each"`},
		{Name: "resolve_every", Type: Duration, Default: `"30s"`, Why: "DNS records with a short life usually live for 30 to 60 s", Min: `"1s"`, Help: "maximum interval of DNS lookups with resolve = \"each\"; the time to live (TTL) of the records shortens it. Removed addresses drain, new ones join", Example: `"10s"`},
		{Name: "resolve_floor", Type: Duration, Default: `"5s"`, Why: "name servers are spared records with a TTL of 0, and backends that stay away", Min: `"1s"`, Help: "minimum interval of DNS lookups with resolve = \"each\", whatever the TTL. When a connection to a backend or a probe fails, the next lookup follows that soon", Example: `"2s"`},
		withoutKey,
	},
	Blocks: []*Block{
		upstreamTLSBlock,
		{
			Name: "probe", Label: &Label{Name: "kind", Allowed: probeKindNames(), Meanings: probeKindDocs()},
			Help: "active health check of each backend",
			Keys: []*Key{
				{Name: "path", Type: Text, Default: `"/"`, Why: "every site has it; a path that checks what the application needs detects more", Help: "path of an http probe", Example: `"/ready"`},
				{Name: "method", Type: Text, Default: `"GET"`, Why: "some applications answer HEAD incorrectly", Allowed: []string{"GET", "HEAD", "OPTIONS"}, Help: "method of an http probe; HEAD has no body for expect", Example: `"HEAD"`},
				{Name: "host", Type: Text, Help: "host of an http probe; the backend's own address if not given. It does not change the name for which the certificate is verified", Example: `"tickets.tern.example"`},
				{Name: "headers", Type: FieldTable, Help: "additional header fields of an http probe", Example: `{ "X-Probe" = "kestrix" }`},
				{Name: "port", Type: Whole, Min: "1", Max: "65535", Help: "port of the probe; the backend's own port if not given", Example: "9100"},
				{Name: "send", Type: Text, Help: "text that a tcp probe sends after it has connected", Example: `"PING\r\n"`},
				{Name: "name", Type: Text, Help: "server name (SNI) of a tls probe, also verified. If not given: the name of the upstream's tls block, or the host of the backend", Example: `"tickets.tern.example"`},
				{Name: "verify", Type: Switch, Help: "whether a tls probe verifies the certificate; true if not given", Example: "false"},
				{Name: "service", Type: Text, Help: "name of the service of a grpc probe; the whole server if not given", Example: `"tern.Booking"`},
				{Name: "expect", Type: Block1, Help: "responses with which an http or tcp probe passes; tcp has body only",
					Example: `{ status = ["200-299"], body = "*ready*" }`, Fields: expectFields},
				{Name: "every", Type: Duration, Default: `"5s"`, Why: "with down_after = 2, a hung backend is detected within about 12 s, for 0.2 probes per second", Min: `"10ms"`, Help: "interval between the starts of two probes", Example: `"3s"`},
				{Name: "every_while_down", Type: Duration, Min: `"10ms"`, Help: "interval while the backend is down or recovering; the value of every if not given", Example: `"1s"`},
				{Name: "jitter", Type: Percent, Default: `"0%"`, Why: "a random phase separates the first probes already", Help: "maximum random delay of a probe, as a share of its interval, so that several proxies do not probe together", Example: `"10%"`},
				{Name: "timeout", Type: Duration, Default: `"2s"`, Why: "a healthy backend answers its probe in milliseconds; a short pause of its runtime should not count", Min: `"1ms"`, Help: "timeout of a probe, including the connect", Example: `"1s"`},
				{Name: "down_after", Type: Whole, Default: "2", Why: "one lost packet must not remove a backend", Min: "1", Max: "100", Help: "failed probes in a row after which a backend is down", Example: "2"},
				{Name: "up_after", Type: Whole, Default: "2", Why: "one lucky response must not return a backend", Min: "1", Max: "100", Help: "passed probes in a row after which a backend is up again", Example: "3"},
			},
		},
		{
			Name: "suspend",
			Help: "takes a backend out of rotation for a time when requests fail",
			Keys: []*Key{
				{Name: "after", Type: Whole, Default: "5", Why: "a few failures in a row happen by chance; five seldom do", Min: "1", Max: "100000", Help: "failed requests in a row that suspend a backend", Example: "4"},
				{Name: "rest", Type: Duration, Default: `"10s"`, Why: "a restart usually takes some seconds", Min: `"10ms"`, Help: "duration of the first suspension", Example: `"10s"`},
				{Name: "growth", Type: Number, Default: "2", Why: "a backend that fails again is tried less often, and a broken one soon rarely", Min: "1", Max: "100", Help: "factor by which each further suspension is longer", Example: "2"},
				{Name: "longest", Type: Duration, Default: `"2m"`, Why: "a backend that works again must not wait for much longer than its repair", Min: `"10ms"`, Help: "maximum duration of a suspension", Example: `"2m"`},
				{Name: "keep", Type: Percent, Default: `"50%"`, Why: "the others must carry the load; below half, an overload is more likely than many broken backends", Help: "minimum share of the upstream's backends that stay in rotation; at least one always does", Example: `"50%"`},
				{Name: "silent_after", Type: Duration, Min: `"0s"`, Help: "suspends a backend when no client received a first byte for this time, and at least after requests began in it. The upstream's answer timeout if not given; 0s turns it off", Example: `"10s"`},
				{Name: "on", Type: Texts, Default: `["connect", "timeout", "reset", "502", "503", "504"]`, Why: "these are failures of the backend; 500 is often caused by one request", Known: Failures, Meanings: failureDocs,
					Help: "failures that count; a status such as \"502\" is one too, and a status of gRPC such as \"grpc:unavailable\"", Example: `["connect", "timeout"]`},
			},
		},
		{
			Name: "sticky",
			Help: "sends the requests of a client to the same backend",
			Keys: []*Key{
				{Name: "by", Type: Text, Required: true, Allowed: []string{"cookie", "existing-cookie", "address", "header"},
					Meanings: []string{"by a cookie of the proxy", "by a cookie of the application", "by the client's address", "by a header field"}, Help: "identification of a client", Example: `"cookie"`},
				{Name: "name", Type: Text, Help: "name of the cookie or header field; kestrix_seat if not given, for the cookie of the proxy", Example: `"tern_seat"`},
				{Name: "ttl", Type: Duration, Default: `"8h"`, Why: "a working day", Min: `"1s"`, Help: "time after which an absent client is forgotten", Example: `"8h"`},
				{Name: "on_loss", Type: Text, Default: `"move"`, Why: "a request that is answered without its session is usually better than an error", Allowed: []string{"move", "refuse"},
					Meanings: []string{"move it to another backend permanently", "refuse its requests with 503"}, Help: "treatment of a client whose backend is out of rotation", Example: `"move"`},
				{Name: "secret", Type: Text, Secret: true, Help: "secret that encrypts the cookie, at least 16 characters, the same on every proxy. Without it the proxy makes one at each start, and sessions end with the process",
					Example: `"a long line that only the proxies know"`},
				{Name: "pass_cookie", Type: Switch, Default: "false", Help: "whether backends receive the proxy's cookie; otherwise it is removed from requests", Example: "true"},
			},
		},
		{
			Name: "retry",
			Help: "repeats a failed attempt on another backend, where that is safe",
			Keys: []*Key{
				{Name: "attempts", Type: Whole, Default: "2", Why: "a second attempt saves requests from one failing backend; more attempts multiply load during an outage", Min: "1", Max: "10", Help: "maximum attempts of a request, including the first", Example: "2"},
				{Name: "on", Type: Texts, Default: `["connect", "timeout", "reset", "502", "503"]`, Why: "another backend can succeed; after 504 the client would wait for a timeout twice", Known: Failures, Meanings: failureDocs,
					Help: "failures that are repeated; a status such as \"503\" is one too, and a status of gRPC such as \"grpc:unavailable\". connect is repeated for any method, others for idempotent methods only (RFC 9110 section 9.2.2). A listed status of gRPC is repeated for every call that ended with it and without a message: list what is safe for all methods", Example: `["connect", "503"]`},
				{Name: "budget", Type: Percent, Help: "maximum share of retries among requests, plus a burst of ten. A failure is final when it is exceeded, so that retries do not overload backends. No limit if not given", Example: `"20%"`},
			},
		},
		{
			Name: "hash", Help: "key and method of algorithm = \"hash\"",
			Keys: []*Key{
				{Name: "key", Type: Text, Default: `"client"`, Why: "every request has an address", Allowed: []string{"client", "client-prefix", "header", "cookie", "path", "query"},
					Meanings: []string{"the client's address", "the client's network, /24 or /64", "the header field called name", "the cookie called name", "the path without query", "the query parameter called name"}, Help: "value that is hashed; a request without it is hashed by the client's address", Example: `"header"`},
				{Name: "name", Type: Text, Help: "name of the header field, cookie or query parameter", Example: `"X-Tenant"`},
				{Name: "method", Type: Text, Default: `"ring"`, Why: "few keys move when a backend joins or leaves, and weights hold", Allowed: hashMethods,
					Meanings: meanings(true), Help: "method that maps keys to backends", Example: `"rendezvous"`},
				{Name: "bound", Type: Number, Min: "1", Max: "100", Help: "maximum requests in flight at a backend of the ring, as a multiple of the mean for its weight. Further keys go to the next backend; no limit if not given", Example: "1.25"},
			},
		},
		{
			Name: "failover",
			Help: "sends requests to other tiers or zones while capacity is lacking. The healthy share of a tier is its healthy weight divided by its total weight",
			Keys: []*Key{
				{Name: "prefer", Type: Text, Default: `"none"`, Why: "zones matter only where backends have one", Allowed: []string{"none", "zone"}, Meanings: []string{"none", "backends in the zone of the proxy first"}, Help: "preference within a tier", Example: `"zone"`},
				{Name: "spill_below", Type: Percent, Default: `"80%"`, Why: "the loss of one backend in five is carried by the others; a greater loss usually overloads them", Help: "minimum healthy share with which a tier, or the own zone, gets all of its requests; below it the remainder spills to the next", Example: `"85%"`},
				{Name: "spill_at", Type: Percent, Help: "spills by load instead of health: share of a backend's max_in_flight up to which requests stay in its tier and zone while any backend there has less. Every backend needs max_in_flight", Example: `"80%"`},
			},
		},
		{
			Name: "queue",
			Help: "queue for requests while every backend has max_in_flight requests in flight; first in, first out",
			Keys: []*Key{
				{Name: "limit", Type: Whole, Default: "100", Why: "a burst can wait; a longer queue is rarely emptied before clients leave", Min: "1", Max: "1000000", Help: "maximum waiting requests; the answer is 503 when it is exceeded", Example: "200"},
				{Name: "timeout", Type: Duration, Default: `"5s"`, Why: "most clients wait for 5 s; many leave afterwards", Min: `"1ms"`, Help: "maximum time that a request waits; then the answer is 503", Example: `"2s"`},
			},
		},
		{
			Name: "timeouts", Always: true,
			Help: "timeouts of backends",
			Keys: append([]*Key{
				{Name: "connect", Type: Duration, Default: `"2s"`, Why: "a lost packet is sent again after 1 s, so that one loss is survived", Min: `"1ms"`, Help: "timeout for a connection to a backend", Example: `"500ms"`},
				{Name: "kept", Type: Duration, Default: `"1m"`, Why: "many servers close idle connections after 60 s or more", Min: `"10ms"`, Help: "time that an idle connection to a backend is kept open; it must be shorter than the backend's own keep-alive timeout", Example: `"30s"`},
				{Name: "connection_age", Type: Duration, Default: `"10m"`, Why: "so a name that has moved is followed in time; a new connection in 10 minutes costs nothing", Help: "age from which a connection to a backend serves no further request. \"0s\" is no limit", Example: `"1m"`},
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
	why := func(value, reason string) string {
		if value == "" {
			return ""
		}
		return reason
	}
	return []*Key{
		{Name: "answer", Type: Duration, Default: quote(answer), Why: why(answer, "few pages take longer; a route with long requests has its own value"), Min: `"1ms"`, Help: "timeout from the end of sending the request to the header of the response", Example: `"10s"`},
		{Name: "idle", Type: Duration, Default: quote(idle), Why: why(idle, "event streams and WebSockets usually send something every minute or so"), Min: `"10ms"`, Help: "maximum time without any data on a response or stream; then it is closed", Example: `"90s"`},
		{Name: "stream", Type: Duration, Default: quote(stream), Help: "maximum duration of an event stream or TCP connection; 0s is no limit", Example: `"4h"`},
	}
}

var memberFields = &Block{
	Name: "backend",
	Help: "one server of an upstream",
	Keys: []*Key{
		{Name: "address", Type: Addr, Services: true, Required: true, Help: "address of the backend: host and port, a Unix socket, or with resolve = \"each\" a service in DNS (RFC 2782), such as srv:_http._tcp.app.example. The records of a service give ports and weights; each further priority is a further tier (see failover)", Example: `"192.0.2.12:8080"`},
		{Name: "tier", Type: Whole, Default: "1", Why: "all backends are used unless a reserve is named", Min: "1", Max: "100", Help: "order of failover: a tier gets requests while the lower tiers lack capacity; needs failover", Example: "2"},
		{Name: "zone", Type: Text, Help: "zone of the backend; needs failover { prefer = \"zone\" }", Example: `"north-quay"`},
		{Name: "weight", Type: Whole, Default: "1", Why: "equal shares", Min: "0", Max: "10000", Help: "share of requests relative to the other weights; 0 is no new requests", Example: "2"},
		{Name: "max_in_flight", Type: Whole, Default: "0", Why: "the capacity of a backend is not known; kestrix trace learn estimates it from a log", Min: "0", Max: "1000000", Help: "maximum requests in flight; 0 is no limit", Example: "200"},
	},
}

var expectFields = &Block{
	Name: "expect",
	Help: "responses with which a probe passes",
	Keys: []*Key{
		{Name: "status", Type: Texts, Default: `["200-299"]`, Why: "a redirect or an error often comes from a part that works although the application does not", Help: "statuses and ranges of statuses", Example: `["200-299", "401"]`},
		{Name: "body", Type: Text, Help: "pattern for the first 4 KiB of the response; * is any text", Example: `"*ready*"`},
	},
}

var upstreamTLSBlock = &Block{
	Name: "tls",
	Help: "TLS to backends, also for http probes",
	Keys: []*Key{
		{Name: "verify", Type: Switch, Default: "true", Why: "encryption without verification does not protect against an attacker in between", Help: "whether the backend's certificate is verified against name and ca", Example: "true"},
		{Name: "name", Type: Text, Help: "name for which the certificate is verified; the host of the backend's address if not given", Example: `"app.inside.example"`},
		{Name: "ca", Type: Text, Help: "PEM file of a CA bundle; the system's if not given", Example: `"inside-ca.pem"`},
		{Name: "certificate", Type: Text, Help: "PEM file of a client certificate for backends that request one", Example: `"proxy.pem"`},
		{Name: "key", Type: Text, Help: "PEM file of the private key of certificate", Example: `"proxy.key"`},
		{Name: "min_version", Type: Text, Default: `"1.2"`, Why: "TLS 1.0 and 1.1 are deprecated (RFC 8996)", Allowed: []string{"1.0", "1.1", "1.2", "1.3"}, Help: "minimum version of TLS", Example: `"1.3"`},
	},
}
