package sim

import (
	"time"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// closedLoad is clients that each wait for their answer before they ask again.
type closedLoad struct {
	cfg   *scenario.Load
	gen   *trace.Generator
	asked int
	rec   trace.Record
}

func newClosedLoad(l *scenario.Load, seed uint64) *closedLoad {
	spec := l.Spec
	spec.Seed = seed
	return &closedLoad{cfg: l, gen: trace.NewGenerator(spec)}
}

// remains reports whether requests are still to come; nil has none.
func (c *closedLoad) remains() bool { return c != nil && c.asked < c.cfg.Requests }

// RunClosed simulates the scenario's closed load from its first request to the last answer.
func (e *Engine) RunClosed() {
	e.Begin(0)
	for i := range min(e.closed.cfg.Concurrency, e.closed.cfg.Requests) {
		e.queue.Push(0, event{kind: nextAsked, req: int32(i)})
	}
	e.Drain()
}

// leastPause is how long it takes a client to hear of what the proxy answered
// by itself, at no time of the model.
const leastPause = time.Millisecond

// askedAgain has a client of a closed load, if it is one, ask again when it has
// thought, but no earlier than after a pause.
func (e *Engine) askedAgain(who int32, pause time.Duration) {
	if who >= 0 && e.closed.remains() {
		think := e.span(&e.closed.cfg.Think, rng.Bits(e.o.Seed, uint64(e.closed.asked), uint64(who)+1, rng.Think))
		e.queue.Push(e.now.Add(max(think, pause)), event{kind: nextAsked, req: who})
	}
}

// askNext has a client ask.
func (e *Engine) askNext(who int32) {
	c := e.closed
	if !c.remains() {
		return
	}
	c.asked++
	c.gen.Ask(&c.rec, int(who))
	page := c.rec.Page
	a, ok := e.made()
	if !ok {
		return
	}
	if page != nil {
		p := e.pages.at(a.Page)
		for k := range page.Fetches {
			c.gen.Fetch(&c.rec, k)
			if part, ok := e.made(); ok {
				part.Client = who
				p.parts = append(p.parts, part)
			}
		}
	}
	if len(e.sample) < e.o.Sample {
		first := a
		first.Client, first.Page = -1, 0 // without the parts of its page
		e.sample = append(e.sample, first)
	}
	a.Client = who
	e.lastAt = e.now
	e.ask(&a)
}

// made turns the record that was made into an arrival of this moment; false where it cannot,
// which the scenario was checked for.
func (e *Engine) made() (ingest.Arrival, bool) {
	e.closed.rec.Duration = -1
	a, err := e.sequence.Make("load", &e.closed.rec)
	a.At = int64(e.now)
	if a.Page > 0 {
		a.Page = e.openPage(e.pages.of[a.Page-1])
	}
	return a, err == nil
}

// Sampled returns the first arrivals of a closed load, as many as the options ask for.
func (e *Engine) Sampled() []ingest.Arrival { return e.sample }
