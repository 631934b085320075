package trace

import (
	"fmt"
	"time"
)

// Span is a part of a trace: from a moment up to, and without, another. The
// zero value is all of it.
type Span struct{ From, Until Moment }

// Moment is a point of a trace, as wall time or counted from its first record.
type Moment struct {
	set    bool
	offset bool
	ns     int64
}

// ParseMoment reads "5m", counted from the first record, or an RFC 3339 time.
func ParseMoment(s string) (Moment, error) {
	if s == "" {
		return Moment{}, nil
	}
	if d, err := time.ParseDuration(s); err == nil {
		if d < 0 {
			return Moment{}, fmt.Errorf("%q is before the first record", s)
		}
		return Moment{true, true, int64(d)}, nil
	}
	var r Record
	if why := stampRFC3339([]byte(s), &r); why != "" {
		return Moment{}, fmt.Errorf("%q is neither a time from the first record, like 5m, nor one like 2026-11-23T06:55:08Z", s)
	}
	return Moment{true, false, r.Time}, nil
}

// Set reports whether the moment was given.
func (m Moment) Set() bool { return m.set }

// Wall reports whether the moment was given as wall time.
func (m Moment) Wall() bool { return m.set && !m.offset }

// In returns the moment in nanoseconds since the epoch for a trace whose first
// record has that time, or otherwise where it was not given.
func (m Moment) In(first, otherwise int64) int64 {
	switch {
	case !m.set:
		return otherwise
	case m.offset:
		return first + m.ns
	}
	return m.ns
}

// Contains reports whether a record of that time is inside, for a trace whose first
// record has the other.
func (s *Span) Contains(at, first int64) bool {
	return at >= s.From.In(first, NoTime) && at < s.Until.In(first, 1<<63-1)
}

// Check returns why no record can be inside, as far as that is known without one.
func (s *Span) Check() error {
	if s.From.set && s.Until.set && s.From.offset == s.Until.offset && s.From.ns >= s.Until.ns {
		return fmt.Errorf("the part ends before it begins")
	}
	return nil
}

// Around returns the part that lies between two times, counted from the beginning of
// another part.
func Around(of Span, from, until time.Duration) Span {
	at := func(d time.Duration) Moment {
		m := of.From
		if !m.set {
			m.set, m.offset = true, true
		}
		m.ns += int64(d)
		return m
	}
	return Span{at(from), at(until)}
}
