package trace

import (
	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/rng"
)

// Change is what becomes of the records of a trace when it is converted.
type Change struct {
	Part      Span
	Sample    float64 // share of clients whose requests are kept, 0..1
	Speed     float64 // gaps between requests are divided by it
	Anonymise *Anonymiser

	started bool
	first   int64 // the time of the first record
}

// Apply changes a record; false says that it is left out. Sampling is by
// client, which is its session where one is known, so that sessions stay whole.
// The error says that a record has no time although one is needed.
func (c *Change) Apply(r *Record) (bool, error) {
	if r.Time == NoTime && (c.Part != (Span{}) || c.Speed != 1) {
		return false, &LineError{Line: r.Line, Column: 1, Why: "the record has no time, by which it could be kept or moved", CannotBeSkip: true}
	}
	if r.Time != NoTime {
		if !c.started {
			c.started, c.first = true, r.Time
		}
		if !c.Part.Contains(r.Time, c.first) {
			return false, nil
		}
	}
	if c.Sample < 1 && rng.Unit(rng.Bits(0, r.identity(), 0, rng.Who)) >= c.Sample {
		return false, nil
	}
	if c.Speed != 1 {
		r.Time = c.first + int64(float64(r.Time-c.first)/c.Speed)
	}
	if c.Anonymise != nil {
		c.Anonymise.Apply(r)
	}
	return true, nil
}

// identity is the number of the client a record is of: its session, else its
// address and user agent.
func (r *Record) identity() uint64 {
	if r.Session != nil {
		return xxhash.Sum64(r.Session) ^ 0x9e3779b97f4a7c15
	}
	id := ClientKey(text(r.Client))
	if r.UserAgent != nil {
		id ^= xxhash.Sum64(r.UserAgent) * 0xd1342543de82ef95
	}
	return id
}
