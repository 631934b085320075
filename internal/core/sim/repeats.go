package sim

import (
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/result"
	"kestrix/internal/core/rng"
)

// remember keeps the arrival of a request in flight, in case its client repeats it.
func (e *Engine) remember(place int32, a *ingest.Arrival) {
	for int(place) >= len(e.asked) {
		e.asked = append(e.asked, ingest.Arrival{})
	}
	e.asked[place] = *a
}

// repeats has a client ask again later for what failed or what it left, and reports whether it
// does. It is the same client, with the same cookies, at the same proxy; the request is a new
// one, with work of its own.
func (e *Engine) repeats(a *ingest.Arrival) bool {
	if int(a.Repeats) >= e.scenario.Again {
		return false
	}
	again := *a
	again.Repeats++
	e.repeated++
	after := e.span(&e.scenario.After, rng.Bits(e.o.Seed, uint64(e.repeated), 0, rng.After))
	e.queue.Push(e.now.Add(after), event{kind: asksAgain, req: e.keep(&again)})
	return true
}

// assumedRepeats says that clients do not ask again where requests failed or were left, and
// nothing says that they do.
func (e *Engine) assumedRepeats() *result.Assumption {
	if e.scenario.Again > 0 || e.res.Failed+e.res.ClientLeft == 0 {
		return nil
	}
	return &result.Assumption{What: result.Repeats, Value: "clients repeat no request", Because: "no scenario has them ask again", Instead: "clients { again = ... }"}
}
