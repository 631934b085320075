package study

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPartsOfPagesMoveAsWell puts the parts of pages through both configurations, of a closed load
// as of an open one.
func TestPartsOfPagesMoveAsWell(t *testing.T) {
	for _, load := range []string{"requests = 40\n concurrency = 4", "rate = \"40/s\"\n for = \"1s\"\n arrivals = \"even\""} {
		s := subject(t, "a.hcl", three, fmt.Sprintf("load {\n %s\n page \"/\" {\n fetches = [\"/a\", \"/b\"]\n }\n}\n", load))
		m, err := NewMover(s.Config, s.Config, "", "")
		require.NoError(t, err)
		require.NoError(t, m.AddLoad(context.Background(), s.Scenario.Load, 1))
		assert.EqualValues(t, 120, m.Moves().Requests, load)
	}
}
