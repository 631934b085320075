package pool

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// TestEveryKindOfProbeIsSent: a kind without a sender would be none.
func TestEveryKindOfProbeIsSent(t *testing.T) {
	assert.Len(t, probeSenders, len(config.ProbeKinds))
	for _, k := range config.ProbeKinds {
		assert.NotNil(t, probeSenders[k.Name], "no sender for probe %q", k.Name)
		assert.NotEmpty(t, k.Doc, "%s: Doc", k.Name)
		require.NotNil(t, k.Asks, "%s: Asks", k.Name)
		require.NotNil(t, k.What, "%s: What", k.Name)
		assert.NotEmpty(t, k.What(&config.Probe{}), "%s: What", k.Name)
	}
}

// TestWhatAHealthCheckSays reads frames of gRPC and the message in them.
func TestWhatAHealthCheckSays(t *testing.T) {
	for frame, want := range map[string]string{
		"":                                     "the answer is not one gRPC message",
		"\x00\x00\x00\x00":                     "the answer is not one gRPC message",
		"\x00\x00\x00\x00\x00":                 "it is UNKNOWN",
		"\x00\x00\x00\x00\x02\x08\x01":         "",
		"\x01\x00\x00\x00\x02\x08\x01":         "the answer is not one gRPC message",
		"\x00\x00\x00\x00\x03\x08\x01":         "the answer is not one gRPC message",
		"\x00\x00\x00\x00\x02\x08\x02":         "it is NOT_SERVING",
		"\x00\x00\x00\x00\x02\x08\x03":         "it is SERVICE_UNKNOWN",
		"\x00\x00\x00\x00\x02\x08\x04":         "it is 4",
		"\x00\x00\x00\x00\x01\x08":             "",
		"\x00\x00\x00\x00\x04\x08\x01\x08\x02": "it is NOT_SERVING",
	} {
		got := servingStatus([]byte(frame))
		if frame == "\x00\x00\x00\x00\x01\x08" {
			assert.NotEmpty(t, got, "a cut message does not pass")
			continue
		}
		if strings.HasPrefix(want, "it is 4") {
			assert.Contains(t, got, "4")
			continue
		}
		assert.Equal(t, want, got, "%q", frame)
	}
}

// FuzzServingStatus: whatever a backend sends, one thing passes.
func FuzzServingStatus(f *testing.F) {
	f.Add([]byte{0, 0, 0, 0, 2, 8, 1})
	f.Add([]byte{0, 0, 0, 0, 5, 18, 1, 'x', 8, 2})
	f.Fuzz(func(t *testing.T, frame []byte) {
		if servingStatus(frame) == "" && !bytes.Contains(frame, []byte{8}) && !bytes.Contains(frame, []byte{0x88}) {
			t.Fatalf("%x passes without a status", frame)
		}
	})
}
