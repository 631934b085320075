package events

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/status"
)

// TestEventsAreKeptForThoseWhoAskLater fills them beyond their number.
func TestEventsAreKeptForThoseWhoAskLater(t *testing.T) {
	k := New(nil)
	assert.Empty(t, k.Last(0, 10))
	for i := range Kept + 50 {
		k.Add(status.Event{Object: fmt.Sprint(i + 1)})
	}
	all := k.Last(0, 1000)
	require.Len(t, all, Kept)
	assert.Equal(t, []uint64{Kept + 50, 51}, []uint64{all[0].N, all[Kept-1].N})
	for _, n := range all {
		assert.Equal(t, fmt.Sprint(n.N), n.Object)
	}
	assert.Len(t, k.Last(Kept+47, 1000), 3)
	assert.Len(t, k.Last(0, 7), 7)
	assert.Empty(t, k.Last(1<<40, 7))
}
