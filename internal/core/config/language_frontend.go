package config

import "strings"

var frontendBlock = &Block{
	Name: "frontend", Label: &Label{Name: "name"}, Many: true, Required: true,
	Help: "where traffic enters: addresses, protocol, routes",
	Keys: []*Key{
		{Name: "listen", Type: Addrs, Required: true,
			Help:    "the addresses to listen on; IPv4 and IPv6 are bound apart",
			Example: `["0.0.0.0:8080", "[::]:8080"]`},
		{Name: "protocol", Type: Text, Default: `"http"`, Allowed: []string{"http", "tcp"},
			Help: "what is spoken here; tcp carries bytes without looking into them", Example: `"tcp"`},
		{Name: "proxy_protocol", Type: Switch, Default: "false", Help: "connections begin with a PROXY protocol header, version 1 or 2, that names the client; only trusted_proxies may connect", Example: "true"},
		{Name: "clear_http2", Type: Switch, Default: "false", Help: "HTTP/2 without TLS is taken too, from clients that know beforehand (RFC 9113 section 3.3); over TLS it is, unless tls { alpn } says otherwise", Example: "true"},
		{Name: "pass_fields", Type: Texts, Help: "request header fields that clients may set although applications trust their proxy for them; the others of " + strings.Join(ProxyFields, ", ") + " are removed, unless a trusted proxy sends them. A name is compared with \"_\" read as \"-\"", Example: `["X-Real-IP"]`},
		withoutKey,
	},
	Blocks: []*Block{frontTLSBlock, frontendTimeoutsBlock, frontendLimitsBlock, errorsBlock, {
		Name: "route", Label: &Label{Name: "name"}, Many: true, Required: true,
		Help: "a rule; the first whose `when` fits decides",
		Keys: []*Key{
			{Name: "send_to", Type: UpRef,
				Help: "the upstream that serves what fits here; a route has this, redirect or reply; tcp knows this only", Example: "upstream.booking"},
			{Name: "stream_requests", Type: Switch, Default: "false", Help: "request bodies go to the backend from their first byte on, at any rate. Otherwise up to 16 KiB of a body come before a backend is chosen, and limits { body_rate } holds. gRPC and upgrades are always forwarded at once", Example: "true"},
		},
		Blocks: []*Block{redirectBlock, replyBlock, rewriteBlock, headersBlock, routeTimeoutsBlock, routeLimitsBlock, {
			Name: "when",
			Help: "everything given must fit; of a list, one, and none of those in not(...); without `when` a route takes all",
			Keys: whenKeys,
			Blocks: []*Block{{
				Name: "any", Many: true,
				Help: "beside the rest of `when`, everything in one of these must fit",
				Keys: whenKeys,
			}},
		}},
	}},
}

var redirectBlock = &Block{
	Name: "redirect",
	Help: "the client is sent elsewhere",
	Keys: []*Key{
		{Name: "to", Type: Text, Required: true, Help: "where to; {host} is the host asked for without its port, {path} the path with its query", Example: `"https://{host}{path}"`},
		{Name: "status", Type: Whole, Default: "308", Min: "301", Max: "308", Help: "308 and 307 keep the method, 301, 302 and 303 need not; 301 and 308 are permanent (RFC 9110 section 15.4)", Example: "302"},
	},
}

var replyBlock = &Block{
	Name: "reply",
	Help: "a fixed answer, such as a maintenance page",
	Keys: []*Key{
		{Name: "status", Type: Whole, Default: "200", Min: "200", Max: "599", Help: "its status", Example: "503"},
		{Name: "body", Type: Text, Help: "its body", Example: `"back at noon\n"`},
		{Name: "content_type", Type: Text, Default: `"text/plain; charset=utf-8"`, Help: "what the body is", Example: `"text/html; charset=utf-8"`},
	},
}

var frontendTimeoutsBlock = &Block{
	Name: "timeouts", Always: true,
	Help: "how long a client is waited for",
	Keys: []*Key{
		{Name: "request_header", Type: Duration, Default: `"10s"`, Min: `"10ms"`, Help: "from the first byte of a request to the end of its header; a TLS handshake has as long", Example: `"5s"`},
		{Name: "request_body", Type: Duration, Default: `"30s"`, Min: `"10ms"`, Help: "the longest pause in a request's body; beyond it the answer is 408", Example: `"10s"`},
		{Name: "idle", Type: Duration, Default: `"2m"`, Min: `"10ms"`, Help: "a kept connection waits this long for its next request", Example: `"1m"`},
		{Name: "half_closed", Type: Duration, Default: `"2s"`, Help: "time for the answer to begin after the client has ended its direction of an HTTP/1.1 connection (TCP FIN); beyond it the client has left", Example: `"10s"`},
	},
}

