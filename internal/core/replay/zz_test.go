package replay

import (
	"context"
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
)

func BenchmarkZZ(b *testing.B) {
	src, err := os.ReadFile("/tmp/e2e/ten-rr.hcl")
	require.NoError(b, err)
	c, _, err := config.Read([]config.File{{Name: "pool.hcl", Source: src}})
	require.NoError(b, err)
	for b.Loop() {
		_, err := Run(context.Background(), c, scenario.None(), []Source{{Name: "b", Open: func() (io.ReadCloser, error) { return os.Open("/tmp/e2e/big.log") }}}, Options{})
		require.NoError(b, err)
	}
}
