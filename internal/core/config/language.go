package config

// Failures are the words that say which outcomes of an attempt count, in
// `suspend` and `retry`; a status such as "502" may stand beside them.
var Failures = []string{"connect", "timeout", "reset"}

// Language is the table of the configuration language. It is read only.
var Language = &Block{
	Name: "configuration",
	Help: "what one proxy does: where traffic enters, and who serves it",
	Blocks: []*Block{
		{
			Name: "frontend", Label: &Label{Name: "name"}, Many: true, Required: true,
			Help: "where traffic enters: addresses, protocol, routes",
			Keys: []*Key{
				{Name: "listen", Type: Addrs, Required: true,
					Help:    "the addresses to listen on; IPv4 and IPv6 are bound apart",
					Example: `["0.0.0.0:8080", "[::]:8080"]`},
				{Name: "protocol", Type: Text, Default: `"http"`, Allowed: []string{"http"},
					Help: "what is spoken here", Example: `"http"`},
			},
			Blocks: []*Block{{
				Name: "route", Label: &Label{Name: "name"}, Many: true, Required: true,
				Help: "a rule; the first whose `when` fits decides",
				Keys: []*Key{
					{Name: "send_to", Type: UpRef,
						Help: "the upstream that serves what fits here; a route has this, redirect or reply", Example: "upstream.booking"},
				},
				Blocks: []*Block{redirectBlock, replyBlock, rewriteBlock, headersBlock, {
					Name: "when",
					Help: "everything given must fit; of a list, one, and none of those in not(...); without `when` a route takes all",
					Keys: []*Key{
						{Name: "host", Type: Matches, Help: "host asked for, without port; * is one label, ** any number of them",
							Example: `["board.tern.example", "*.tern.example"]`},
						{Name: "path", Type: Matches, Help: "path without query; * is one segment, ** the rest (/live/** takes /live too)",
							Example: `["/live/**", regexp("/seats/[0-9]+")]`},
						{Name: "method", Type: Matches, Help: "request method, in capitals", Example: `["GET", "HEAD"]`},
						{Name: "client", Type: Matches, Help: "address or network of the client", Example: `["203.0.113.0/24", "2001:db8::/32"]`},
						{Name: "header", Type: MatchTable, Help: "header fields by name; * stands for any text, of a field that is there", Example: `{ accept = "*json*" }`},
						{Name: "query", Type: MatchTable, Help: "parameters of the query by name; the first of a name counts", Example: `{ lang = "fi", debug = not("*") }`},
						{Name: "cookie", Type: MatchTable, Help: "cookies by name", Example: `{ beta = "on" }`},
					},
				}},
			}},
		},
		{
			Name: "upstream", Label: &Label{Name: "name"}, Many: true, Required: true,
			Help: "a named group of backends that serve the same thing",
			Keys: []*Key{
				{Name: "algorithm", Type: Text, Default: `"round-robin"`,
					Allowed: []string{"round-robin", "least-connections", "random", "hash"},
					Help:    "how the backend of a request is chosen; hash keeps a client's address on one backend (ring)",
					Example: `"least-connections"`},
				{Name: "backends", Type: Members, Required: true,
					Help:    "the servers by name, each an address or an object",
					Example: `{ auk = "192.0.2.11:8080", gannet = { address = "192.0.2.12:8080", weight = 2 } }`,
					Fields:  memberFields},
				{Name: "slow_start", Type: Duration, Min: `"10ms"`, Help: "a backend that comes back is given a tenth of its weight at first, and all of it after this time; hash does not scale",
					Example: `"20s"`},
				{Name: "when_all_down", Type: Text, Default: `"refuse"`, Allowed: []string{"refuse", "try-anyway"},
					Help: "with nobody in rotation: answer 503, or try one that is down or suspended (never one that an operator took out)", Example: `"try-anyway"`},
			},
			Blocks: []*Block{
				{
					Name: "probe", Label: &Label{Name: "kind", Allowed: []string{"http", "tcp"}},
					Help: "an active health check",
					Keys: []*Key{
						{Name: "path", Type: Text, Default: `"/"`, Help: "what an http probe asks for", Example: `"/ready"`},
						{Name: "expect", Type: Block1, Help: "which answers of an http probe pass",
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
						{Name: "on", Type: Texts, Default: `["connect", "timeout", "reset", "502", "503", "504"]`,
							Help: "what counts as a failure: connect, timeout, reset, or a status", Example: `["connect", "timeout"]`},
					},
				},
				{
					Name: "sticky",
					Help: "a client keeps its backend",
					Keys: []*Key{
						{Name: "by", Type: Text, Required: true, Allowed: []string{"cookie", "address"},
							Help: "how a client is known again: a cookie of our own, or its address", Example: `"cookie"`},
						{Name: "name", Type: Text, Default: `"kestrix_seat"`, Help: "name of the cookie", Example: `"tern_seat"`},
						{Name: "ttl", Type: Duration, Default: `"8h"`, Min: `"1s"`, Help: "how long a client that stays away is remembered", Example: `"8h"`},
						{Name: "on_loss", Type: Text, Default: `"move"`, Allowed: []string{"move", "refuse"},
							Help: "when its backend is out: move to another for good, or refuse", Example: `"move"`},
						{Name: "secret", Type: Text, Help: "seals the cookie, at least 16 characters; the same on every proxy. Without it one is made at each start, and sessions end with the process",
							Example: `"a long line that only the proxies know"`},
					},
				},
				{
					Name: "retry",
					Help: "a failed attempt is repeated on another backend, where that is safe",
					Keys: []*Key{
						{Name: "attempts", Type: Whole, Default: "2", Min: "1", Max: "10", Help: "at most, the first included", Example: "2"},
						{Name: "on", Type: Texts, Default: `["connect", "timeout", "reset", "502", "503"]`,
							Help: "what is repeated: connect for any method, the rest only for idempotent ones (RFC 9110 section 9.2.2)", Example: `["connect", "503"]`},
					},
				},
				{
					Name: "timeouts",
					Help: "how long a backend is waited for",
					Keys: []*Key{
						{Name: "connect", Type: Duration, Default: `"2s"`, Min: `"1ms"`, Help: "until the connection stands", Example: `"500ms"`},
						{Name: "answer", Type: Duration, Default: `"30s"`, Min: `"1ms"`, Help: "from the request being sent to the head of its answer", Example: `"10s"`},
					},
				},
			},
		},
		{
			Name: "access_log",
			Help: "one line per request, readable as a trace by replay",
			Keys: []*Key{
				{Name: "to", Type: Text, Default: `"stdout"`, Help: "stdout, stderr, off, or the path of a file that is appended to", Example: `"access.log"`},
				{Name: "format", Type: Text, Default: `"combined"`, Allowed: []string{"combined", "json"},
					Help: "Combined log lines with further fields, or JSON Lines", Example: `"json"`},
			},
		},
		{
			Name: "let", Free: true, Many: true,
			Help: "values of one's own: let { port = 8080 }, used as let.port",
		},
	},
}

var redirectBlock = &Block{
	Name: "redirect",
	Help: "the client is sent elsewhere",
	Keys: []*Key{
		{Name: "to", Type: Text, Required: true, Help: "where to; {host} is the host asked for without its port, {path} the path with its query", Example: `"https://{host}{path}"`},
		{Name: "status", Type: Whole, Default: "308", Min: "301", Max: "308", Help: "308 and 307 keep the method, 301, 302 and 303 need not; 301 and 308 are for good (RFC 9110 section 15.4)", Example: "302"},
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

var memberFields = &Block{
	Name: "backend",
	Help: "one server of an upstream",
	Keys: []*Key{
		{Name: "address", Type: Addr, Required: true, Help: "where it is reached", Example: `"192.0.2.12:8080"`},
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