var frontendLimitsBlock = &Block{
	Name: "limits", Always: true,
	Help: "what one client may ask for",
	Keys: append([]*Key{
		{Name: "header_size", Type: Size, Default: `"64KiB"`, Min: `"1KiB"`, Max: `"16MiB"`, Help: "request line and header fields together; beyond it the answer is 431", Example: `"16KiB"`},
		{Name: "connections", Type: Whole, Default: "0", Min: "0", Max: "1000000", Help: "open connections per client; a further one is closed at once; 0 is no limit", Example: "100"},
		{Name: "body_rate", Type: SizeRate, Default: `"1KiB/s"`, Help: "least rate of a request body, over any 30 s in which the proxy is ready to read; below it the answer is 408; \"0B/s\" turns it off. It does not hold for gRPC, upgrades and routes with stream_requests", Example: `"8KiB/s"`},
		{Name: "stalled_streams", Type: Whole, Default: "32", Min: "1", Max: "1000", Help: "streams of one HTTP/2 connection whose client has let nothing more come for 1 s; beyond it those that have waited longest are reset", Example: "8"},
	}, limitKeys...),
}

var routeLimitsBlock = &Block{
	Name: "limits", Always: true,
	Help: "what one client may ask of this route, besides the limits of its frontend",
	Keys: limitKeys,
}

var limitKeys = []*Key{
	{Name: "body_size", Type: Size, Help: "of a request; beyond it the answer is 413; none is no limit", Example: `"8MiB"`},
	{Name: "rate", Type: Rate, Help: "requests of one client (an IPv6 client is its /64); beyond it the answer is 429; none is no limit", Example: `"20/s"`},
	{Name: "burst", Type: Whole, Min: "1", Max: "1000000", Help: "how many may come at once before `rate` is enforced; one second's worth, if not given", Example: "40"},
}

var routeTimeoutsBlock = &Block{
	Name: "timeouts", Always: true,
	Help: "how long a backend is waited for on this route, instead of what its upstream says",
	Keys: waitKeys("", "", ""),
}

var frontTLSBlock = &Block{
	Name: "tls",
	Help: "TLS ends here; the names of a certificate say for whom it is shown, and the first is for everybody else",
	Keys: []*Key{
		{Name: "certificate", Ordered: true, Type: Texts, Required: true, Help: "PEM files of certificates, each with its chain; relative to the folder of the configuration", Example: `["tickets.pem", "board.pem"]`},
		{Name: "key", Ordered: true, Type: Texts, Required: true, Help: "PEM files of their private keys, in the same order", Example: `["tickets.key", "board.key"]`},
		{Name: "min_version", Type: Text, Default: `"1.2"`, Allowed: []string{"1.0", "1.1", "1.2", "1.3"}, Help: "the oldest version of TLS that is spoken", Example: `"1.3"`},
		{Name: "alpn", Ordered: true, Type: Texts, Default: `["h2", "http/1.1"]`, Help: "protocols that are offered (RFC 7301), the preferred first; of an http frontend h2 and http/1.1", Example: `["http/1.1"]`},
		{Name: "client_ca", Type: Text, Help: "PEM file of authorities; a client must show a certificate of one of them", Example: `"crew-ca.pem"`},
		{Name: "client_certificate", Type: Text, Default: `"require"`, Allowed: []string{"require", "ask"}, Help: "with client_ca: refuse clients without a certificate, or only those with a wrong one", Example: `"ask"`},
	},
}

var whenKeys = []*Key{
	{Name: "host", Type: Matches, Help: "host asked for, without port; * is one label, ** any number of them",
		Example: `["board.tern.example", "*.tern.example"]`},
	{Name: "path", Type: Matches, Help: "path without query; * is one segment, ** the rest (/live/** takes /live too). Paths are compared in normal form (RFC 3986 section 6.2.2), so that /%6Cive and /x/../live fit as well",
		Example: `["/live/**", regexp("/seats/[0-9]+")]`},
	{Name: "method", Type: Matches, Help: "request method, in capitals", Example: `["GET", "HEAD"]`},
	{Name: "client", Type: Matches, Help: "address or network of the client", Example: `["203.0.113.0/24", "2001:db8::/32"]`},
	{Name: "header", Type: MatchTable, Help: "header fields by name, each with a pattern or a list; * stands for any text, of a field that is there", Example: `{ accept = ["*json*", "*xml*"] }`},
	{Name: "query", Type: MatchTable, Help: "parameters of the query by name; the first of a name counts", Example: `{ lang = "fi", debug = not("*") }`},
	{Name: "sni", Type: Matches, Help: "name asked for in the TLS handshake, also of TLS that is passed through unopened (tcp); wildcards as in host. A connection that says nothing has no name after request_header", Example: `"gate.tern.example"`},
	{Name: "cookie", Type: MatchTable, Help: "cookies by name", Example: `{ beta = "on" }`},
}
