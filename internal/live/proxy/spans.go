package proxy

import (
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/core/units"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/socket"
	"kestrix/internal/live/tracing"
)

// flushSpans is how long a proxy that stops waits for a collector to take the last spans.
const flushSpans = 2 * time.Second

// newTracer returns the tracer that a configuration wants: the one there is if it does the same.
func (p *Proxy) newTracer(c *config.Config) (*tracing.Tracer, error) {
	if now := p.tracer.Load(); now.Same(c.Tracing, p.name(c)) {
		return now, nil
	}
	if c.Tracing == nil {
		return nil, nil
	}
	t, err := tracing.New(tracing.Options{Config: c.Tracing, Proxy: p.name(c), Version: p.o.Version, Tell: func(lost uint64, err error) {
		if err != nil {
			p.events.Addf("kestrix", status.EventTracing, "spans are lost: %v", socket.ShortError(err))
			return
		}
		p.events.Addf("kestrix", status.EventTracing, "the collector takes spans again; %s lost", plural(lost, "span"))
	}})
	if err != nil {
		return nil, placed(c.Tracing.Endpoint.Range, err)
	}
	return t, nil
}

// useTracer goes over to a tracer. The one before sends what it has. p.mu must be held.
func (p *Proxy) useTracer(t *tracing.Tracer) {
	before := p.tracer.Swap(t)
	if before == nil || before == t {
		return
	}
	lost := before.Lost()
	p.lostSpans.Add(lost) // at once, as a count never falls
	p.retired.Go(func() {
		before.Close(flushSpans)
		p.lostSpans.Add(before.Lost() - lost)
	})
}

// traced begins the span of a request, if it is to have one.
func (x *exchange) traced() {
	t := x.proxy.tracer.Load()
	if t == nil {
		return
	}
	if x.span = t.Begin(x.r.Header["Traceparent"], x.r.Header["Tracestate"], x.trusted); x.span != nil {
		x.tracer, x.access.TraceID = t, x.span.TraceID()
	}
}

// carryTrace has the backend continue the trace of the request, below the attempt.
func (x *exchange) carryTrace(h map[string][]string) {
	if x.span == nil {
		return
	}
	h["Traceparent"] = []string{x.span.Attempt()}
	if x.span.Began() {
		delete(h, "Tracestate") // of a trace that could not be continued
	}
}

// over ends a request: it is counted, logged, kept and traced. What is masked does not leave
// the proxy.
func (x *exchange) over() {
	x.proxy.over(&x.access)
	x.tracer.End(x.span, &x.access)
}

// over counts a request that has ended, passes it to the access log, and keeps it.
func (p *Proxy) over(a *accesslog.Line) {
	if s := p.state.Load(); s != nil {
		if masked := s.config.Identity.Masked; masked != nil {
			a.Path, a.Referer = accesslog.Mask(a.Path, masked), accesslog.Mask(a.Referer, masked)
		}
	}
	p.requests.note(a)
	p.kept.note(a)
	p.o.Access(a)
}

func plural(n uint64, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return units.Count(int64(n)) + " " + one + "s"
}
