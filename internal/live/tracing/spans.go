package tracing

import (
	"context"
	"net"
	"strconv"
	"strings"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"kestrix/internal/core/cause"
	"kestrix/internal/live/accesslog"
)

// End hands a request over that has ended. The names of attributes are those of OpenTelemetry's
// conventions for HTTP; others begin with kestrix.
func (t *Tracer) End(s *Span, a *accesslog.Line) {
	if t == nil || s == nil {
		return
	}
	if n := int64(1 + len(a.Tries)); t.waiting.Add(n) > mostWaiting {
		t.waiting.Add(-n)
		t.drop(uint64(n), errSlow)
		return
	}
	ctx := context.Background()
	if s.parent.IsValid() {
		ctx = trace.ContextWithRemoteSpanContext(ctx, trace.NewSpanContext(trace.SpanContextConfig{TraceID: s.trace, SpanID: s.parent, TraceFlags: trace.FlagsSampled, TraceState: s.state, Remote: true}))
	}
	ctx, span := t.tracer.Start(context.WithValue(ctx, givenKey{}, given{s.trace, s.id}), strings.TrimSuffix(a.Method+" "+a.Frontend+"/"+a.Route, "/"),
		trace.WithSpanKind(trace.SpanKindServer), trace.WithTimestamp(a.Time), trace.WithAttributes(requestAttributes(a)...))
	if a.Status >= 500 || (a.Status == 0 || a.GRPC != "") && a.Cause != cause.None && a.Cause != cause.ClientLeft {
		span.SetStatus(codes.Error, a.Cause.String())
	}
	for i := range a.Tries {
		t.attempt(ctx, s, a, i)
	}
	span.End(trace.WithTimestamp(a.Time.Add(a.Duration)))
}

// attempt makes the span of an attempt.
func (t *Tracer) attempt(ctx context.Context, s *Span, a *accesslog.Line, i int) {
	try := &a.Tries[i]
	id := newSpanID() // of one that was not sent
	if i < len(s.tries) {
		id = s.tries[i]
	}
	began := a.Time.Add(try.Began)
	_, span := t.tracer.Start(context.WithValue(ctx, givenKey{}, given{s.trace, id}), a.Method+" "+a.Upstream,
		trace.WithSpanKind(trace.SpanKindClient), trace.WithTimestamp(began), trace.WithAttributes(attemptAttributes(a, try, i)...))
	if try.Status >= 400 || try.Cause != cause.None && try.Cause != cause.ClientLeft {
		span.SetStatus(codes.Error, try.Cause.String())
	}
	span.End(trace.WithTimestamp(began.Add(try.Duration)))
}

// attributes gathers those that have a value.
type attributes []attribute.KeyValue

func (l *attributes) text(name, value string) {
	if value != "" {
		*l = append(*l, attribute.String(name, value))
	}
}

func (l *attributes) number(name string, value int) {
	if value != 0 {
		*l = append(*l, attribute.Int(name, value))
	}
}

func requestAttributes(a *accesslog.Line) attributes {
	var l attributes
	path, query, _ := strings.Cut(a.Path, "?")
	host, port := a.Host, ""
	if h, p, err := net.SplitHostPort(a.Host); err == nil {
		host, port = h, p
	}
	n, _ := strconv.Atoi(port)
	l.text("http.request.method", a.Method)
	l.text("url.scheme", a.Scheme)
	l.text("url.path", path)
	l.text("url.query", query)
	l.text("server.address", host)
	l.number("server.port", n)
	l.text("client.address", a.Client)
	l.text("user_agent.original", a.UserAgent)
	l.text("network.protocol.version", strings.TrimSuffix(strings.TrimPrefix(a.Protocol, "HTTP/"), ".0"))
	l.text("tls.protocol.version", a.TLS)
	l.number("http.response.status_code", a.Status)
	if n, err := strconv.Atoi(a.GRPC); err == nil {
		l = append(l, attribute.Int("rpc.grpc.status_code", n))
	}
	l.text("error.type", a.Cause.String())
	l.text("kestrix.frontend", a.Frontend)
	l.text("kestrix.route", a.Route)
	l.text("kestrix.upstream", a.Upstream)
	l.text("kestrix.request_id", a.RequestID)
	return l
}

func attemptAttributes(a *accesslog.Line, try *accesslog.Try, i int) attributes {
	var l attributes
	host, port, err := net.SplitHostPort(try.Address)
	if err != nil {
		host = try.Address // a unix socket
	}
	n, _ := strconv.Atoi(port)
	l.text("http.request.method", a.Method)
	l.text("server.address", host)
	l.number("server.port", n)
	l.number("http.response.status_code", try.Status)
	l.text("error.type", try.Cause.String())
	l.number("http.request.resend_count", i)
	l.text("kestrix.backend", try.Backend)
	l.text("kestrix.reason", try.Reason)
	return l
}

// watched is an exporter whose failures are told, once each time they begin and end.
type watched struct {
	*otlptrace.Exporter
	t *Tracer
}

// ExportSpans sends spans. It is called by one goroutine at a time.
func (w *watched) ExportSpans(ctx context.Context, spans []sdk.ReadOnlySpan) error {
	err := w.Exporter.ExportSpans(ctx, spans)
	w.t.waiting.Add(-int64(len(spans)))
	if err != nil {
		w.t.drop(uint64(len(spans)), err)
		return nil // told here; the SDK would write it to stderr as well
	}
	w.t.taken()
	return nil
}
