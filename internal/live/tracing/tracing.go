// Package tracing sends spans of requests to a collector, over OTLP. A proxy asks it before a
// request whether it is traced, and hands it the request when it has ended: its line of the
// access log has everything that spans say. It must never delay a request, whatever the
// collector does.
package tracing

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"kestrix/internal/core/config"
)

// Options of a Tracer.
type Options struct {
	Config  *config.Tracing
	Proxy   string // its name
	Version string
	// Tell is told when spans begin to be lost, with the reason, and when they are taken
	// again, with the number that were lost meanwhile.
	Tell func(lost uint64, err error)
}

// mostWaiting is how many spans wait for the collector at most; further ones are lost.
const mostWaiting = 4096

// Tracer traces requests. A nil Tracer traces none.
type Tracer struct {
	cfg      *config.Tracing
	proxy    string
	tell     func(lost uint64, err error)
	provider *sdk.TracerProvider
	tracer   trace.Tracer

	waiting atomic.Int64  // spans
	lost    atomic.Uint64 // spans
	mu      sync.Mutex    // guards failing and since
	failing bool
	since   uint64 // spans that were lost before that
}

// New makes a tracer. It does not wait for the collector.
func New(o Options) (*Tracer, error) {
	exporter, err := otlptracehttp.New(context.Background(),
		otlptracehttp.WithEndpointURL(o.Config.Endpoint.Value), otlptracehttp.WithTimeout(5*time.Second),
		otlptracehttp.WithRetry(otlptracehttp.RetryConfig{Enabled: false})) // later spans are worth more than late ones
	if err != nil {
		return nil, err
	}
	t := &Tracer{cfg: o.Config, proxy: o.Proxy, tell: o.Tell}
	t.provider = sdk.NewTracerProvider(
		sdk.WithSampler(sdk.AlwaysSample()), // what is not sampled never comes here
		sdk.WithIDGenerator(givenIDs{}),
		sdk.WithResource(resource.NewSchemaless(attribute.String("service.name", o.Config.Service), attribute.String("service.instance.id", o.Proxy), attribute.String("service.version", o.Version))),
		sdk.WithBatcher(&watched{exporter, t}, sdk.WithMaxQueueSize(mostWaiting), sdk.WithBatchTimeout(time.Second)),
	)
	t.tracer = t.provider.Tracer("kestrix", trace.WithInstrumentationVersion(o.Version))
	return t, nil
}

// Same reports whether a configuration wants what a tracer does, for a proxy of that name. Both
// may be nil.
func (t *Tracer) Same(c *config.Tracing, proxy string) bool {
	if t == nil || c == nil {
		return t == nil && c == nil
	}
	a, b := *t.cfg, *c
	return t.proxy == proxy && a.Endpoint.Value == b.Endpoint.Value && a.Share == b.Share && a.Anyone == b.Anyone && a.Service == b.Service
}

// Close sends what waits, within a time.
func (t *Tracer) Close(within time.Duration) {
	if t == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	_ = t.provider.Shutdown(ctx) // what could not be sent was told
}

// Lost returns how many spans were lost.
func (t *Tracer) Lost() uint64 {
	if t == nil {
		return 0
	}
	return t.lost.Load()
}

// Span is the place of a request in its trace.
type Span struct {
	trace  trace.TraceID
	parent trace.SpanID // of another program; invalid: this is the root
	state  trace.TraceState
	id     trace.SpanID
	tries  []trace.SpanID // of its attempts
}

// Begin decides whether a request is traced; nil: it is not. traceparent and tracestate are the
// values of its fields, and trusted says that a trusted proxy sent them.
func (t *Tracer) Begin(traceparent, tracestate []string, trusted bool) *Span {
	if t == nil {
		return nil
	}
	s, sampled := continued(traceparent, tracestate)
	if !(sampled && (trusted || t.cfg.Anyone)) && rand.Float64() >= t.cfg.Share {
		return nil
	}
	if s == nil {
		s = &Span{trace: newTraceID()}
	}
	s.id = newSpanID()
	return s
}

// continued returns the place that fields name, nil for none, and whether its trace is sampled
// (W3C Trace Context, sections 3.2 and 3.3).
func continued(traceparent, tracestate []string) (s *Span, sampled bool) {
	id, parent, flags, ok := Parse(traceparent)
	if !ok {
		return nil, false
	}
	s = &Span{}
	_, _ = hex.Decode(s.trace[:], []byte(id)) // Parse has seen to their form
	_, _ = hex.Decode(s.parent[:], []byte(parent))
	s.state, _ = trace.ParseTraceState(strings.Join(tracestate, ",")) // an invalid one is left out (section 3.3.1.1)
	return s, flags&1 == 1
}

// TraceID returns the id of the trace, as logs have it.
func (s *Span) TraceID() string { return s.trace.String() }

// Attempt begins another attempt, and returns the value of Traceparent for its backend.
func (s *Span) Attempt() string {
	id := newSpanID()
	s.tries = append(s.tries, id)
	return "00-" + s.trace.String() + "-" + id.String() + "-01"
}

// Began reports whether the trace began here, so that a Tracestate of the client belongs to
// none.
func (s *Span) Began() bool { return !s.parent.IsValid() }

func newTraceID() (id trace.TraceID) {
	for !id.IsValid() {
		binary.LittleEndian.PutUint64(id[:8], rand.Uint64())
		binary.LittleEndian.PutUint64(id[8:], rand.Uint64())
	}
	return id
}

func newSpanID() (id trace.SpanID) {
	for !id.IsValid() {
		binary.LittleEndian.PutUint64(id[:], rand.Uint64())
	}
	return id
}

// givenIDs gives spans the ids that their requests were sent with.
type givenIDs struct{}

type givenKey struct{}

// given are the ids of the span that is made next.
type given struct {
	trace trace.TraceID
	span  trace.SpanID
}

// NewIDs returns the ids of a root.
func (givenIDs) NewIDs(ctx context.Context) (trace.TraceID, trace.SpanID) {
	g, _ := ctx.Value(givenKey{}).(given)
	return g.trace, g.span
}

// NewSpanID returns the id of another span.
func (givenIDs) NewSpanID(ctx context.Context, _ trace.TraceID) trace.SpanID {
	g, _ := ctx.Value(givenKey{}).(given)
	return g.span
}
