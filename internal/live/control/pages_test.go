package control

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFollowersMakeRoom: those who have left take no place away.
func TestFollowersMakeRoom(t *testing.T) {
	var f followers
	for i := range 1000 {
		require.True(t, f.add(uint64(i%3)))
		f.done(uint64(i % 3))
	}
	assert.Empty(t, f.from)
	for range followFrom {
		require.True(t, f.add(1))
	}
	assert.False(t, f.add(1), "one source has so many")
	for range followMost - followFrom {
		require.True(t, f.add(2))
	}
	assert.False(t, f.add(3), "and all together")
	f.done(1)
	assert.True(t, f.add(3))
}
