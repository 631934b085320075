package config

// Failures are the words that say which outcomes of an attempt count, in
// `suspend` and `retry`; a status such as "502" may stand beside them.
var Failures = []string{"connect", "timeout", "reset"}

// Language is the table of the configuration language. It is read only.
var Language = &Block{
	Name: "configuration",
	Help: "what one proxy does: where traffic enters, and who serves it",
	Keys: []*Key{
		{Name: "zone", Type: Text, Help: "where this proxy stands, for upstreams with failover { prefer = \"zone\" }", Example: `"north-quay"`},
		{Name: "trusted_proxies", Type: Nets, Help: "proxies in front of this one, whose word on who the client is counts; from anybody else forwarded headers are replaced",
			Example: `["192.0.2.0/28", "2001:db8::/64"]`},
		{Name: "client_from", Type: Text, Default: `"x-forwarded-for"`, Allowed: []string{"x-forwarded-for", "forwarded"},
			Help: "which header field of trusted proxies names the client; the other one is replaced", Example: `"forwarded"`},
	},
	Blocks: []*Block{
		frontendBlock,
		upstreamBlock,
		{
			Name: "access_log", Always: true,
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
