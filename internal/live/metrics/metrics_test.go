package metrics

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestThePageOfMetricsIsFresh holds docs/metrics.md to what is told.
func TestThePageOfMetricsIsFresh(t *testing.T) {
	page, err := os.ReadFile("../../../docs/metrics.md")
	require.NoError(t, err)
	told := make(chan *prometheus.Desc, 100)
	(&collector{}).Describe(told)
	close(told)
	n := 0
	for d := range told {
		name := regexp.MustCompile(`kestrix_\w+`).FindString(d.String())
		assert.Contains(t, string(page), "| `"+name+"` |")
		n++
	}
	assert.Equal(t, n, strings.Count(string(page), "| `kestrix_"))
}
