package trace

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAPartOfAPart: what lies around a moment counts from where the part begins.
func TestAPartOfAPart(t *testing.T) {
	first := int64(1_790_000_000e9)
	moment := func(s string) Moment {
		m, err := ParseMoment(s)
		require.NoError(t, err)
		return m
	}
	wall := time.Unix(0, first).Add(time.Hour).UTC().Format(time.RFC3339)
	for name, c := range map[string]struct {
		of          Span
		from, until time.Duration // of what comes out, from the first record on
	}{
		"all of it":        {Span{}, 10 * time.Second, 40 * time.Second},
		"from ten minutes": {Span{From: moment("10m")}, 610 * time.Second, 640 * time.Second},
		"from a wall time": {Span{From: moment(wall)}, 3610 * time.Second, 3640 * time.Second},
		"up to somewhere":  {Span{Until: moment("5m")}, 10 * time.Second, 40 * time.Second},
	} {
		part := Around(c.of, 10*time.Second, 40*time.Second)
		assert.Equal(t, first+int64(c.from), part.From.In(first, 0), name)
		assert.Equal(t, first+int64(c.until), part.Until.In(first, 0), name)
		assert.True(t, part.Contains(first+int64(c.from), first), name)
		assert.False(t, part.Contains(first+int64(c.until), first), "%s: without its end", name)
		require.NoError(t, part.Check())
	}
}
