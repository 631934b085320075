package units

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestNumbersAndDurations(t *testing.T) {
	for want, got := range map[string]string{
		"0": Count(0), "999": Count(999), "1,000": Count(1000), "-1,234,567": Count(-1234567),
		"1.50": Three(1.5), "12.3": Three(12.34), "123": Three(123.4), "0.00123": Three(0.001234), "1,235": Three(1234.6),
		"0 s": Span(0), "12.0 µs": Span(12e-6), "250 ms": Span(0.25), "1.50 s": Span(1.5), "59.9 s": Span(59.9), "1m": Span(60), "2m30s": Span(150), "3m02s": Span(181.6),
		"1h": Span(3600), "1h02m": Span(3725), "26h": Span(26 * 3600), "0 µs": Span(1e-8),
		"2 s": Duration(2 * time.Second), "1.5 s": Duration(1500 * time.Millisecond), "20 ms": Duration(20 * time.Millisecond), "3.25 ms": Duration(3250 * time.Microsecond),
		"10m": Duration(10 * time.Minute), "1m01s": Duration(61 * time.Second), "7 µs": Duration(7 * time.Microsecond), "1.235 s": Duration(1234567890),
	} {
		assert.Equal(t, want, got)
	}
	assert.Equal(t, "0 s", Duration(0))
	assert.Equal(t, "1m", Span(59.96), "it never reads 60 s")
}
