package cause

import (
	"encoding/json"
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEveryCauseIsDescribed walks the table: a cause without a word, a meaning, or a
// place of its own would be printed as nothing, or as another.
func TestEveryCauseIsDescribed(t *testing.T) {
	require.Len(t, All, int(causes)-1)
	for i, d := range All {
		assert.EqualValues(t, i+1, d.Cause, "%s stands where its number is", d.Word)
		assert.Regexp(t, regexp.MustCompile(`^(grpc:)?[a-z][a-z0-9_]*$`), d.Word)
		assert.NotEmpty(t, d.Doc, "%s: Doc", d.Word)
		if d.Cause.ofRPC() {
			assert.Equal(t, d.Word, d.On)
			assert.Equal(t, d.Cause, OfRPC(slices.Index(RPCStatuses[:], d.Word[len(RPCPrefix):])), d.Word)
		} else {
			assert.Contains(t, []string{"", "connect", "timeout", "reset"}, d.On, "%s: On", d.Word)
		}
		got, ok := Parse(d.Word)
		assert.True(t, ok)
		assert.Equal(t, d.Cause, got, "%s is a word of one cause", d.Word)
	}
	_, ok := Parse("no-route")
	assert.False(t, ok)
	assert.Equal(t, []string{"", "", ""}, []string{None.String(), None.Doc(), causes.String()})
}

func TestCountsAsJSON(t *testing.T) {
	var n Counts
	n[Refused], n[NoRoute] = 3, 1
	text, err := json.Marshal(&n)
	require.NoError(t, err)
	assert.Regexp(t, `^\{"refused":3,"unreachable":0,.*"no_route":1,.*"closing":0,"backend_out":0\}$`, string(text))
	assert.NotContains(t, string(text), "client_left")
	var back Counts
	require.NoError(t, json.Unmarshal(text, &back))
	assert.Equal(t, n, back)
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"eaten":1}`), &back), `"eaten" is not a cause`)
	assert.Error(t, json.Unmarshal([]byte(`[]`), &back))
}
