package wire

import (
	"bytes"
	"io"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"

	"kestrix/internal/core/request"
)

// opening is the beginning of a connection of HTTP/2 with a request.
func opening(t testing.TB, fields ...hpack.HeaderField) []byte {
	var b, block bytes.Buffer
	b.WriteString(Preface)
	f := http2.NewFramer(&b, nil)
	enc := hpack.NewEncoder(&block)
	for _, x := range append([]hpack.HeaderField{{Name: ":method", Value: "GET"}, {Name: ":scheme", Value: "http"}, {Name: ":path", Value: "/"}, {Name: ":authority", Value: "a"}}, fields...) {
		require.NoError(t, enc.WriteField(x))
	}
	require.NoError(t, f.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 10}))
	require.NoError(t, f.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: block.Bytes(), EndHeaders: true, EndStream: true}))
	return b.Bytes()
}

// TestWindowsAreFollowed: what may be sent on a stream, and since when nothing
// may, is known from the frames of both sides.
func TestWindowsAreFollowed(t *testing.T) {
	conn := &from{r: bytes.NewReader(opening(t))}
	g := guarded(conn, 4096, true)
	_, err := io.ReadAll(g)
	require.NoError(t, err)
	send := func(write func(*http2.Framer) error) {
		var b bytes.Buffer
		require.NoError(t, write(http2.NewFramer(&b, nil)))
		for _, x := range b.Bytes() { // the library writes frames in any pieces
			_, err := g.Write([]byte{x})
			require.NoError(t, err)
		}
	}
	tell := func(write func(*http2.Framer) error) {
		var b bytes.Buffer
		require.NoError(t, write(http2.NewFramer(&b, nil)))
		conn.r, g.broken = &b, nil
		_, err := io.ReadAll(g)
		require.NoError(t, err)
	}
	assert.Equal(t, int64(10), g.Room(1))
	assert.True(t, g.Idle().IsZero())
	send(func(f *http2.Framer) error { return f.WriteData(1, false, make([]byte, 4)) })
	assert.Equal(t, int64(6), g.Room(1))
	send(func(f *http2.Framer) error { return f.WriteData(1, false, make([]byte, 6)) })
	_, since := g.Waits(1)
	assert.False(t, since.IsZero(), "nothing can be sent")
	tell(func(f *http2.Framer) error { return f.WriteWindowUpdate(1, 5) })
	_, since = g.Waits(1)
	assert.True(t, since.IsZero())
	tell(func(f *http2.Framer) error {
		return f.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 3})
	})
	assert.Equal(t, int64(-2), g.Room(1), "RFC 9113 section 6.9.2")
	send(func(f *http2.Framer) error { return f.WriteData(1, true, nil) })
	assert.Equal(t, int64(math.MaxInt64), g.Room(1), "it is over")
	assert.False(t, g.Idle().IsZero())
}

// FuzzFrames holds the guard of HTTP/2 against reading in other pieces, and what
// passes against the library's reader: each request that it would hand to a
// handler has the guard's field last, and what is malformed is none.
func FuzzFrames(f *testing.F) {
	f.Add(opening(f)[len(Preface):], uint8(3))
	f.Add(opening(f, hpack.HeaderField{Name: "host", Value: "b"})[len(Preface):], uint8(1))
	f.Add(opening(f, hpack.HeaderField{Name: "content-length", Value: "+3"}, hpack.HeaderField{Name: "a", Value: strings.Repeat("b", 500)})[len(Preface):], uint8(50))
	f.Fuzz(func(t *testing.T, b []byte, step uint8) {
		b = append([]byte(Preface), b...)
		read := func(r io.Reader) ([]byte, []uint64) {
			var reset []uint64
			g := NewGuard(&from{r: r}, GuardOptions{Head: 300, Wait: time.Minute, HTTP2: true, Reset: func(r *Refusal) { reset = append(reset, r.Number) }})
			g.ending.answered = 1 << 60
			got, _ := io.ReadAll(g)
			return got, reset
		}
		whole, reset := read(bytes.NewReader(b))
		pieces, reset2 := read(&stepReader{b, int(step%64) + 1})
		if !bytes.Equal(whole, pieces) || len(reset) != len(reset2) {
			t.Fatalf("in pieces of %d: %q, not %q", step, pieces, whole)
		}
		fr := http2.NewFramer(io.Discard, bytes.NewReader(whole[min(len(whole), len(Preface)):]))
		fr.ReadMetaHeaders = hpack.NewDecoder(4096, nil)
		fr.MaxHeaderListSize = MostLarger*300 + 4<<10
		open := map[uint32]bool{}
		for {
			x, err := fr.ReadFrame()
			if _, ok := err.(http2.StreamError); ok {
				continue
			}
			if err != nil {
				return
			}
			if r, ok := x.(*http2.RSTStreamFrame); ok {
				delete(open, r.StreamID)
			}
			h, ok := x.(*http2.MetaHeadersFrame)
			if !ok || open[h.StreamID] {
				continue
			}
			open[h.StreamID] = true
			if last := h.Fields[len(h.Fields)-1]; !h.Truncated && last.Name != strings.ToLower(StreamField) {
				t.Fatalf("a request without the guard's field passed: %v", h.Fields)
			}
			if a := h.PseudoValue("authority"); h.PseudoValue("method") != "CONNECT" && a != "" && !request.ValidHost(a) {
				t.Fatalf("passed for %q", a)
			}
		}
	})
}
