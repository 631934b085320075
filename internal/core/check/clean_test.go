package check

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// secrets is what the environment of the clean configurations holds.
func secrets(name string) (string, bool) {
	v, ok := map[string]string{"SEAT_SECRET": "pQ7v-2mLx9-dT4kRw8z", "TALK_SECRET": "Hn3c-8sJb5-yV6fGq1e"}[name]
	return v, ok
}

// clean returns the configurations of testdata/clean, which are as they should be, by name.
func clean(t *testing.T) map[string]string {
	names, err := filepath.Glob("testdata/clean/*.hcl")
	require.NoError(t, err)
	require.Len(t, names, 12)
	out := map[string]string{}
	for _, name := range names {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		out[filepath.Base(name)] = string(text)
	}
	return out
}

// TestNothingIsFoundInCleanConfigurations, of twelve kinds of sites.
func TestNothingIsFoundInCleanConfigurations(t *testing.T) {
	for name, text := range clean(t) {
		c, found, err := config.ReadIn([]config.File{{Name: name, Source: []byte(text)}}, config.World{Env: secrets})
		require.NoError(t, err)
		for _, f := range Run(c, found, nil) {
			assert.Fail(t, f.Message, "%s:%d %s %s", name, f.Range.Start.Line, f.ID, f.Witness)
		}
	}
}
