package tracing

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestTraceIDs are those of valid fields alone: the examples of W3C Trace Context, and fields
// that break one of its rules.
func TestTraceIDs(t *testing.T) {
	const id = "4bf92f3577b34da6a3ce929d0e0e4736"
	good := "00-" + id + "-00f067aa0ba902b7-01"
	for field, want := range map[string]string{
		good: id, "cc-" + id + "-00f067aa0ba902b7-01": id, "cc-" + id + "-00f067aa0ba902b7-01-what-the-future-brings": id,
		"": "", "00": "", good + "-x": "", good + "x": "", "cc" + good[2:] + ".x": "", "ff" + good[2:]: "", "00-4BF92F3577B34DA6A3CE929D0E0E4736-00f067aa0ba902b7-01": "",
		"00-00000000000000000000000000000000-00f067aa0ba902b7-01": "", "00-" + id + "-0000000000000000-01": "", "00-" + id + "-00f067aa0ba902b7-0x": "", "00_" + id + "-00f067aa0ba902b7-01": "",
		"00-" + id + "_00f067aa0ba902b7-01": "", "00-" + id + "-00f067aa0ba902b7_01": "", "00-" + id[1:] + "\"-00f067aa0ba902b7-01": "",
	} {
		assert.Equal(t, want, TraceID([]string{field}), field)
	}
	assert.Empty(t, TraceID(nil))
	assert.Empty(t, TraceID([]string{good, good}), "which of them counts is not said")
}
