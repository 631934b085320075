package sim

import (
	"time"

	"kestrix/internal/core/ingest"
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
		e.queue.Push(e.now.Add(max(e.closed.cfg.Think, pause)), event{kind: nextAsked, req: who})
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
	c.rec.Duration = -1
	a, err := e.sequence.Make("load", &c.rec)
	if err != nil {
		return // the scenario was checked against the configuration before
	}
	a.At = int64(e.now)
	if len(e.sample) < e.o.Sample {
		a.Client = -1
		e.sample = append(e.sample, a)
	}
	a.Client = who
	e.lastAt = e.now
	e.ask(&a)
}

// Sampled returns the first arrivals of a closed load, as many as the options ask for.
func (e *Engine) Sampled() []ingest.Arrival { return e.sample }
