package ingest

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrix/internal/core/rng"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// BenchmarkClients measures reading Combined lines and keeping clients apart.
func BenchmarkClients(b *testing.B) {
	text := someLog()
	p, err := NewPlan(pool3(b, "", ""), scenario.None(), Options{})
	require.NoError(b, err)
	b.SetBytes(int64(len(text)))
	b.ReportAllocs()
	all, n := int64(bytes.Count(text, []byte("\n"))), int64(0)
	for b.Loop() {
		n = 1
		f, _ := New(scenario.None(), nil, Options{}, p)
		r, err := trace.NewReader("b", bytes.NewReader(text), trace.Options{})
		require.NoError(b, err)
		var a Arrival
		var w clientRef
		var rec trace.Record
		require.NoError(b, r.Next(&rec)) // which tells what it is
		var piece trace.Piece
		h, c := r.Helper(), f.alone
		for piece, err = r.Piece(nil); err == nil; piece, err = r.Piece(piece.Text) {
			h.Take(piece)
			for h.Next(&rec) == nil {
				c.who(&rec, &w)
				f.number(&a, &w)
			}
			n += h.Found().Records
		}
		require.ErrorIs(b, err, io.EOF)
		require.Positive(b, f.clients().clients)
		require.Equal(b, all, n)
	}
}

// BenchmarkIngest measures all that is done with a log before the event loop:
// reading Combined lines, keeping clients apart, routing, putting in order.
func BenchmarkIngest(b *testing.B) {
	text := someLog()
	for _, c := range []struct{ name, routes string }{{"one-route", ""}, {"four-routes", staff}} {
		b.Run(c.name, func(b *testing.B) {
			c := pool3(b, c.routes, "")
			b.SetBytes(int64(len(text)))
			b.ReportAllocs()
			for b.Loop() {
				p, err := NewPlan(c, scenario.None(), Options{})
				require.NoError(b, err)
				f, _ := New(scenario.None(), []Source{{Name: "b", Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }}}, Options{Window: 10 * time.Second}, p)
				done, blocks := make(chan struct{}), f.sequences[0].NewReader()
				go func() {
					f.Run(context.Background())
					close(done)
				}()
				blocks.Close()
				<-done
				require.NoError(b, f.Err)
			}
		})
	}
}

// someLog returns 400,000 Combined lines of 50,000 clients.
func someLog() []byte {
	var text []byte
	for i := range uint64(400_000) {
		client, path := rng.Bits(1, i, 0, rng.Who)%50_000, rng.Bits(1, i, 1, rng.Who)%10_000
		at := time.Unix(1_790_000_000+int64(i)/2000, 0).UTC().Format("02/Jan/2006:15:04:05 -0700")
		text = fmt.Appendf(text, "203.0.%d.%d - - [%s] \"GET /seats/%d HTTP/1.1\" 200 900 \"-\" \"TernApp/4.%d (phone)\"\n", client>>8&0xff, client&0xff, at, path, client>>16)
	}
	return text
}

const staff = `
route "hold" {
  when {
    path   = ["/seats/*/hold"]
    method = ["POST"]
  }
  send_to = upstream.app
}
route "seats" {
  when {
    path = ["/seats/**"]
  }
  send_to = upstream.app
}
route "staff" {
  when {
    path = ["/staff/**"]
  }
  send_to = upstream.app
}
`
