package config

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// small is a configuration in which each test puts something wrong.
const small = `frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk = "127.0.0.1:9001"
  }
}
`

func read(t testing.TB, text string) (*Config, Findings) {
	c, found, err := Read([]File{{Name: "t.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	return c, found
}

func said(found Findings) []string {
	var out []string
	for _, f := range found {
		out = append(out, fmt.Sprintf("%d:%d %s %s | %s", f.Range.Start.Line, f.Range.Start.Column, f.ID, f.Message, f.Hint))
	}
	return out
}

func TestASmallConfigurationIsRead(t *testing.T) {
	c, found := read(t, small)
	require.Empty(t, said(found))
	require.Len(t, c.Frontends, 1)
	require.Len(t, c.Upstreams, 1)
	u := c.Upstreams[0]
	assert.Equal(t, "round-robin", u.Algorithm)
	assert.Equal(t, Backend{
		Name: "auk", Address: Address{Host: "127.0.0.1", Port: 9001}, Weight: 1, Tier: 1,
		Range: u.Backends[0].Range, AddressAt: u.Backends[0].AddressAt, WeightAt: u.Backends[0].WeightAt,
	}, u.Backends[0])
	assert.Nil(t, u.Probe, "a block that is absent is off")
	assert.Nil(t, u.Suspend)
	assert.Nil(t, u.Sticky)
	assert.Nil(t, u.Retry)
	assert.Equal(t, 2*time.Second, u.Timeouts.Connect)
	assert.Equal(t, 30*time.Second, u.Timeouts.Answer)
	assert.Equal(t, "app", c.Frontends[0].Routes[0].SendTo.Value)
	assert.True(t, c.Frontends[0].Routes[0].When.Empty())
	assert.Equal(t, AccessLog{To: Placed[string]{Value: "stdout"}, Format: "combined"}, c.AccessLog)
	assert.Equal(t, Syslog{Facility: 16, Transport: "unix", Address: Address{Unix: "/dev/log"}, Format: "local"}, c.Syslog)
}

func TestEveryBlockAndKeyIsRead(t *testing.T) {
	c, found := read(t, `
let {
  port = 9000
  base = "127.0.0.1:${let.port}"
}
frontend "web" {
  listen   = ["0.0.0.0:8080", "[::]:8080", "unix:/run/web.sock"]
  protocol = "http"
  route "one" {
    when {
      host   = ["*.tern.example", "Board.Tern.example"]
      path   = "/live/**"
      method = ["GET", "HEAD"]
      client = ["203.0.113.9", "2001:db8::/32"]
      header = { accept = "*json*", "X-Quay" = "north" }
    }
    send_to = upstream.app
  }
}
upstream "app" {
  algorithm = "hash"
  slow_start = "20s"
  when_all_down = "try-anyway"
  backends = {
    auk      = let.base
    "gannet" = { address = "[2001:db8::13]:8080", weight = 3, max_in_flight = 20 }
    petrel   = "sea.tern.example:80"
  }
  probe "http" {
    path       = "/ready"
    expect     = { status = ["200-299", "401"], body = "*ready*" }
    every      = "3s"
    every_while_down = "1s"
    jitter     = "10%"
    timeout    = "250ms"
    down_after = 4
    up_after   = 5
  }
  suspend {
    after   = 4
    rest    = "7s"
    growth  = 1.5
    longest = "1m"
    keep    = "25%"
    on      = ["connect", "500"]
  }
  sticky {
    by      = "cookie"
    name    = "tern_seat"
    ttl     = "1h30m"
    on_loss = "refuse"
    secret  = "sixteen characters at least"
  }
  retry {
    attempts = 3
    on       = ["timeout", "reset", "503"]
  }
  timeouts {
    connect = "300ms"
    answer  = "5s"
  }
}
upstream "computed" {
  backends = { for n in ["b", "a"] : n => { address = "127.0.0.1:9${n == "a" ? 1 : 2}", weight = 2 } }
  sticky {
    by = "address"
  }
  probe "tcp" {
  }
}
access_log {
  to     = "access.log"
  format = "json"
}
`)
	require.Empty(t, said(found))
	w := c.Frontends[0].Routes[0].When
	assert.Equal(t, "127.0.0.1:9000", c.Upstreams[0].Backends[0].Address.String())
	assert.Equal(t, "[2001:db8::13]:8080", c.Upstreams[0].Backends[1].Address.String())
	assert.Equal(t, 3, c.Upstreams[0].Backends[1].Weight)
	assert.Equal(t, 20, c.Upstreams[0].Backends[1].MaxInFlight)
	assert.Equal(t, "unix:/run/web.sock", c.Frontends[0].Listen[2].Value.String())
	assert.Len(t, w.Host, 2)
	assert.Equal(t, "/live/**", w.Path[0].Text)
	assert.Len(t, w.Client, 2)
	assert.Equal(t, "X-Quay", w.Header[1].Name.Value)
	p := c.Upstreams[0].Probe
	assert.Equal(t, []StatusRange{{200, 299}, {401, 401}}, p.Status)
	assert.True(t, p.Passes(204) && p.Passes(401) && !p.Passes(300) && !p.Passes(199))
	assert.Equal(t, []any{3 * time.Second, 250 * time.Millisecond, 4, 5, "*ready*"}, []any{p.Every, p.Timeout, p.DownAfter, p.UpAfter, p.Body})
	assert.Equal(t, []any{time.Second, 0.1}, []any{p.EveryDown, p.Jitter})
	assert.Equal(t, []any{20 * time.Second, true}, []any{c.Upstreams[0].Ramp, c.Upstreams[0].TryAnyway})
	s := c.Upstreams[0].Suspend
	assert.Equal(t, []any{4, 7 * time.Second, 1.5, time.Minute, 0.25}, []any{s.After, s.Rest, s.Growth, s.Longest, s.Keep})
	assert.True(t, s.On.Connect && s.On.Status[500] && !s.On.Timeout && !s.On.Status[502])
	k := c.Upstreams[0].Sticky
	assert.Equal(t, []any{"cookie", "tern_seat", 90 * time.Minute, "refuse"}, []any{k.By, k.Name, k.TTL, k.OnLoss})
	assert.Equal(t, 3, c.Upstreams[0].Retry.Attempts)
	assert.Equal(t, 300*time.Millisecond, c.Upstreams[0].Timeouts.Connect)
	computed := c.Upstreams[1]
	assert.Equal(t, []string{"a", "b"}, []string{computed.Backends[0].Name, computed.Backends[1].Name}, "a computed object comes in the order of its keys")
	assert.Equal(t, 91, computed.Backends[0].Address.Port)
	assert.Equal(t, "tcp", computed.Probe.Kind)
	assert.Equal(t, 5*time.Second, computed.Probe.Every)
	assert.Equal(t, 5*time.Second, computed.Probe.EveryDown, "as every, if not given")
	assert.Equal(t, "access.log", c.AccessLog.To.Value)
}

// TestMistakesAreToldWithPlaceAndCure puts one mistake after the other into the
// small configuration.
func TestMistakesAreToldWithPlaceAndCure(t *testing.T) {
	up := func(inside string) string {
		return strings.Replace(small, "  backends = {", "  "+inside+"\n  backends = {", 1)
	}
	tlsIn := func(inside string) string {
		return strings.Replace(small, "  route", "  tls {\n    "+inside+"\n  }\n  route", 1)
	}
	acmeIn := func(names, more string) string {
		return tlsIn("acme {\n      " + names + "\n      directory = \"https://ca.example/dir\"\n      storage = \"acme\"\n      " + more + "\n    }")
	}
	for _, c := range []struct{ name, text, want string }{
		{"any of nothing", strings.Replace(small, "send_to", "when {\n any {\n }\n}\nsend_to", 1), `5:2 KX005 the any block asks for nothing, so that it matches everything | remove it, or say what it asks for`},
		{"a path in any", strings.Replace(small, "send_to", "when {\n any {\n path = \"a\"\n }\n}\nsend_to", 1), `6:9 KX003 the path "a" does not begin with / | write "/a"`},
		{"unknown block", small + "upstrm \"x\" {\n}\n", `12:1 KX002 there is no block "upstrm" at the top | did you mean upstream?`},
		{"unknown key", up(`algoritm = "random"`), `8:3 KX002 there is no key "algoritm" in upstream | did you mean algorithm?`},
		{"far from any key", up(`zzz = 1`), `8:3 KX002 there is no key "zzz" in upstream | known: ` + strings.Join(upstreamBlock.names(), ", ")},
		{"key for block", up(`probe = "http"`), `8:3 KX002 probe is a block; it takes no = | write probe { ... }`},
		{"block for key", up("algorithm {\n}"), `8:3 KX002 algorithm is a key, not a block | write algorithm = "least-connections"`},
		{"choice", up(`algorithm = "rondom"`), `8:15 KX007 algorithm cannot be "rondom"; it is ` + orList(quoted(Algorithms)) + ` | did you mean "random"?`},
		{"wrong type", up(`algorithm = 7`), `8:15 KX003 algorithm is 7, not text | expected text, like "least-connections"`},
		{"label choice", up("probe \"htp\" {\n}"), `8:9 KX007 there is no probe of the kind "htp" | did you mean "http"?`},
		{"no label", up("probe {\n}"), `8:3 KX005 probe has no kind | write probe "http" {`},
		{"label too many", up("retry \"x\" {\n}"), `8:9 KX002 retry takes no name | write retry {`},
		{"twice", up("retry {\n}\nretry {\n}"), `10:1 KX006 retry is given twice | the first stands on line 8`},
		{"key twice", up("algorithm = \"random\"\nalgorithm = \"hash\""), `9:1 KX006 this key is given twice | remove one of them`},
		{"no unit", up("timeouts {\n  answer = \"5\"\n}"), `9:12 KX003 answer: "5" has no unit; write "5s" for seconds or "5ms" for milliseconds | expected a duration of at least "1ms", like "10s"`},
		{"number for duration", up("timeouts {\n  answer = 5\n}"), `9:12 KX003 answer is 5, not a duration | expected a duration of at least "1ms", like "10s"`},
		{"zero interval", up("probe \"http\" {\n  every = \"0s\"\n}"), `9:11 KX004 every = "0s" is outside its limits | expected a duration of at least "10ms", like "3s"`},
		{"negative duration", up("probe \"http\" {\n  every = \"-1s\"\n}"), `9:11 KX003 every: the duration "-1s" is negative | expected a duration of at least "10ms", like "3s"`},
		{"absurd duration", up("probe \"http\" {\n  every = \"900000h\"\n}"), `9:11 KX003 every: the duration "900000h" is longer than ten years | expected a duration of at least "10ms", like "3s"`},
		{"percentage", up("suspend {\n  keep = \"150%\"\n}"), `9:10 KX003 keep: "150%" lies outside 0% to 100% | expected a percentage, like "50%"`},
		{"percentage without sign", up("suspend {\n  keep = \"50\"\n}"), `9:10 KX003 keep: "50" is not a percentage; write it like "50%" | expected a percentage, like "50%"`},
		{"negative weight", strings.Replace(small, `"127.0.0.1:9001"`, `{ address = "127.0.0.1:9001", weight = -1 }`, 1), `9:50 KX004 weight = -1 is outside its limits | expected a whole number from 0 to 10000, like 2`},
		{"huge weight", strings.Replace(small, `"127.0.0.1:9001"`, `{ address = "127.0.0.1:9001", weight = 1e300 }`, 1), `9:50 KX004 weight = 1e+300 is outside its limits | expected a whole number from 0 to 10000, like 2`},
		{"fraction", strings.Replace(small, `"127.0.0.1:9001"`, `{ address = "127.0.0.1:9001", weight = 1.5 }`, 1), `9:50 KX003 weight is 1.5, not a whole number | expected a whole number from 0 to 10000, like 2`},
		{"backend without address", strings.Replace(small, `"127.0.0.1:9001"`, `{ weight = 1 }`, 1), `9:11 KX005 the backend has no address | address = "192.0.2.12:8080"`},
		{"unknown member key", strings.Replace(small, `"127.0.0.1:9001"`, `{ address = "127.0.0.1:9001", wieght = 1 }`, 1), `9:41 KX002 there is no key "wieght" in backend | did you mean weight?`},
		{"backend twice", strings.Replace(small, `auk = "127.0.0.1:9001"`, "auk = \"127.0.0.1:9001\"\n    auk = \"127.0.0.1:9002\"", 1), `10:5 KX006 the backend "auk" is given twice | the first stands on line 9`},
		{"no port", strings.Replace(small, "127.0.0.1:9001", "127.0.0.1", 1), `9:11 KX003 address: "127.0.0.1" has no port; write "127.0.0.1:8080" | expected an address, like "192.0.2.12:8080"`},
		{"no backends", strings.Replace(small, `auk = "127.0.0.1:9001"`, "", 1), `8:14 KX005 backends names none | expected the backends, like { auk = "192.0.2.11:8080", gannet = { address = "192.0.2.12:8080", weight = 2 } }`},
		{"backends a list", strings.Replace(small, "{\n    auk = \"127.0.0.1:9001\"\n  }", `["127.0.0.1:9001"]`, 1), `8:14 KX003 backends is a list, not names with addresses | expected the backends, like { auk = "192.0.2.11:8080", gannet = { address = "192.0.2.12:8080", weight = 2 } }`},
		{"missing key", strings.Replace(small, `  listen = "127.0.0.1:8080"`, "", 1), `1:1 KX005 frontend "web" has no listen | listen = ["0.0.0.0:8080", "[::]:8080"]`},
		{"missing block", strings.Replace(small, "  route \"all\" {\n    send_to = upstream.app\n  }\n", "", 1), `1:1 KX005 frontend "web" has no route | rule for requests; the first route that matches decides`},
		{"quoted reference", strings.Replace(small, "upstream.app", `"app"`, 1), `4:15 KX003 send_to needs a reference to an upstream | write upstream.app without quotes`},
		{"bare reference", strings.Replace(small, "upstream.app", `app`, 1), `4:15 KX003 send_to needs a reference to an upstream | write upstream.app`},
		{"reference elsewhere", strings.Replace(small, `"127.0.0.1:9001"`, "upstream.app", 1), `9:11 KX101 there is no value called "upstream" | a reference to an upstream stands in send_to only`},
		{"unknown let", strings.Replace(small, `"127.0.0.1:9001"`, "let.prt", 1) + "let {\n  port = \"127.0.0.1:1\"\n}\n", `9:11 KX101 let has no value called "prt" | did you mean let.port?`},
		{"path without slash", strings.Replace(small, "    send_to", "    when {\n path = \"live\"\n }\n    send_to", 1), `5:9 KX003 the path "live" does not begin with / | write "/live"`},
		{"** in the middle", strings.Replace(small, "    send_to", "    when {\n path = \"/a/**/b\"\n }\n    send_to", 1), `5:9 KX003 ** stands for the rest in "/a/**/b" and can only be a whole segment at the end | * stands for one segment, or for part of one`},
		{"host with port", strings.Replace(small, "    send_to", "    when {\n host = \"a.example:80\"\n }\n    send_to", 1), `5:9 KX003 host "a.example:80" holds a port | hosts are compared without their port`},
		{"method in small letters", strings.Replace(small, "    send_to", "    when {\n method = \"get\"\n }\n    send_to", 1), `5:11 KX003 "get" is not a request method | methods are case-sensitive words, like "GET" or "POST"`},
		{"client", strings.Replace(small, "    send_to", "    when {\n client = \"10.0.0.0/99\"\n }\n    send_to", 1), `5:11 KX003 client "10.0.0.0/99" is not an address or network | like "203.0.113.9" or "2001:db8::/32"`},
		{"empty list", strings.Replace(small, `"127.0.0.1:8080"`, "[]", 1), `2:12 KX005 listen is an empty list | expected an address or a list of addresses, like ["0.0.0.0:8080", "[::]:8080"]`},
		{"tcp probe with a path", up("probe \"tcp\" {\n  path = \"/ready\"\n}"), `9:10 KX002 path goes with probe "http", and this is probe "tcp" | write probe "http" {`},
		{"status", up("probe \"http\" {\n  expect = { status = \"2xx\" }\n}"), `9:23 KX003 "2xx" is not a status or a range of them | like "200" or "200-299"`},
		{"http in a tcp frontend", strings.Replace(small, "  route", "  protocol = \"tcp\"\n  limits {\n body_rate = \"1KiB/s\"\n}\n  route", 1), `5:14 KX002 body_rate belongs to frontends of http; tcp carries bytes | remove it`},
		{"patience in a tcp frontend", strings.Replace(small, "  route", "  protocol = \"tcp\"\n  timeouts {\n half_closed = \"1s\"\n}\n  route", 1), `5:16 KX002 half_closed belongs to frontends of http; tcp carries bytes | remove it`},
		{"requests of connections", strings.Replace(small, "  route \"all\" {", "  protocol = \"tcp\"\n  route \"all\" {\n stream_requests = true", 1), `5:20 KX002 stream_requests belongs to frontends of http; tcp carries bytes | remove it`},
		{"requests that nobody gets", strings.Replace(small, "    send_to = upstream.app", "    stream_requests = true\n    reply {\n}", 1), `4:23 KX002 stream_requests belongs to a route that sends to an upstream | remove it`},
		{"rate of a body", strings.Replace(small, "  route", "  limits {\n body_rate = \"1KiB\"\n}\n  route", 1), `4:14 KX003 body_rate: "1KiB" is not a size a second; write it like "512B/s", "1KiB/s" or "2MiB/s" | expected a size a second, like "8KiB/s"`},
		{"field that passes anyway", strings.Replace(small, "  route", "  pass_fields = [\"X-Colour\"]\n  route", 1), `3:18 KX007 pass_fields has no effect on "X-Colour", which is always passed | X-Real-IP, True-Client-IP, X-Original-URL, X-Original-Host, X-Rewrite-URL or Proxy`},
		{"limits twice", "limits {\n}\n" + small + "limits {\n}\n", `14:1 KX006 limits is given twice | the first stands on line 1`},
		{"cookie of nobody's", up("sticky {\n  by = \"address\"\n  pass_cookie = true\n}"), `10:17 KX002 pass_cookie belongs to a cookie of our own, and this is sticky by address | remove it, or write by = "cookie"`},
		{"empty password", small + "control {\n user \"mary\" {\n password = \"\"\n }\n}\n", "14:13 KX003 the password is not a bcrypt hash | kestrix password writes one; never write the password itself"},
		{"half a hash", small + "control {\n user \"mary\" {\n password = \"$2a$12$abc\"\n }\n}\n", "14:13 KX003 the password is not a bcrypt hash | kestrix password writes one; never write the password itself"},
		{"hash of an hour", small + "control {\n user \"mary\" {\n password = \"$2a$31$" + strings.Repeat("a", 53) + "\"\n }\n}\n", "14:13 KX004 the cost 31 of the hash is outside 4 to 16 | kestrix password writes one that is sound"},
		{"what to retry", up("retry {\n  on = [\"conect\"]\n}"), `9:9 KX007 on cannot hold "conect" | did you mean "connect"?`},
		{"a status of gRPC", up("retry {\n  on = [\"grpc:unavailble\"]\n}"), `9:9 KX007 on cannot hold "grpc:unavailble" | did you mean "grpc:unavailable"?`},
		{"ok of gRPC", up("retry {\n  on = [\"grpc:ok\"]\n}"), `9:9 KX007 on cannot hold "grpc:ok" | expected a status of gRPC, like "grpc:unavailable" or "grpc:deadline_exceeded"`},
		{"no certificate", tlsIn(""), `3:3 KX005 tls has no certificate | certificate and key, or acme { ... }`},
		{"half a pair", tlsIn(`key = "a.key"`), `3:3 KX005 certificate and key belong together | give both, or neither with acme { ... }`},
		{"wildcard by ACME", acmeIn(`names = "*.tern.example"`, ""), `5:15 KX003 "*.tern.example" has a wildcard, and its challenge (dns-01) is not supported | list each host`},
		{"address by ACME", acmeIn(`names = "192.0.2.1"`, ""), `5:15 KX003 "192.0.2.1" is an address | a host, like "tickets.tern.example"`},
		{"no domain", acmeIn(`names = "localhost"`, ""), `5:15 KX003 "localhost" has no domain | like "tickets.tern.example"`},
		{"no host", acmeIn(`names = "a_b.example"`, ""), `5:15 KX003 "a_b.example" has a _, and certificates are for hosts | like "tickets.tern.example"`},
		{"name twice", acmeIn(`names = ["a.example", "A.example"]`, ""), `5:29 KX006 "a.example" is given twice | remove one of them`},
		{"clear directory", strings.Replace(acmeIn(`names = "a.example"`, ""), "https:", "http:", 1), `6:19 KX003 "http://ca.example/dir" is not the URL of a directory | like "https://ca.tern.example/directory"; RFC 8555 section 6.1 requires https`},
		{"user of a directory", strings.Replace(acmeIn(`names = "a.example"`, ""), "ca.example", "harbour:secret@ca.example", 1), `6:19 KX003 the URL of the directory has a user name, and ACME has no use for one | remove it; account_id and account_key bind an existing account`},
		{"contact", acmeIn(`names = "a.example"`, `contact = "mailto:a@b"`), `8:17 KX003 "mailto:a@b" is not a mail address | one address, like "harbour@tern.example"`},
		{"half an account", acmeIn(`names = "a.example"`, `account_id = "7"`), `4:5 KX005 account_id and account_key belong together | give both, or neither`},
		{"key of an account", acmeIn(`names = "a.example"`, "account_id = \"7\"\n      account_key = \"c2hvcnQ\""), `9:21 KX004 account_key has 5 bytes, and HS256 needs 32 | the whole MAC key as the ACME server gave it`},
		{"no key of an account", acmeIn(`names = "a.example"`, "account_id = \"7\"\n      account_key = \"!\""), `9:21 KX003 account_key is not base64url | the MAC key as the ACME server gave it, RFC 4648 section 5`},
		{"short secret", up("sticky {\n  by = \"cookie\"\n  secret = \"short\"\n}"), "10:12 KX004 the secret is shorter than 16 characters | one that cannot be guessed, as from: head -c 24 /dev/urandom | base64"},
		{"cookie name", up("sticky {\n  by = \"cookie\"\n  name = \"a b\"\n}"), `10:10 KX003 "a b" cannot be the name of a cookie or header field | letters, digits, - and _`},
		{"name of a cookie by address", up("sticky {\n  by = \"address\"\n  name = \"x\"\n}"), `10:10 KX002 name belongs to a cookie or header field, and this is sticky by address | remove it, or write by = "cookie"`},
		{"regular expression", strings.Replace(small, "    send_to", "    when {\n path = regexp(\"/a(\")\n }\n    send_to", 1), `5:9 KX003 "/a(" is not a regular expression | the syntax is RE2's; a backslash is written twice: "\\d+"`},
		{"function", strings.Replace(small, "    send_to", "    when {\n path = regex(\"/a\")\n }\n    send_to", 1), `5:9 KX002 there is no function "regex" here | did you mean regexp?`},
		{"not of not", strings.Replace(small, "    send_to", "    when {\n host = not(not(\"a\"))\n }\n    send_to", 1), `5:9 KX003 not(not(...)) says the same as nothing | leave both out`},
		{"regexp of not", strings.Replace(small, "    send_to", "    when {\n host = regexp(not(\"a\"))\n }\n    send_to", 1), `5:9 KX003 regexp takes a text | not(regexp("...")) stands the other way round`},
		{"method by expression", strings.Replace(small, "    send_to", "    when {\n method = regexp(\"GET\")\n }\n    send_to", 1), `5:11 KX003 "GET" is not a request method | methods are case-sensitive words, like "GET" or "POST"`},
		{"arguments", strings.Replace(small, "    send_to", "    when {\n path = not(\"/a\", \"/b\")\n }\n    send_to", 1), `5:9 KX003 not takes one argument, not 2 | like not("/live/**")`},
		{"query list", strings.Replace(small, "    send_to", "    when {\n query = { a = 1 }\n }\n    send_to", 1), `5:16 KX003 query is 1, not a table of names and patterns | expected a table of names and patterns, like { lang = "fi", debug = not("*") }`},
		{"no backend answers", strings.Replace(small, "    send_to = upstream.app\n", "", 1), `3:3 KX005 route "all" says nothing of who answers | send_to = upstream.NAME, or a redirect or reply block`},
		{"two answer", strings.Replace(small, "    send_to", "    reply {\n }\n    send_to", 1), `3:3 KX006 route "all" has more than one way to answer | keep one of send_to, redirect and reply`},
		{"redirect nowhere", strings.Replace(small, "send_to = upstream.app", "redirect {\n }", 1), `4:5 KX005 redirect has no to | to = "https://{host}{path}"`},
		{"redirect to a word", strings.Replace(small, "send_to = upstream.app", "redirect {\n to = \"new\"\n }", 1), `5:7 KX003 "new" is not a URL and not a path | like "https://{host}{path}" or "/new"`},
		{"redirect with an unknown part", strings.Replace(small, "send_to = upstream.app", "redirect {\n to = \"/{port}\"\n }", 1), `5:7 KX003 only {host} and {path} stand for something here | like "https://{host}{path}"`},
		{"redirect with a space", strings.Replace(small, "send_to = upstream.app", "redirect {\n to = \"/a b\"\n }", 1), `5:7 KX003 the target contains a space or control character | write it as %20`},
		{"status that does not redirect", strings.Replace(small, "send_to = upstream.app", "redirect {\n to = \"/a\"\n status = 304\n }", 1), `6:11 KX007 304 is not a status that redirects | one of 301, 302, 303, 307, 308`},
		{"reply status", strings.Replace(small, "send_to = upstream.app", "reply {\n status = 600\n }", 1), `5:11 KX004 status = 600 is outside its limits | expected a whole number from 200 to 599, like 503`},
		{"prefix", strings.Replace(small, "    send_to", "    rewrite {\n drop_prefix = \"app\"\n }\n    send_to", 1), `5:16 KX003 drop_prefix = "app" is not the beginning of a path | like "/app", without query and wildcards`},
		{"told host", strings.Replace(small, "    send_to", "    rewrite {\n host = \"http://a\"\n }\n    send_to", 1), `5:9 KX003 "http://a" is not a host | like "app.inside.example" or "app.inside.example:8080"`},
		{"rewriting nothing", strings.Replace(small, "    send_to = upstream.app", "    reply {\n }\n    rewrite {\n }", 1), `6:5 KX002 rewrite belongs to a route that sends to an upstream | remove it`},
		{"field name", strings.Replace(small, "    send_to", "    headers {\n request {\n set = { \"a b\" = \"c\" }\n }\n }\n    send_to", 1), `6:10 KX003 "a b" cannot be the name of a header field | letters, digits and -`},
		{"framing", strings.Replace(small, "    send_to", "    headers {\n answer {\n remove = [\"content-length\"]\n }\n }\n    send_to", 1), `6:12 KX003 the field Content-Length cannot be changed | the proxy writes it as each message needs it`},
		{"host as a field", strings.Replace(small, "    send_to", "    headers {\n request {\n set = { Host = \"a\" }\n }\n }\n    send_to", 1), `6:10 KX003 the field Host cannot be changed | rewrite { host = "..." } changes it`},
		{"unknown fact", strings.Replace(small, "    send_to", "    headers {\n answer {\n set = { A = \"{bakend}\" }\n }\n }\n    send_to", 1), `6:14 KX101 there is no variable {bakend} | did you mean {backend}?`},
		{"field of two lines", strings.Replace(small, "    send_to", "    headers {\n answer {\n add = { A = \"a\\nb\" }\n }\n }\n    send_to", 1), `6:14 KX003 the value of a header field holds a control character | one line of text`},
		{"pattern for a value", strings.Replace(small, "    send_to", "    headers {\n answer {\n add = { A = not(\"a\") }\n }\n }\n    send_to", 1), `6:14 KX003 add needs texts, not patterns | expected a table of names and texts, like { "Cache-Control" = "no-store" }`},
		{"null in a list", up("retry {\n on = [null]\n}"), `9:8 KX003 null is no value here | `},
		{"division by zero", up(`algorithm = 1/0`), `8:15 KX003 `},
		{"two keys on a line", "upstream \"a\" {\n backends = { b = \"c:1\" } algorithm = \"hash\"\n}", `2:27 KX001 `},
		{"no closing quote", strings.Replace(small, "8080\"", "8080", 1), `2:27 KX001 the text in quotes does not end on its line | the closing " is missing`},
		{"no closing quote at the end", "let {\n  a = \"b", `2:9 KX001 `},
		{"name of a frontend", strings.Replace(small, `"web"`, `"9 to 5"`, 1), `1:10 KX003 "9 to 5" cannot be a name | letters, digits, - and _, beginning with a letter`},
		{"let with a block", "let {\n  a {\n }\n}\n" + small, `2:3 KX002 let holds values only, no blocks | `},
		{"neither", "access_log {\n}\n", "1:1 KX005 there is neither a frontend nor an upstream here | kestrix new ADDRESS... writes a first configuration"},
		{"no upstream", "frontend \"a\" {\n listen = \"127.0.0.1:1\"\n route \"b\" {\n send_to = upstream.c\n }\n}\n", `1:1 KX005 the configuration has no upstream | an upstream names the backends: upstream "app" {`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, found := read(t, c.text)
			require.NotEmpty(t, found)
			if strings.HasSuffix(c.want, "KX003 ") || strings.HasSuffix(c.want, "KX001 ") {
				assert.True(t, strings.HasPrefix(said(found)[0], c.want), "%s", said(found)[0])
				return
			}
			assert.Equal(t, []string{c.want}, said(found))
		})
	}
}

func TestAMissingBraceIsLookedForWhereItWasFelt(t *testing.T) {
	_, found := read(t, strings.Replace(small, "  }\n}\nupstream", "  }\nupstream", 1))
	assert.Equal(t, []string{
		"1:16 KX001 this block is not closed | the } of this block is missing",
		"6:1 KX002 there is no block \"upstream\" in frontend | upstream stands at the top; is a } missing above?",
	}, said(found))
}

func TestEverythingWrongIsToldAtOnceInSourceOrder(t *testing.T) {
	_, found := read(t, `frontend "web" {
  listen = "127.0.0.1"
  route "all" {
    send_to = "app"
    sent_to = 1
  }
}
upstream "app" {
  algorithm = "best"
  backends = { auk = "127.0.0.1:99999", gannet = "127.0.0.1:9002" }
  probe "http" {
    every = "soon"
  }
}
`)
	var lines []int
	for _, f := range found {
		lines = append(lines, f.Range.Start.Line)
		assert.NotEmpty(t, f.Message)
		assert.Equal(t, "t.hcl", f.Range.Filename)
	}
	assert.Equal(t, []int{2, 4, 5, 9, 10, 12}, lines)
}

func TestSourcesThatCannotBeReadAreRefused(t *testing.T) {
	deep := strings.Repeat("[", 20000) + strings.Repeat("]", 20000)
	for _, c := range []struct{ name, text, want string }{
		{"empty", "", "t.hcl: the file is empty"},
		{"only space", " \n\t\n", "t.hcl: the file is empty"},
		{"comments without end", small + strings.Repeat("path = /a/**\n", 100), "t.hcl:12:10: a comment begins here with /* and does not end, as do 99 more"},
		{"not UTF-8", "# caf\xe9\n", "t.hcl:1:6: the byte 0xe9 is not UTF-8"},
		{"not UTF-8 further down", "# a\n# ü\xff\n", "t.hcl:2:4: the byte 0xff is not UTF-8"},
		{"NUL", "# a\n\x00", "t.hcl:2:1: a NUL byte stands here"},
		{"brackets", "a = " + deep, "t.hcl:1:105: brackets are nested more than 100 deep"},
		{"blocks", strings.Repeat("a {\n", 20000), "t.hcl:101:3: brackets are nested more than 100 deep"},
		{"templates", "a = " + strings.Repeat(`"${`, 20000), "brackets are nested more than 100 deep"},
		{"parentheses", "a = " + strings.Repeat("(", 20000), "brackets are nested more than 100 deep"},
		{"signs", "a = " + strings.Repeat("-", 1_000_000) + "1", "strings more than 500 operators together"},
		{"sums", "a = (1" + strings.Repeat("\n+1", 100_000) + ")", "strings more than 500 operators together"},
		{"conditions", "a = " + strings.Repeat("true ? 1 : ", 100_000) + "1", "strings more than 500 operators together"},
		{"steps", "a = b" + strings.Repeat("[c]", 100_000), "strings more than 500 operators together"},
		{"too large", strings.Repeat("# a line\n", 2_000_000), "t.hcl: 18 MB is no configuration; at most 16 MiB are read"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, _, err := Read([]File{{Name: "t.hcl", Source: []byte(c.text)}})
			var unusable *UnusableError
			require.ErrorAs(t, err, &unusable)
			assert.Contains(t, err.Error(), c.want)
		})
	}
	c, found := read(t, "\xef\xbb\xbf"+strings.ReplaceAll(small, "\n", "\r\n"))
	assert.Empty(t, said(found), "a byte order mark and CRLF are accepted")
	assert.Len(t, c.Upstreams, 1)
}

func TestTheTableIsWhole(t *testing.T) {
	var walk func(b *Block, where string)
	walk = func(b *Block, where string) {
		assert.NotEmpty(t, b.Help, where)
		names := map[string]bool{}
		for _, k := range b.Keys {
			at := where + "." + k.Name
			assert.False(t, names[k.Name], "%s stands twice", at)
			names[k.Name] = true
			assert.NotEmpty(t, k.Help, at)
			assert.NotEmpty(t, k.Example, at)
			if k.Default != "" {
				assert.NotNil(t, defaultOf(k), "%s: the default cannot be read", at)
			}
			if k.Fields != nil {
				walk(k.Fields, at)
			}
		}
		for _, c := range b.Blocks {
			assert.False(t, names[c.Name], "%s.%s is key and block", where, c.Name)
			names[c.Name] = true
			walk(c, where+"."+c.Name)
		}
	}
	walk(Language, "language")
}

func TestSeveralFilesAreOneConfiguration(t *testing.T) {
	halves := strings.SplitAfterN(small, "}\n}\n", 2)
	c, found, err := Read([]File{
		{Name: "a.hcl", Source: []byte(strings.ReplaceAll(halves[0], `"127.0.0.1:8080"`, "let.front"))},
		{Name: "b.hcl", Source: []byte(halves[1] + "let {\n  front = \"127.0.0.1:1\"\n}\n")},
	})
	require.NoError(t, err)
	assert.Empty(t, said(found))
	assert.Len(t, c.Upstreams, 1)
	assert.Equal(t, 1, c.Frontends[0].Listen[0].Value.Port, "values of one's own hold in every file")
	assert.True(t, c.Lets[0].Used)
}

// TestReadingNeverPanics feeds random pieces of the language.
func TestReadingNeverPanics(t *testing.T) {
	pieces := []string{
		"frontend", "upstream", `"a"`, "{", "}", "[", "]", "=", "\n", "listen", "let", "let.x", "${", `"`, "1e300", "-1", "null", "for", "in", ":", "=>",
		"backends", "probe", `"http"`, ",", "(", ")", "?", "every", "route", "when", "<<E\n", "E\n", "#", "*", ".", "true", "%{ if", "}", "0s",
	}
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom(pieces), 1, 60).Draw(t, "pieces"), " ")
		c, found, err := Read([]File{{Name: "r.hcl", Source: []byte(text)}})
		if err == nil && c == nil {
			t.Fatal("neither configuration nor error")
		}
		for _, f := range found {
			if f.Message == "" || f.Range.Filename == "" {
				t.Fatalf("a finding without words or place: %+v", f)
			}
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(small))
	f.Add([]byte("let {\n a = 1\n}\nupstream \"x\" {\n backends = { for a in [1] : \"b\" => \"c:1\" }\n}"))
	f.Add([]byte("a = \"${1 + 2}\"\nprobe \"http\" {\n expect = { status = \"200\" }\n}"))
	f.Fuzz(func(t *testing.T, src []byte) {
		c, found, err := Read([]File{{Name: "f.hcl", Source: src}})
		if err == nil && c == nil {
			t.Fatal("neither configuration nor error")
		}
		for _, x := range found {
			if x.Range.Start.Line < 1 || x.Range.Start.Column < 1 {
				t.Fatalf("a finding without a place: %+v", x)
			}
		}
	})
}
