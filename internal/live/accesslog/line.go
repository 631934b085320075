// Package accesslog writes a line for each request, in the forms that a configuration asks
// for: Combined with further fields, JSON Lines, chosen fields, syslog. Every form but the
// chosen fields is a trace that package trace reads again.
//
// The proxy fills in a Line for each request, and serve writes it to a Log. It must never
// hold a request up: lines are gathered, and lost where they cannot be written.
package accesslog

import (
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/trace"
)

// Line is what the access log has of a request or connection.
type Line struct {
	Time      time.Time
	Client    string
	Method    string
	Host      string
	Path      string // with its query
	Protocol  string // as the client speaks it, such as HTTP/1.1
	Kind      trace.Protocol
	UserAgent string
	Referer   string
	Status    int
	Bytes     int64
	Duration  time.Duration // until the answer had been passed on
	Connect   time.Duration // of the last attempt, until its connection stood; 0 if one was at hand
	FirstByte time.Duration // of the last attempt, until the head of its answer
	Frontend  string
	Route     string
	Upstream  string
	Backend   string // empty if none was chosen
	Address   string // of the backend
	Reason    string // why this backend was chosen, or that the route responds by itself
	Cause     cause.Cause
	Attempts  int
	Tries     []Try       // attempts with backends, in their order
	ID        uint64      // of the request, in the journal
	Moved     bool        // its client was given another seat for good
	TraceID   string      // of the field Traceparent; empty for none
	Session   string      // of the seat cookie, in a form that opens nothing
	RequestID string      // among all proxies
	Proxy     string      // its name
	Scheme    string      // http or https, as the client sees it; empty for a connection
	TLS       string      // its version, such as 1.3; empty for none
	SNI       string      // the name in the TLS handshake
	GRPC      string      // the status of gRPC, a number; empty: it is no RPC, or has told none
	Header    http.Header // of the request; not to be changed
}

// Try is an attempt with a backend.
type Try struct {
	Backend, Address string
	Reason           string        // why this backend was chosen
	Began            time.Duration // after the beginning of the request
	Connect          time.Duration // 0 if a connection was at hand
	FirstByte        time.Duration // until the head of the answer; 0: there was none
	Duration         time.Duration
	Status           int // of the backend; 0: none
	Cause            cause.Cause
}

// Tried returns how many attempts there were before the last; all of them if nobody was left
// to be asked again.
func (a *Line) Tried() []Try {
	if n := len(a.Tries); n > 0 && a.Backend != "" {
		return a.Tries[:n-1]
	}
	return a.Tries
}

// Detached returns a copy that holds nothing else in memory, for those who keep many.
func (a *Line) Detached() Line {
	x := *a
	x.Header, x.Tries = nil, slices.Clone(a.Tries)
	return x
}

// AppendCombined writes a Combined log line with further fields: duration in
// seconds, session, FRONTEND/ROUTE, UPSTREAM.BACKEND, reason, attempts, id, cause. A
// field without a value is "-". It is a trace that replay reads.
func (a *Line) AppendCombined(b []byte) []byte {
	r := a.Record()
	b = trace.AppendCombined(b, &r)
	b = append(b, ' ')
	b = append(b, dash(a.Session)...)
	b = append(b, ' ')
	b = append(b, dash(a.Frontend)...)
	b = append(b, '/')
	b = append(b, dash(a.Route)...)
	b = append(b, ' ')
	b = append(b, dash(a.Upstream)...)
	b = append(b, '.')
	b = append(b, dash(a.Backend)...)
	b = append(b, ' ')
	b = append(b, dash(a.Reason)...)
	b = append(b, ' ')
	b = strconv.AppendInt(b, int64(a.Attempts), 10)
	b = append(b, ' ')
	if a.Upstream == "" {
		b = append(b, '-')
	} else {
		b = strconv.AppendUint(b, a.ID, 10)
	}
	b = append(b, ' ')
	return append(b, dash(a.Cause.String())...)
}

