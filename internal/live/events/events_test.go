package events

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/status"
)

// TestEventsAreKeptForThoseWhoAskLater fills them beyond their number.
func TestEventsAreKeptForThoseWhoAskLater(t *testing.T) {
	k := New(nil)
	assert.Empty(t, k.Find(Query{Most: 10}))
	for i := range Kept + 50 {
		k.Add(status.Event{Object: fmt.Sprint(i + 1)})
	}
	all := k.Find(Query{})
	require.Len(t, all, Kept)
	assert.Equal(t, []uint64{Kept + 50, 51}, []uint64{all[0].N, all[Kept-1].N})
	for _, n := range all {
		assert.Equal(t, fmt.Sprint(n.N), n.Object)
	}
	assert.Len(t, k.Find(Query{After: Kept + 47}), 3)
	assert.Len(t, k.Find(Query{Most: 7}), 7)
	assert.Empty(t, k.Find(Query{After: 1 << 40, Most: 7}))
}

// TestEventsAreFound by time, object, kind and severity, also those of an earlier process.
func TestEventsAreFound(t *testing.T) {
	k := New(nil)
	at := time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)
	k.Restore([]status.Event{{N: 900, At: at, Object: "booking.auk", Kind: "down", Severity: status.SeverityWarning, Text: "earlier"}})
	for i, e := range []status.Event{
		{Object: "booking.auk", Kind: "up"}, {Object: "booking.gannet", Kind: "down"}, {Object: "booking", Kind: status.EventUnavailable}, {Object: "kestrix", Kind: status.EventReloaded}, {Object: "127.0.0.1:8080", Kind: status.EventRefused},
	} {
		e.At = at.Add(time.Duration(i+1) * time.Minute)
		k.Add(e)
	}
	for _, c := range []struct {
		q    Query
		want []uint64
	}{
		{Query{}, []uint64{6, 5, 4, 3, 2, 1}},
		{Query{Most: 2}, []uint64{6, 5}},
		{Query{After: 4}, []uint64{6, 5}},
		{Query{Since: at.Add(3 * time.Minute), Until: at.Add(4 * time.Minute)}, []uint64{5, 4}},
		{Query{Objects: []string{"booking"}}, []uint64{4, 3, 2, 1}},
		{Query{Objects: []string{"auk", "kestrix"}}, []uint64{5, 2, 1}},
		{Query{Objects: []string{"booking.g*"}}, []uint64{3}},
		{Query{Kinds: []status.EventKind{"down"}}, []uint64{3, 1}},
		{Query{Severity: status.SeverityError}, []uint64{6, 4}},
		{Query{Severity: status.SeverityWarning, Most: 3}, []uint64{6, 4, 3}},
	} {
		got := []uint64{}
		for _, e := range k.Find(c.q) {
			got = append(got, e.N)
		}
		assert.Equal(t, c.want, got, "%+v", c.q)
	}
}
