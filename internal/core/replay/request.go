package replay

import (
	"net/netip"
	"net/url"
	"strings"

	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
)

// Request makes what routing sees of a record, as far as the routes ask for it.
// The host is for records that name none; empty for unknown. What the request
// holds points into the record.
func Request(rec *trace.Record, asks route.Field, host string, q *route.Request) {
	*q = route.Request{Method: trace.Text(rec.Method), Path: trace.Text(rec.Path), Host: trace.Text(rec.Host)}
	if rec.Method == nil {
		q.Unknown |= route.AskMethod
	}
	if rec.Path == nil {
		q.Unknown |= route.AskPath
		q.Unknown |= route.AskQuery
	} else if i := strings.IndexByte(q.Path, '?'); i >= 0 {
		if asks&route.AskQuery != 0 {
			q.Query = QueryLookup(q.Path[i+1:])
		}
		q.Path = q.Path[:i]
	}
	switch {
	case rec.Host != nil:
		q.Host = HostName(q.Host)
	case host != "":
		q.Host = host
	default:
		q.Unknown |= route.AskHost
	}
	if rec.Protocol == trace.TCP && q.Unknown&route.AskHost == 0 {
		q.SNI = q.Host // a connection has no other name
	} else {
		q.Unknown |= route.AskSNI
	}
	if asks&route.AskClient != 0 {
		addr, err := netip.ParseAddr(trace.CanonicalClient(trace.Text(rec.Client)))
		if err != nil {
			q.Unknown |= route.AskClient
		}
		q.Client = addr
	}
	if len(rec.Headers) == 0 {
		q.Unknown |= route.AskHeader
	} else if asks&route.AskHeader != 0 {
		q.Header = rec.Header
	}
	if len(rec.Cookies) == 0 {
		q.Unknown |= route.AskCookie
	} else if asks&route.AskCookie != 0 {
		q.Cookie = rec.Cookie
	}
}

// QueryLookup looks parameters of a query up; of several of one name the first
// counts. What cannot be read of a query is passed over.
func QueryLookup(raw string) route.Lookup {
	values, _ := url.ParseQuery(raw) // gives what could be read
	return func(name string) (string, bool) {
		v, ok := values[name]
		if !ok {
			return "", false
		}
		return v[0], true
	}
}

// HostName strips a port and writes a host in lower case.
func HostName(host string) string {
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") && strings.IndexByte(host, ']') < i {
		host = host[:i]
	}
	for i := range len(host) {
		if c := host[i]; c >= 'A' && c <= 'Z' {
			return strings.ToLower(host)
		}
	}
	return host
}