// In reports whether an access log has a line for the request.
func (a *Line) In(l *config.AccessLog) bool {
	if !l.Fits(a.Frontend, a.Route, a.Status, a.Cause.String(), a.Duration) {
		return false
	}
	// By the id, so that logs of one share have the same requests, those of several proxies
	// included.
	return l.Share == 0 || float64(xxhash.Sum64String(a.RequestID)) < l.Share*(1<<64)
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// Record returns the request as a trace has it.
func (a *Line) Record() trace.Record {
	r := trace.Record{
		Time: a.Time.UnixNano(), Client: []byte(a.Client), Method: known(a.Method), Path: known(a.Path), Host: known(a.Host),
		UserAgent: known(a.UserAgent), Referer: known(a.Referer), Session: known(a.Session), Frontend: known(a.Frontend), Upstream: known(a.Upstream), Backend: known(a.Backend),
		Status: a.Status, Bytes: a.Bytes, Duration: int64(a.Duration), Protocol: a.Kind, Version: known(a.Protocol),
	}
	return r
}

func known(s string) []byte {
	if s == "" {
		return nil
	}
	return []byte(s)
}

// AppendJSON writes a line of JSON Lines: the keys of the trace record, then
// route, reason, cause, trace_id, request_id, proxy_name, backend_address, scheme, tls_version,
// sni, grpc_status, attempts, id, connect and first_byte in seconds.
func (a *Line) AppendJSON(b []byte) []byte {
	r := a.Record()
	b = trace.AppendJSON(b, &r)
	b = b[:len(b)-1] // the closing brace
	for _, f := range [...]struct{ name, value string }{
		{"route", a.Route}, {"reason", a.Reason}, {"cause", a.Cause.String()}, {"trace_id", a.TraceID}, {"request_id", a.RequestID},
		{"proxy_name", a.Proxy}, {"backend_address", a.Address}, {"scheme", a.Scheme}, {"tls_version", a.TLS}, {"sni", a.SNI},
	} {
		if f.value == "" {
			continue
		}
		b = append(b, `,"`+f.name+`":`...)
		b = trace.AppendJSONText(b, []byte(f.value))
	}
	if a.GRPC != "" {
		b = append(append(b, `,"grpc_status":`...), a.GRPC...)
	}
	b = append(b, `,"attempts":`...)
	b = strconv.AppendInt(b, int64(a.Attempts), 10)
	if a.Upstream != "" {
		b = append(b, `,"id":`...)
		b = strconv.AppendUint(b, a.ID, 10)
	}
	if a.Connect > 0 {
		b = append(b, `,"connect":`...)
		b = trace.AppendSeconds(b, int64(a.Connect))
	}
	if a.FirstByte > 0 {
		b = append(b, `,"first_byte":`...)
		b = trace.AppendSeconds(b, int64(a.FirstByte))
	}
	return append(b, '}')
}

// AppendFields writes a line of JSON with certain fields under names of one's
// own. What there is not is left out.
func (a *Line) AppendFields(b []byte, fields []config.FieldPair) []byte {
	b = append(b, '{')
	start := len(b)
	for _, f := range fields {
		before := len(b)
		if before > start {
			b = append(b, ',')
		}
		b = trace.AppendJSONText(b, []byte(f.Name.Value))
		b = append(b, ':')
		value := len(b)
		if b = a.appendField(b, f.Value.Value); len(b) == value {
			b = b[:before]
		}
	}
	return append(b, '}')
}

// appendField writes one of config.AccessFields, nothing if there is none.
func (a *Line) appendField(b []byte, name string) []byte {
	text := func(s string) []byte {
		if s == "" {
			return b
		}
		return trace.AppendJSONText(b, []byte(s))
	}
	seconds := func(d time.Duration) []byte { return trace.AppendSeconds(b, int64(d)) }
	switch name {
	case "time":
		b = append(b, '"')
		return append(a.Time.UTC().AppendFormat(b, time.RFC3339Nano), '"')
	case "status":
		if a.Status == 0 {
			return b
		}
		return strconv.AppendInt(b, int64(a.Status), 10)
	case "id":
		if a.Upstream == "" {
			return b
		}
		return strconv.AppendUint(b, a.ID, 10)
	case "bytes":
		return strconv.AppendInt(b, a.Bytes, 10)
	case "grpc_status":
		return append(b, a.GRPC...)
	case "attempts":
		return strconv.AppendInt(b, int64(a.Attempts), 10)
	case "duration":
		return seconds(a.Duration)
	case "connect":
		if a.Connect == 0 {
			return b
		}
		return seconds(a.Connect)
	case "first_byte":
		if a.FirstByte == 0 {
			return b
		}
		return seconds(a.FirstByte)
	}
	return text(a.text(name))
}

// text returns the text of one of config.AccessFields, empty for none.
func (a *Line) text(name string) string {
	switch name {
	case "client":
		return a.Client
	case "method":
		return a.Method
	case "host":
		return a.Host
	case "path":
		return a.Path
	case "protocol":
		return a.Protocol
	case "user_agent":
		return a.UserAgent
	case "referer":
		return a.Referer
	case "session":
		return a.Session
	}
	return a.own(name)
}

// own is text for what this proxy knows and decided.
func (a *Line) own(name string) string {
	switch name {
	case "frontend":
		return a.Frontend
	case "route":
		return a.Route
	case "upstream":
		return a.Upstream
	case "backend":
		return a.Backend
	case "backend_address":
		return a.Address
	case "reason":
		return a.Reason
	case "cause":
		return a.Cause.String()
	case "trace_id":
		return a.TraceID
	case "request_id":
		return a.RequestID
	case "proxy_name":
		return a.Proxy
	case "scheme":
		return a.Scheme
	case "tls_version":
		return a.TLS
	case "sni":
		return a.SNI
	case "grpc_status":
		return a.GRPC
	}
	return ""
}
