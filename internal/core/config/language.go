// Package config is the configuration language: its table of keys and blocks, how a
// text becomes a Config, and how it is formatted.
//
// Language is the table. Reading, error messages, completion and the reference in docs/
// derive from it, so a new key is one line there and one field in the model. Almost
// every package reads the Config that Read returns. It must never open
// a file, as texts are handed in, nor decide about requests.
package config

// Failures are the words that say which outcomes of an attempt count, in
// `suspend` and `retry`; a status such as "502" may stand beside them.
var Failures = []string{"connect", "timeout", "reset"}

// AccessFields are what the access log can tell of a request.
var AccessFields = []string{
	"time", "client", "method", "host", "path", "protocol", "status", "bytes", "duration", "connect", "first_byte", "user_agent", "referer",
	"session", "frontend", "route", "upstream", "backend", "reason", "cause", "attempts", "id",
}

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
		{Name: "record", Type: Text, Help: "a file that every request is written to as a trace, for replay: JSON Lines, compressed if it ends in .gz or .zst; one that is there gets a number instead of being overwritten", Example: `"morning.jsonl.zst"`},
		{Name: "stop_notice", Type: Duration, Default: `"0s"`, Max: `"1h"`, Help: "for how long a proxy that is told to stop (SIGTERM) answers /ready of control with 503 and still accepts connections, so that who asks there sends no more clients before it closes its listeners; it counts before serve -stop-notice", Example: `"5s"`},
	},
	Blocks: []*Block{
		frontendBlock,
		upstreamBlock,
		commonBlock,
		controlBlock,
		{
			Name: "limits", Always: true,
			Help: "what all clients together may take of this machine",
			Keys: []*Key{
				{Name: "connections_total", Type: Whole, Min: "1", Max: "10000000", Help: "open connections of clients, on all frontends. At the limit idle connections are closed first, the longest idle first; then the address with the most connections loses its newest. If not given: the process's limit of open files (RLIMIT_NOFILE), less 64 for control, logs and listeners and one for each probed backend, halved; the other half is for connections to backends", Example: "20000"},
			},
		},
		accessLogBlock,
		syslogBlock,
		{
			Name: "let", Free: true, Many: true,
			Help: "named values: let { port = 8080 }, used as let.port",
		},
	},
}

var controlBlock = &Block{
	Name: "control",
	Help: "where operators ask and tell a running proxy, with kestrix status and kestrix tell; without this block nowhere",
	Keys: []*Key{
		{Name: "listen", Type: Addr, Default: `"unix:/run/kestrix/control.sock"`, Help: "a unix socket, or an address; without users only a socket or a loopback address answers", Example: `"127.0.0.1:9900"`},
		{Name: "orders_file", Type: Text, Help: "where orders of operators are kept for the proxy after a restart. If not given: orders.json in the folder that systemd gives (STATE_DIRECTORY); without one they are in memory only, and a restart forgets them", Example: `"/var/lib/kestrix/orders.json"`},
	},
	Blocks: []*Block{
		{
			Name: "tls", Help: "control is spoken over TLS",
			Keys: []*Key{
				frontTLSBlock.Keys[0], frontTLSBlock.Keys[1], frontTLSBlock.Keys[2],
			},
		},
		{
			Name: "user", Label: &Label{Name: "name"}, Many: true,
			Help: "a user of control, by HTTP Basic (RFC 7617)",
			Keys: []*Key{
				{Name: "password", Type: Text, Required: true, Secret: true, Help: "a bcrypt hash of the password; a password itself is an error", Example: `"$2a$10$..."`},
				{Name: "role", Type: Text, Default: `"reader"`, Allowed: []string{"reader", "operator"}, Help: "a reader asks; an operator also drains, parks, returns and reweighs backends", Example: `"operator"`},
			},
		},
	},
}
