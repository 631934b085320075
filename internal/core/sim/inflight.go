package sim

import (
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/upstream"
)

// inFlight is a request in flight. It takes three cache lines; the first has the fields that
// the end of an answered request uses.
type inFlight struct {
	gen      uint32 // goes up with each attempt, so that what was meant for an earlier one is void
	session  uint32
	view     int32 // position in engine.views
	server   int32 // of a place that is free, the next such
	route    int32 // position in engine.refs
	who      int32 // the client of a closed load, from 0
	page     int32 // of which it is a part, see pages; 0 for none
	recorded int16 // the failure that the trace records; 0 for none
	phase    int16 // position in engine.phases, by its arrival
	sent     bool  // the backend has it
	open     bool
	stream   bool
	flows    bool             // a stream that has begun
	overdue  bool             // a stream that would have ended, had its backend not gone silent
	struck   bool             // met is not 0
	lost     bool             // it failed, or its client left
	held     bool             // see ingest.Arrival
	kept     bool             // its connection had served a request before
	paths    scenario.PathSet // see ingest.Arrival
	arrived  tick.Time
	a        upstream.Attempt
	q        upstream.Request
	born     tick.Time // when its connection was made
	deadline tick.Time // of its answer; of a stream that has begun, when it did
	duration int64     // from the trace
	under    uint64    // faults its backend was under when it was begun
	met      uint64    // faults on which an attempt failed
}

// places are the requests in flight. A place is used again when its request has ended.
type places struct {
	requests []inFlight
	free     int32 // the first place of the list of free ones, -1 for none
	open     int64 // places in use
}

// take returns a free place.
func (p *places) take() int32 {
	if p.free < 0 {
		p.requests = append(p.requests, inFlight{})
		return int32(len(p.requests) - 1)
	}
	i := p.free
	p.free = p.requests[i].server
	return i
}

// giveBack frees a place.
func (p *places) giveBack(i int32) {
	r := &p.requests[i]
	r.open = false
	r.gen++
	r.server = p.free
	p.free = i
	p.open--
}
