package config

var frontendBlock = &Block{
	Name: "frontend", Label: &Label{Name: "name"}, Many: true, Required: true,
	Help: "an entry for traffic: addresses, protocol, routes",
	Keys: []*Key{
		{Name: "listen", Type: Addrs, Required: true,
			Help:    "addresses to listen on; IPv4 and IPv6 are bound separately",
			Example: `["0.0.0.0:8080", "[::]:8080"]`},
		{Name: "protocol", Type: Text, Default: `"http"`, Why: "most reverse proxying is HTTP", Allowed: []string{"http", "tcp"},
			Meanings: []string{"HTTP requests, routed one by one", "connections, forwarded byte by byte"}, Help: "protocol of the clients", Example: `"tcp"`},
		{Name: "proxy_protocol", Type: Switch, Default: "false", Help: "whether connections begin with a PROXY protocol header, version 1 or 2, that names the client. Then only trusted_proxies may connect", Example: "true"},
		{Name: "clear_http2", Type: Switch, Default: "false", Help: "whether HTTP/2 without TLS is accepted, by prior knowledge (RFC 9113 section 3.3). Over TLS it is negotiated, see tls { alpn }", Example: "true"},
		{Name: "pass_fields", Type: Texts, Help: "request header fields that clients may set although applications trust their proxy for them. The proxy removes the others, unless a trusted proxy sends them. In a comparison \"_\" equals \"-\"", Known: ProxyFields, Example: `["X-Real-IP"]`},
		withoutKey,
	},
	Blocks: []*Block{frontTLSBlock, frontendTimeoutsBlock, frontendLimitsBlock, errorsBlock, frontendLogBlock, {
		Name: "route", Label: &Label{Name: "name"}, Many: true, Required: true,
		Help: "rule for requests; the first route that matches decides",
		Keys: []*Key{
			{Name: "send_to", Type: UpRef,
				Help: "upstream for requests that match. A route has send_to, redirect or reply; in a tcp frontend send_to only", Example: "upstream.booking"},
			{Name: "stream_requests", Type: Switch, Default: "false", Help: "whether request bodies are forwarded from the first byte on, at any rate. Otherwise up to 16 KiB of a body arrive before a backend is chosen, and limits { body_rate } applies. gRPC and upgrades are always forwarded at once", Example: "true"},
		},
		Blocks: []*Block{redirectBlock, replyBlock, rewriteBlock, headersBlock, routeTimeoutsBlock, routeLimitsBlock, {
			Name: "when",
			Help: "conditions of the route; all must match. Of a list, one value must match, and none of those in not(...). Without when the route matches every request",
			Keys: whenKeys,
			Blocks: []*Block{{
				Name: "any", Many: true,
				Help: "alternative conditions: together with the other conditions of when, those of one any block must match",
				Keys: whenKeys,
			}},
		}},
	}},
}

var redirectBlock = &Block{
	Name: "redirect",
	Help: "answers with a redirect",
	Keys: []*Key{
		{Name: "to", Type: Text, Required: true, Help: "target; {host} is the requested host without its port, {path} the path with its query", Example: `"https://{host}{path}"`},
		{Name: "status", Type: Whole, Default: "308", Why: "a form that is posted stays posted, and clients remember the new address", Min: "301", Max: "308", Help: "status code; 308 and 307 keep the method, 301, 302 and 303 may not. 301 and 308 are permanent (RFC 9110 section 15.4)", Example: "302"},
	},
}

var replyBlock = &Block{
	Name: "reply",
	Help: "answers with a fixed response, such as a maintenance page",
	Keys: []*Key{
		{Name: "status", Type: Whole, Default: "200", Why: "a fixed response is usually meant as success", Min: "200", Max: "599", Help: "status code of the response", Example: "503"},
		{Name: "body", Type: Text, Help: "body of the response", Example: `"back at noon\n"`},
		{Name: "content_type", Type: Text, Default: `"text/plain; charset=utf-8"`, Why: "a browser shows text, and does not run it", Help: "media type of the body", Example: `"text/html; charset=utf-8"`},
	},
}

var frontendTimeoutsBlock = &Block{
	Name: "timeouts", Always: true,
	Help: "timeouts of clients",
	Keys: []*Key{
		{Name: "request_header", Type: Duration, Default: `"10s"`, Why: "slow mobile clients need some seconds; clients that send a header slowly on purpose must not hold connections for long", Min: `"10ms"`, Help: "timeout from the first byte of a request to the end of its header; also of a TLS handshake", Example: `"5s"`},
		{Name: "request_body", Type: Duration, Default: `"30s"`, Why: "a network that changes can pause an upload for some seconds", Min: `"10ms"`, Help: "maximum pause within a request body; the answer is 408 when it is exceeded", Example: `"10s"`},
		{Name: "idle", Type: Duration, Default: `"2m"`, Why: "clients that browse on reuse the connection; connections of clients that left do not accumulate", Min: `"10ms"`, Help: "maximum time that an idle keep-alive connection waits for its next request", Example: `"1m"`},
		{Name: "half_closed", Type: Duration, Default: `"2s"`, Why: "a client that closed its half may still read; a client that left must not occupy a backend for long", Help: "time for the response to begin after the client closed its half of an HTTP/1.1 connection (TCP FIN). When it is exceeded the client has left", Example: `"10s"`},
	},
}

