package metrics

import (
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"kestrix/internal/core/status"
	"kestrix/internal/live/measure"
)

// empty is a proxy of which nothing is known.
type empty struct{}

func (empty) Status() status.Status                        { return status.Status{} }
func (empty) BackendHistograms() bool                      { return true }
func (empty) RouteTimes() []measure.RouteTimes             { return nil }
func (empty) FirstBytes(string) map[string]measure.Buckets { return nil }

// TestFamiliesHaveNamesOfTheirOwn in OpenMetrics, where a counter is called without _total:
// strict parsers refuse a scrape in which a name comes twice.
func TestFamiliesHaveNamesOfTheirOwn(t *testing.T) {
	r := httptest.NewRequest("GET", "/metrics", nil)
	r.Header.Set("Accept", "application/openmetrics-text; version=1.0.0")
	w := httptest.NewRecorder()
	Handler(empty{}).ServeHTTP(w, r)
	seen := map[string]bool{}
	for line := range strings.SplitSeq(w.Body.String(), "\n") {
		if name, ok := strings.CutPrefix(line, "# TYPE "); ok {
			name, _, _ = strings.Cut(name, " ")
			assert.False(t, seen[name], name)
			seen[name] = true
		}
	}
	assert.True(t, seen["kestrix_info"] && seen["process_open_fds"] && seen["go_gc_heap_live_bytes"], "%v", seen)
	assert.True(t, strings.HasSuffix(w.Body.String(), "# EOF\n"))
}
