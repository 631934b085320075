package trace

import (
	"bytes"
	"cmp"
	"fmt"
	"kestrix/internal/core/units"
	"slices"
	"time"
)

// Clone returns a record that stays as it is when the reader goes on.
func (r *Record) Clone() *Record {
	c := *r
	for _, b := range []*[]byte{&c.Client, &c.Method, &c.Host, &c.Path, &c.Session, &c.UserAgent, &c.Referer, &c.Frontend, &c.Upstream, &c.Backend} {
		*b = bytes.Clone(*b)
	}
	for _, kv := range []*[]KV{&c.Headers, &c.Cookies} {
		*kv = slices.Clone(*kv)
		for i := range *kv {
			(*kv)[i] = KV{bytes.Clone((*kv)[i].Name), bytes.Clone((*kv)[i].Value)}
		}
	}
	return &c
}

// Ordered puts records in the order of their times and spreads stamps of whole
// seconds over their second, as a replay does, for those who send them one by one.
type Ordered struct {
	Window  time.Duration // within which records may be out of order
	Spread  bool          // stamps of whole seconds are spread evenly
	waiting []*Record     // in order
	newest  int64
	begun   bool
}

// Add takes a copy of a record and returns those that none can come before any
// more. The error is a *LineError: the record has no time, or is older than
// another by more than the window.
func (o *Ordered) Add(r *Record) ([]*Record, error) {
	if r.Time == NoTime {
		return nil, &LineError{Line: r.Line, Column: 1, Why: "the record has no time, at which it could be sent", CannotBeSkip: true}
	}
	if !o.begun {
		o.begun, o.newest = true, r.Time
	}
	if late := o.newest - r.Time; late > int64(o.Window) {
		return nil, &LineError{
			Line: r.Line, Column: 1, CannotBeSkip: true,
			Why: fmt.Sprintf("the time %s is %s before an earlier record; records are sorted within %s; a larger -window sorts more, or sort the trace first",
				time.Unix(0, r.Time).UTC().Format("2006-01-02 15:04:05"), units.Duration(time.Duration(late)), units.Duration(o.Window)),
		}
	}
	o.newest = max(o.newest, r.Time)
	i := len(o.waiting)
	for i > 0 && o.waiting[i-1].Time > r.Time {
		i--
	}
	o.waiting = slices.Insert(o.waiting, i, r.Clone())
	return o.release((o.newest - int64(o.Window)) / int64(time.Second) * int64(time.Second)), nil
}

// Rest returns what waits, at the end.
func (o *Ordered) Rest() []*Record { return o.release(1<<63 - 1) }

// release takes out what lies before a moment.
func (o *Ordered) release(before int64) []*Record {
	n := 0
	for n < len(o.waiting) && o.waiting[n].Time < before {
		n++
	}
	out := slices.Clone(o.waiting[:n])
	o.waiting = slices.Delete(o.waiting, 0, n)
	if !o.Spread {
		return out
	}
	for i := 0; i < len(out); {
		end := i + 1
		if out[i].WholeSecond {
			for end < len(out) && out[end].WholeSecond && out[end].Time == out[i].Time {
				end++
			}
			at, n := out[i].Time, int64(end-i)
			for k := range n {
				out[i+int(k)].Time = at + k*int64(time.Second)/n
			}
		}
		i = end
	}
	// Stamps with a fraction may lie between them.
	slices.SortStableFunc(out, func(a, b *Record) int { return cmp.Compare(a.Time, b.Time) })
	return out
}
