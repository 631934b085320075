// Package config is the configuration language: its table of keys and blocks, how a
// text becomes a Config, and how it is formatted.
//
// Language is the table. Reading, error messages, completion and the reference in docs/
// derive from it, so a new key is one line there and one field in the model. Almost
// every package reads the Config that Read returns. It must never open
// a file, as texts are handed in, nor decide about requests.
package config

// AccessFields are the fields of the access log.
var AccessFields = []string{
	"time", "client", "method", "host", "path", "protocol", "status", "bytes", "duration", "connect", "first_byte", "user_agent", "referer",
	"session", "frontend", "route", "upstream", "backend", "reason", "cause", "attempts", "id", "trace_id",
	"request_id", "proxy_name", "backend_address", "scheme", "tls_version", "sni", "grpc_status",
}

// accessFieldDocs are what AccessFields mean.
var accessFieldDocs = []string{
	"time at which the request began", "address of the client", "request method", "requested host", "path with its query", "protocol of the client, such as HTTP/1.1",
	"status of the response", "bytes of the response body", "seconds until the end of the response", "seconds until the last attempt was connected; absent for a reused connection",
	"seconds of the last attempt until the header of its response", "field User-Agent of the request", "field Referer of the request",
	"digest of the client's session", "name of the frontend", "name of the route", "name of the upstream", "name of the backend",
	"reason for the choice of the backend", "cause of the failure, see causes.md", "number of attempts", "id of the request, for why -journal", "trace id of the field Traceparent (W3C Trace Context), 32 hexadecimal digits",
	"id of the request among all proxies, see request_id_field", "name of the proxy, see proxy_name", "address of the backend", "scheme of the request as the client sees it, http or https",
	"version of TLS that the client uses, such as 1.3", "server name (SNI) of the TLS handshake", "status of gRPC, a number from 0 to 16; absent for other requests, and for gRPC-Web, whose status is in the body",
}

// Language is the table of the configuration language. It is read only.
var Language = &Block{
	Name: "configuration",
	Help: "the configuration of one proxy: frontends that accept traffic, and upstreams that serve it",
	Keys: append([]*Key{
		{Name: "zone", Type: Text, Help: "zone of this proxy, for upstreams with failover { prefer = \"zone\" }", Example: `"north-quay"`},
		{Name: "trusted_proxies", Type: Nets, Help: "networks of the proxies in front of this one. Their header fields name the client. Such fields from other senders are replaced",
			Example: `["192.0.2.0/28", "2001:db8::/64"]`},
		{Name: "client_from", Type: Text, Default: `"x-forwarded-for"`, Why: "most balancers and gateways send this field; forwarded is chosen explicitly", Allowed: []string{"x-forwarded-for", "forwarded"},
			Meanings: []string{"X-Forwarded-For", "Forwarded (RFC 7239)"}, Help: "header field of trusted proxies that names the client; the other field is replaced", Example: `"forwarded"`},
		{Name: "record", Type: Text, Help: "file to which each request is written as a trace, for replay. The format is JSON Lines, compressed if the name ends in .gz or .zst. An existing file stays, and the new one gets a number", Example: `"morning.jsonl.zst"`},
		{Name: "stop_notice", Type: Duration, Default: `"0s"`, Why: "only a balancer in front needs notice; without one, waiting loses requests", Max: `"1h"`, Help: "time between the order to stop (SIGTERM) and the end of accepting connections. Meanwhile /ready of control answers 503, so that a balancer in front sends no more clients. Takes precedence over serve -stop-notice", Example: `"5s"`},
	}, identityKeys...),
	Blocks: []*Block{
		frontendBlock,
		upstreamBlock,
		commonBlock,
		controlBlock,
		{
			Name: "limits", Always: true,
			Help: "limits for all clients together",
			Keys: []*Key{
				{Name: "connections_total", Type: Whole, Min: "1", Max: "10000000", Help: "maximum open connections of clients, on all frontends. At the limit the longest idle connection is closed first, then the newest one of the address with the most. If not given, half of the process's limit of open files (RLIMIT_NOFILE) after a reserve. The reserve is 64, one per probed backend, and for large bodies one in 32, 256 at most", Example: "20000"},
			},
		},
		accessLogBlock,
		eventLogBlock,
		syslogBlock,
		tracingBlock,
		{
			Name: "let", Free: true, Many: true,
			Help: "named values: let { port = 8080 } is used as let.port",
		},
	},
}

var controlBlock = &Block{
	Name: "control",
	Help: "address at which operators reach a running proxy with kestrix status, watch and tell; without this block there is none",
	Keys: []*Key{
		{Name: "listen", Type: Addr, Default: `"unix:/run/kestrix/control.sock"`, Why: "only users of this machine with access to the folder can connect to a Unix socket", Help: "Unix socket or address to listen on. Without users only a socket or a loopback address is allowed", Example: `"127.0.0.1:9900"`},
		{Name: "orders_file", Type: Text, Help: "file that keeps the orders of operators across restarts. If not given: orders.json in the folder from systemd (STATE_DIRECTORY). Without that folder orders are in memory only, and a restart discards them", Example: `"/var/lib/kestrix/orders.json"`},
		{Name: "backend_histograms", Type: Switch, Default: "true", Why: "they show which backend is slow; of many backends they are most of each scrape", Help: "whether the metrics have a histogram for each backend; those of routes stay", Example: "false"},
		{Name: "slow_requests", Type: Duration, Default: `"1s"`, Why: "people notice a page that takes longer", Min: `"1ms"`, Max: `"1h"`, Help: "minimum duration of the requests that are kept as slow, the latest 100 of each route, for status -slow; the latest 100 that failed are kept as well", Example: `"500ms"`},
	},
	Blocks: []*Block{
		{
			Name: "tls", Help: "TLS for control",
			Keys: append(pairKeys(true), frontTLSBlock.Key("min_version")),
		},
		{
			Name: "user", Label: &Label{Name: "name"}, Many: true,
			Help: "user of control, authenticated by HTTP Basic (RFC 7617)",
			Keys: []*Key{
				{Name: "password", Type: Text, Required: true, Secret: true, Help: "bcrypt hash of the password, from kestrix password; a plain password is an error", Example: `"$2a$10$..."`},
				{Name: "role", Type: Text, Default: `"reader"`, Why: "a user who may give orders is named explicitly", Allowed: []string{"reader", "operator"}, Meanings: []string{"read the state", "also drain, park, return and weigh backends, and reload"}, Help: "rights of the user", Example: `"operator"`},
			},
		},
	},
}