var frontendLimitsBlock = &Block{
	Name: "limits", Always: true,
	Help: "limits for one client",
	Keys: append([]*Key{
		{Name: "header_size", Type: Size, Default: `"64KiB"`, Why: "large cookies and tokens fit; one client cannot hold much memory", Min: `"1KiB"`, Max: `"16MiB"`, Help: "maximum size of request line and header fields together; the answer is 431 when it is exceeded", Example: `"16KiB"`},
		{Name: "connections", Type: Whole, Default: "0", Why: "many clients may share the address of a gateway, so that any number could be wrong", Min: "0", Max: "1000000", Help: "maximum open connections of a client; a further one is closed at once; 0 is no limit", Example: "100"},
		{Name: "body_rate", Type: SizeRate, Default: `"1KiB/s"`, Why: "the slowest real connections are faster; a client that sends single bytes is not", Help: "minimum rate of a request body, over any 30 s in which the proxy is ready to read. The answer is 408 below it; \"0B/s\" is no limit. It does not apply to gRPC, upgrades, and routes with stream_requests", Example: `"8KiB/s"`},
		{Name: "stalled_streams", Type: Whole, Default: "32", Why: "a browser has few requests in flight; more stalled streams are a sign of an attack", Min: "1", Max: "1000", Help: "maximum streams of an HTTP/2 connection on which the client accepts no data for 1 s. The longest-stalled streams are reset when it is exceeded", Example: "8"},
	}, limitKeys...),
}

var routeLimitsBlock = &Block{
	Name: "limits", Always: true,
	Help: "limits for one client on this route, in addition to those of the frontend",
	Keys: limitKeys,
}

var limitKeys = []*Key{
	{Name: "body_size", Type: Size, Help: "maximum size of a request body; the answer is 413 when it is exceeded; no limit if not given", Example: `"8MiB"`},
	{Name: "rate", Type: Rate, Help: "maximum rate of requests of a client (an IPv6 client is its /64). The answer is 429 when it is exceeded; no limit if not given", Example: `"20/s"`},
	{Name: "burst", Type: Whole, Min: "1", Max: "1000000", Help: "maximum requests at once before rate is enforced; the requests of one second if not given", Example: "40"},
}

var routeTimeoutsBlock = &Block{
	Name: "timeouts", Always: true,
	Help: "timeouts of backends on this route, instead of the upstream's",
	Keys: waitKeys("", "", ""),
}

var frontTLSBlock = &Block{
	Name: "tls",
	Help: "terminates TLS. The server name (SNI) selects the certificate; the first is for all other names",
	Keys: append(pairKeys(false), []*Key{
		{Name: "min_version", Type: Text, Default: `"1.2"`, Why: "TLS 1.0 and 1.1 are deprecated (RFC 8996)", Allowed: []string{"1.0", "1.1", "1.2", "1.3"}, Help: "minimum version of TLS", Example: `"1.3"`},
		{Name: "alpn", Ordered: true, Type: Texts, Default: `["h2", "http/1.1"]`, Why: "HTTP/2 needs fewer connections; clients without it use HTTP/1.1", Help: "application protocols offered to clients (RFC 7301), the preferred first; for http frontends h2 and http/1.1", Example: `["http/1.1"]`},
		{Name: "client_ca", Type: Text, Help: "PEM file of a CA bundle for client certificates", Example: `"crew-ca.pem"`},
		{Name: "client_certificate", Type: Text, Default: `"require"`, Why: "an authority is named in order to refuse clients without its certificate", Allowed: []string{"require", "ask"}, Meanings: []string{"refuse clients without a certificate, and those with an invalid one", "accept clients without a certificate, refuse those with an invalid one"}, Help: "with client_ca: treatment of clients without a certificate", Example: `"ask"`},
	}...),
	Blocks: []*Block{acmeBlock},
}

// pairKeys are the keys for certificates in files.
func pairKeys(required bool) []*Key {
	besides := map[bool]string{false: ". Required without acme", true: ""}[required]
	return []*Key{
		{Name: "certificate", Ordered: true, Type: Texts, Required: required, Help: "PEM files of certificates, each with its chain; relative to the folder of the configuration" + besides, Example: `["tickets.pem", "board.pem"]`},
		{Name: "key", Ordered: true, Type: Texts, Required: required, Help: "PEM files of the private keys, in the same order", Example: `["tickets.key", "board.key"]`},
	}
}

var whenKeys = []*Key{
	{Name: "host", Type: Matches, Help: "requested host, without port; * is one label, ** any number of labels",
		Example: `["board.tern.example", "*.tern.example"]`},
	{Name: "path", Type: Matches, Help: "path without query; * is one segment, ** the rest (/live/** matches /live too). Paths are compared in normal form (RFC 3986 section 6.2.2), so /%6Cive and /x/../live match /live",
		Example: `["/live/**", regexp("/seats/[0-9]+")]`},
	{Name: "method", Type: Matches, Help: "request method, in capitals", Example: `["GET", "HEAD"]`},
	{Name: "client", Type: Matches, Help: "address or network of the client", Example: `["203.0.113.0/24", "2001:db8::/32"]`},
	{Name: "header", Type: MatchTable, Help: "header fields by name, each with a pattern or a list of patterns; * is any text of a field that is present", Example: `{ accept = ["*json*", "*xml*"] }`},
	{Name: "query", Type: MatchTable, Help: "query parameters by name; of several with one name the first counts", Example: `{ lang = "fi", debug = not("*") }`},
	{Name: "sni", Type: Matches, Help: "server name (SNI) of the TLS handshake, also of TLS that a tcp frontend forwards; wildcards as in host. A connection without a handshake within request_header has no name", Example: `"gate.tern.example"`},
	{Name: "cookie", Type: MatchTable, Help: "cookies by name", Example: `{ beta = "on" }`},
}
