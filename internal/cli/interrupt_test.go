package cli

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCtrlCEndsWhatWaitsForAPipe interrupts commands whose input does not go on,
// before anything has come and after.
func TestCtrlCEndsWhatWaitsForAPipe(t *testing.T) {
	file := filepath.Join(t.TempDir(), "t.hcl")
	require.NoError(t, os.WriteFile(file, []byte("frontend \"f\" {\n listen = \"127.0.0.1:1\"\n route \"r\" {\n send_to = upstream.u\n }\n}\nupstream \"u\" {\n backends = { a = \"127.0.0.1:2\" }\n}\n"), 0o600))
	for _, args := range [][]string{{"replay", file, "-"}, {"trace", "describe", "-"}} {
		for _, text := range []string{"", "time,client\n2026-11-23T06:30:00Z,a\n", "a - - [23/Nov/2026:06:55:08 +0000] \"GET / HTTP/1.1\" 200 1\nb - - [23/Nov/2026:06:55:08 +0000] \"GET / HTTP/1.1\" 200 1\n"} {
			ctx, interrupt := context.WithCancel(context.Background())
			in, feed := io.Pipe()
			go func() {
				_, _ = io.WriteString(feed, text) // comes back when it has been read
				interrupt()
			}()
			var out, errs bytes.Buffer
			code := Main(ctx, &Env{Stdin: in, Stdout: &out, Stderr: &errs, Getenv: func(string) string { return "" }}, args)
			assert.Equal(t, interrupted, code, "%s after %q: %s", args, text, &errs)
			assert.Contains(t, out.String()+errs.String(), "stopped early", "%s after %q", args, text)
			assert.Contains(t, out.String()+errs.String(), "partial", "%s after %q", args, text)
			feed.Close()
		}
	}
}
