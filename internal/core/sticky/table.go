// Package sticky remembers which backend a client has: in a bounded table for clients
// that are known by their address or a header field, and in a sealed cookie for those
// that carry it themselves.
//
// The decision core and the proxy use it. It must never decide what happens when the
// backend is unavailable.
package sticky

import (
	"time"

	"kestrix/internal/core/tick"
)

// TableSize is how many clients a table by address remembers; beyond it the
// one that stayed away longest is forgotten.
const TableSize = 65536

// Table remembers the seat of clients by a hash of their address.
type Table struct {
	index map[uint64]int32
	rows  []row
	first int32 // most recently seen, -1 when empty
	last  int32
	most  int
}

type row struct {
	key        uint64
	seat       int32
	prev, next int32
	seen       tick.Time
}

// NewTable returns a table for at most that many clients.
func NewTable(most int) *Table {
	return &Table{index: map[uint64]int32{}, first: -1, last: -1, most: most}
}

// Get returns the seat of a client that was seen within ttl, -1 if it has none,
// and notes that it was seen.
func (t *Table) Get(now tick.Time, key uint64, ttl time.Duration) int32 {
	i, ok := t.index[key]
	if !ok {
		return -1
	}
	r := &t.rows[i]
	if now.Sub(r.seen) > ttl {
		return -1
	}
	r.seen = now
	t.toFront(i)
	return r.seat
}

// Put gives a client a seat.
func (t *Table) Put(now tick.Time, key uint64, seat int32) {
	i, ok := t.index[key]
	if !ok {
		if len(t.rows) < t.most {
			i = int32(len(t.rows))
			t.rows = append(t.rows, row{prev: -1, next: -1})
			t.link(i)
		} else {
			i = t.last
			delete(t.index, t.rows[i].key)
		}
		t.index[key] = i
	}
	r := &t.rows[i]
	r.key, r.seat, r.seen = key, seat, now
	t.toFront(i)
}

// Replace moves every client of one seat to another number, or forgets it for
// -1; a reload renumbers.
func (t *Table) Replace(old, now int32) {
	for i := range t.rows {
		if t.rows[i].seat == old {
			t.rows[i].seat = now
		}
	}
}

// Len returns how many clients are remembered.
func (t *Table) Len() int { return len(t.index) }

func (t *Table) toFront(i int32) {
	if t.first == i {
		return
	}
	r := &t.rows[i]
	if r.prev >= 0 {
		t.rows[r.prev].next = r.next
	}
	if r.next >= 0 {
		t.rows[r.next].prev = r.prev
	}
	if t.last == i && r.prev >= 0 {
		t.last = r.prev
	}
	t.link(i)
}

func (t *Table) link(i int32) {
	r := &t.rows[i]
	r.prev, r.next = -1, t.first
	if t.first >= 0 {
		t.rows[t.first].prev = i
	}
	t.first = i
	if t.last < 0 {
		t.last = i
	}
}
