package cli

import (
	"context"
	"flag"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/trace"
)

// TestWhichRecordsAreTakenAndWhen types each flag of it, and looks at the times that
// come out, counted from the first record's.
func TestWhichRecordsAreTakenAndWhen(t *testing.T) {
	file := filepath.Join(t.TempDir(), "t.jsonl")
	require.NoError(t, os.WriteFile(file, []byte(`{"time":"2026-11-23T06:30:00Z","client":"a","duration":0}
{"time":"2026-11-23T06:30:00Z","client":"b","duration":0}
{"time":"2026-11-23T06:30:05.1Z","client":"c","duration":2}
{"time":"2026-11-23T06:30:04.9Z","client":"d","duration":0.1}
`), 0o600))
	start := time.Date(2026, 11, 23, 6, 30, 0, 0, time.UTC)
	ms := func(n ...int) (out []time.Duration) {
		for _, x := range n {
			out = append(out, time.Duration(x)*time.Millisecond)
		}
		return out
	}
	for _, x := range []struct {
		flags []string
		who   string
		at    []time.Duration
	}{
		{nil, "abdc", ms(0, 500, 4900, 5100)},
		{[]string{"-spread", "none"}, "abdc", ms(0, 0, 4900, 5100)},
		{[]string{"-stamp", "end"}, "abcd", ms(0, 500, 3100, 4800)},
		{[]string{"-from", "1s"}, "dc", ms(4900, 5100)},
		{[]string{"-until", "5s"}, "abd", ms(0, 500, 4900)},
		{[]string{"-from", "2026-11-23T06:30:05Z"}, "c", ms(5100)},
	} {
		var o ordering
		fs := flag.NewFlagSet("t", flag.ContinueOnError)
		o.define(fs, "try")
		require.NoError(t, fs.Parse(x.flags))
		require.NoError(t, o.check())
		o.traces = []string{file}
		who, at := "", []time.Duration(nil)
		_, err := o.records(context.Background(), &Env{Stderr: io.Discard}, func(r *trace.Record) error {
			who += string(r.Client)
			at = append(at, time.Unix(0, r.Time).Sub(start))
			return nil
		})
		require.NoError(t, err, "%v", x.flags)
		assert.Equal(t, x.who, who, "%v", x.flags)
		assert.Equal(t, x.at, at, "%v", x.flags)
	}
	for flags, want := range map[[2]string]string{
		{"-spread", "odd"}: `-spread cannot be "odd"; it is even or none`, {"-stamp", "middle"}: `-stamp cannot be "middle"; it is start or end`,
		{"-window", "-1s"}: "-window cannot be -1s; more than 0s and up to 24h", {"-from", "soon"}: `-from: "soon" is neither a time from the first record`,
	} {
		var o ordering
		fs := flag.NewFlagSet("t", flag.ContinueOnError)
		o.define(fs, "try")
		require.NoError(t, fs.Parse(flags[:]))
		assert.ErrorContains(t, o.check(), want)
	}
}
