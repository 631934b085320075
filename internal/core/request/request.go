// Package request turns what came over the wire, or stands in a trace, into what
// routes and the decision core decide on: normal forms of path and host, fields,
// cookies and query parameters by name, keys of hashes and seats. The proxy, the
// replay, why, diff and check all use it, so that they decide alike; a test keeps
// others from building these values by themselves. It must never keep a state, or read a
// path in another way than route and rewrite do.
package request

import (
	"net/netip"
	"net/url"
	"strings"
)

// HeldBack is the size, in bytes, up to which the proxy holds a response back until it has all of
// it. One that breaks off by then can be retried; the beginning of a larger one is passed on.
const HeldBack = 32 << 10

// Field names what a condition can ask of a request.
type Field uint8

// The fields, as bits.
const (
	AskHost Field = 1 << iota
	AskPath
	AskMethod
	AskClient
	AskHeader
	AskQuery
	AskCookie
	AskSNI
)

// Lookup returns the value of a named field, and whether there is one.
type Lookup func(name string) (string, bool)

// Request is what routes and keys go by. A field in Unknown matches nothing, as in
// a trace whose format does not record it.
type Request struct {
	Method  string
	Host    string // see Host
	Path    string // see Path; without the query
	Client  netip.Addr
	SNI     string // lower case; empty for none
	Header  Lookup // nil where there is none; likewise the next two
	Query   Lookup
	Cookie  Lookup
	Unknown Field
}

// Of returns a request for a method, a Host field and a request target (RFC 9112
// section 3.2), and the target's query as it came. Its lookups and its client are
// the caller's to set.
func Of(method, host, target string) (q Request, query string) {
	path, query := Target(target)
	return Request{Method: method, Host: Host(host), Path: Path(path)}, query
}

// OfConnection returns a request for a connection that is carried as it comes.
func OfConnection(client netip.Addr, sni string) Request {
	return Request{Client: client, SNI: strings.ToLower(sni)}
}

// Target splits a request target into path and query, as they came. Of a URL the
// path begins behind the host, and is "/" where there is none.
func Target(target string) (path, query string) {
	if !strings.HasPrefix(target, "/") {
		if _, rest, ok := strings.Cut(target, "://"); ok {
			i := strings.IndexAny(rest, "/?")
			if i < 0 {
				return "/", ""
			}
			if target = rest[i:]; target[0] == '?' {
				target = "/" + target
			}
		}
	}
	path, query, _ = strings.Cut(target, "?")
	return path, query
}

// Host returns the normal form of a host: without port, in lower case, without the
// dot of the root at its end. An IPv6 address keeps its brackets.
func Host(host string) string {
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") && strings.IndexByte(host, ']') < i {
		host = host[:i]
	}
	if len(host) > 1 {
		host = strings.TrimSuffix(host, ".")
	}
	for i := range len(host) {
		if c := host[i]; c >= 'A' && c <= 'Z' {
			return strings.ToLower(host)
		}
	}
	return host
}

// Joined returns the value of a header field that stands in several lines (RFC 9110
// section 5.3), and whether there is one.
func Joined(lines []string) (string, bool) {
	switch len(lines) {
	case 0:
		return "", false
	case 1:
		return lines[0], true
	}
	return strings.Join(lines, ", "), true
}

// Query returns a lookup for the parameters of a query; the first of a name counts.
// What cannot be read of a query is passed over.
func Query(raw string) Lookup {
	var values url.Values
	return func(name string) (string, bool) {
		if values == nil {
			values, _ = url.ParseQuery(raw) // returns what could be read
		}
		v, ok := values[name]
		if !ok {
			return "", false
		}
		return v[0], true
	}
}

// Cookies returns a lookup for the cookies in Cookie fields (RFC 6265 section
// 4.2.1); the first of a name counts, and quotes around a value are no part of it.
func Cookies(lines []string) Lookup {
	return func(name string) (string, bool) {
		for _, line := range lines {
			for pair := range strings.SplitSeq(line, ";") {
				key, value, ok := strings.Cut(strings.TrimSpace(pair), "=")
				if !ok || key != name {
					continue
				}
				if len(value) > 1 && value[0] == '"' && value[len(value)-1] == '"' {
					value = value[1 : len(value)-1]
				}
				return value, true
			}
		}
		return "", false
	}
}

// Idempotent reports whether a method may be repeated (RFC 9110 section 9.2.2).
func Idempotent(method string) bool {
	switch method {
	case "GET", "HEAD", "PUT", "DELETE", "OPTIONS", "TRACE":
		return true
	}
	return false
}
