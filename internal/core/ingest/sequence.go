package ingest

import (
	"math/bits"
	"sync/atomic"

	"kestrix/internal/core/result"
	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
)

// Make returns the arrival of a record that no source holds, such as a request that a
// client of a closed load sends, and counts the record. The sequence must be the only one
// of its ingest.
func (l *Sequence) Make(name string, rec *trace.Record) (Arrival, error) {
	var a Arrival
	var w clientRef
	reader := l.pipeline.alone
	reader.who(rec, &w)
	if err := reader.parsers[0].arrival(name, rec, &a, &reader.sender); err != nil {
		return a, err
	}
	l.pipeline.number(&a, &w)
	a.Path = l.pipeline.pathOf(rec)
	l.records++
	return a, nil
}

// Hashed reports whether the key of the arrivals of a route is made of something else than
// the client.
func (l *Sequence) Hashed(route int32) bool { return l.Plan.Routes[route].hash != nil }

// Origin returns the time of the trace's first record, replayed or not, in nanoseconds
// since the epoch.
func (l *Sequence) Origin() int64 { return l.pipeline.origin }

// Paths returns the paths by their numbers, the one without a number first.
func (l *Sequence) Paths() []string {
	out := make([]string, len(l.pipeline.paths)+1)
	for path, n := range l.pipeline.paths {
		out[n] = path
	}
	return out
}

// Clients returns how many different clients the arrivals are of.
func (l *Sequence) Clients() int64 { return l.pipeline.clients().clients }

// SessionsKnown reports whether a record named one.
func (l *Sequence) SessionsKnown() bool { return l.pipeline.clients().sessions }

// Result returns what was read so far.
func (l *Sequence) Result() result.Trace {
	f := l.pipeline
	r := result.Trace{
		Records: l.records, BadLines: f.badLines, Bad: f.bad, Clients: f.clients().addresses,
		Unknown: map[string]int64{}, Unnamed: f.unnamed, Spread: l.o.Spread, Shifted: l.shifted, OutOfOrder: l.late,
	}
	if r.Bad == nil {
		r.Bad = []trace.Bad{}
	}
	if l.started && f.scenario.Load == nil {
		first, last := float64(l.first)/1e9, float64(l.last)/1e9
		r.First, r.Last = &first, &last
	}
	for _, x := range route.Fields {
		if n := l.known[bits.TrailingZeros8(uint8(x.Bit))]; n > 0 {
			r.Unknown[x.Name] = n
		}
	}
	return r
}

// Reader receives the arrivals of a sequence in blocks. A sequence may have several; each
// gets all blocks.
type Reader struct {
	pipeline *Pipeline
	in       chan *shared
	block    *shared // that next returned last
}

// blocksAhead is how many blocks may wait for a reader: some more than it takes to keep it
// busy, so that a replay works on several in a row while its data is in a near cache.
const blocksAhead = 16

// NewReader adds a reader to a sequence. It must be called before the ingest runs.
func (l *Sequence) NewReader() *Reader {
	r := &Reader{pipeline: l.pipeline, in: make(chan *shared, blocksAhead)}
	l.readers = append(l.readers, r)
	return r
}

// Next returns the next block, which may be used until the next call; nil at the end.
func (r *Reader) Next() []Arrival {
	r.drop()
	b, ok := <-r.in
	if !ok {
		return nil
	}
	r.block = b
	return b.block
}

// Close receives and drops what is left, so that nobody waits for this reader.
func (r *Reader) Close() {
	for r.Next() != nil {
	}
}

// Offset returns how many bytes of the sources have been read, as stored.
func (r *Reader) Offset() int64 { return r.pipeline.read.Load() }

// drop returns the last block for reuse once every reader has dropped it.
func (r *Reader) drop() {
	if r.block != nil && r.block.left.Add(-1) == 0 {
		r.pipeline.giveBack(r.block.block)
	}
	r.block = nil
}

// shared is a block that several readers receive.
type shared struct {
	block []Arrival
	left  atomic.Int32 // readers that have not dropped it yet
}

// handOut sends every block of a sequence to each of its readers.
func (l *Sequence) handOut() {
	for b := range l.out {
		for _, r := range l.readers {
			r.in <- b
		}
	}
	for _, r := range l.readers {
		close(r.in)
	}
}
