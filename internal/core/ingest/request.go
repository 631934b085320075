package ingest

import (
	"net/netip"

	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
)

// Request sets q to the routing request of a record, with the parts that routes ask for. A
// record without a host has the given one; empty is unknown. q refers to memory of the
// record.
func Request(rec *trace.Record, asks route.Field, host string, q *route.Request) {
	query := ""
	*q, query = request.Of(trace.Text(rec.Method), trace.Text(rec.Host), trace.Text(rec.Path))
	if rec.Method == nil {
		q.Unknown |= route.AskMethod
	}
	if rec.Path == nil {
		q.Unknown |= route.AskPath | route.AskQuery
	} else if asks&route.AskQuery != 0 {
		q.Query = request.Query(query)
	}
	switch {
	case rec.Host != nil:
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
	if len(rec.Headers) == 0 && !rec.Complete {
		q.Unknown |= route.AskHeader
	} else if asks&route.AskHeader != 0 {
		q.Header = rec.Header
	}
	if len(rec.Cookies) == 0 && !rec.Complete {
		q.Unknown |= route.AskCookie
	} else if asks&route.AskCookie != 0 {
		q.Cookie = rec.Cookie
	}
}
