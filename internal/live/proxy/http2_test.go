package proxy

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"

	"kestrix/internal/core/cause"
	"kestrix/internal/live/wire"
)

// frames is a client's connection of HTTP/2, frame by frame.
type frames struct {
	t *testing.T
	*line
	*http2.Framer
	block  bytes.Buffer
	enc    *hpack.Encoder
	stream uint32
}

// speak connects to the proxy and begins HTTP/2.
func (w *world) speak(settings ...http2.Setting) *frames {
	l := w.call()
	l.say(wire.Preface)
	f := &frames{t: w.t, line: l, Framer: http2.NewFramer(l.Conn, l.Conn)}
	f.enc = hpack.NewEncoder(&f.block)
	f.ReadMetaHeaders = hpack.NewDecoder(4096, nil)
	require.NoError(w.t, f.WriteSettings(settings...))
	return f
}

// ask begins a request: its method and path, and fields as "name: value". A body
// may follow if open.
func (f *frames) ask(open bool, fields ...string) uint32 {
	f.stream += 2
	f.block.Reset()
	for _, x := range fields {
		name, value, _ := strings.Cut(x[1:], ": ")
		require.NoError(f.t, f.enc.WriteField(hpack.HeaderField{Name: x[:1] + name, Value: value}))
	}
	stream := f.stream - 1
	require.NoError(f.t, f.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: f.block.Bytes(), EndHeaders: true, EndStream: !open}))
	return stream
}

// outcome reads up to the end of a stream: its status and body, or how it was
// reset.
func (f *frames) outcome(stream uint32) string {
	said := ""
	for {
		x, err := f.ReadFrame()
		if err != nil {
			var how http2.ConnectionError
			if errors.As(err, &how) {
				return "broken " + how.Error()
			}
			return strings.TrimSpace(said + " closed")
		}
		switch x := x.(type) {
		case *http2.SettingsFrame:
			if !x.IsAck() {
				_ = f.WriteSettingsAck() // the connection may be over
			}
		case *http2.GoAwayFrame:
			return "goaway " + x.ErrCode.String()
		case *http2.RSTStreamFrame:
			if x.StreamID == stream {
				return strings.TrimSpace(said + " " + x.ErrCode.String())
			}
		case *http2.MetaHeadersFrame:
			if x.StreamID == stream {
				for _, h := range x.Fields {
					if h.Name == ":status" || strings.HasPrefix(h.Name, "grpc-") {
						said = strings.TrimSpace(said + " " + h.Value)
					}
				}
				if x.StreamEnded() {
					return said
				}
			}
		case *http2.DataFrame:
			if x.StreamID == stream {
				said = strings.TrimSpace(said + " " + string(x.Data()))
				if x.StreamEnded() {
					return said
				}
			}
		}
	}
}

// plainly is the beginning of a request without anything odd.
func plainly(more ...string) []string {
	return append([]string{":method: GET", ":scheme: http", ":path: /", ":authority: b.example"}, more...)
}

// TestHTTP2RequestsOfOneMeaningPass: what may not be is reset as malformed (RFC
// 9113 section 8.1.1) and has a line in the log; exactly one Host goes out.
func TestHTTP2RequestsOfOneMeaningPass(t *testing.T) {
	without := func(name string, more ...string) []string {
		var out []string
		for _, x := range plainly() {
			if !strings.HasPrefix(x, ":"+name+": ") {
				out = append(out, x)
			}
		}
		return append(out, more...)
	}
	const bad = "PROTOCOL_ERROR"
	for _, c := range []struct {
		fields []string
		want   string
	}{
		{plainly(), "200 b.example"},
		{plainly("host: b.example"), "200 b.example"},
		{plainly("host: B.example:80"), "200 b.example"},
		{without("authority", "host: a.example"), "200 a.example"},
		{plainly("kestrix-stream: 99 431 no", "kestrix-stream: 1"), "200 b.example"},
		{plainly("cookie: a=1", "cookie: b=2"), "200 b.example"},
		{plainly("host: a.example"), bad}, {plainly("host: b.example:8080"), bad}, {plainly("host: b.example", "host: b.example"), bad},
		{without("authority"), bad}, {without("path"), bad}, {without("method"), bad}, {without("scheme"), bad},
		{without("authority", ":authority: u@a"), bad}, {without("authority", ":authority: 'a'"), bad}, {without("authority", ":authority: a/b"), bad},
		{without("authority", ":authority: [::1"), bad}, {without("authority", ":authority: *"), bad}, {without("authority", ":authority: a:70000"), bad},
		{without("authority", ":authority: ", ":authority: b.example"), bad}, {without("authority", ":authority: ", "host: b.example"), "200 b.example"},
		{without("authority", ":authority: [::1]:8080"), "200 [::1]:8080"},
		{without("path", ":path: a"), bad}, {without("path", ":path: *"), bad}, {without("path", ":path: /a b"), bad}, {without("path", ":path: /a#b"), bad}, {without("path", ":path: /%zz"), bad}, {without("path", ":path: http://a/"), bad},
		{without("method", ":method: G T"), bad}, {without("method", ":method: PRI"), bad}, {without("scheme", ":scheme: ftp"), bad},
		{append([]string{"a: b"}, plainly()...), bad}, {plainly(":path: /"), bad}, {plainly(":status: 200"), bad}, {plainly(":protocol: websocket"), bad},
		{plainly("A: b"), bad}, {plainly("a b: c"), bad}, {plainly("a: b "), bad}, {plainly("a: \tb"), bad}, {plainly("a: b\r\nc: d"), bad}, {plainly("a: \x01"), bad},
		{plainly("connection: close"), bad}, {plainly("transfer-encoding: chunked"), bad}, {plainly("upgrade: x"), bad}, {plainly("keep-alive: 1"), bad}, {plainly("te: gzip"), bad},
		{plainly("te: trailers"), "200 b.example"},
		{plainly("content-length: 0x3"), bad}, {plainly("content-length: +3"), bad}, {plainly("content-length: 3, 3"), bad}, {plainly("content-length: 3", "content-length: 3"), bad}, {plainly("content-length: 3"), bad}, {plainly("content-length: "), bad},
		{plainly("content-length: 0"), "200 b.example"},
		{[]string{":method: CONNECT", ":authority: a:443"}, "501 Not Implemented: tunnels are not opened here"},
		{without("method", ":method: TRACE"), "501 Not Implemented: TRACE is not answered here"},
		{plainly("expect: a-pony"), "417 Expectation Failed: the request has an expectation other than 100-continue"},
		{plainly("a: " + strings.Repeat("x", 3000)), "431 Request Header Fields Too Large: the request has a head of more than 2048 bytes"},
	} {
		bubble(t, in("clear_http2 = true\n limits {\n header_size = \"2KiB\"\n}", front)+one, func(w *world) {
			w.raw(here, func(l *line) {
				for head := l.head(); head != ""; head = l.head() {
					assert.Equal(t, 1, strings.Count(strings.ToLower(head), "\r\nhost:"), head)
					assert.NotContains(t, head, "Kestrix-Stream")
					_, host, _ := strings.Cut(head, "Host: ")
					host, _, _ = strings.Cut(host, "\r\n")
					l.say(fmt.Sprintf("HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(host), host))
				}
			})
			f := w.speak()
			f.AllowIllegalWrites = true
			assert.Equal(t, c.want, f.outcome(f.ask(false, c.fields...)), "%q", c.fields)
			// The connection goes on, and the tables of HPACK are as they were.
			assert.Equal(t, "200 b.example", f.outcome(f.ask(false, plainly("x: y")...)), "after %q", c.fields)
			f.Close()
			synctest.Wait()
			require.Len(t, w.log(), 2, "%q", c.fields)
			if c.want == bad {
				assert.Equal(t, "400 malformed", fmt.Sprint(w.log()[0].Status, " ", w.log()[0].Cause))
			} else {
				assert.Equal(t, c.want[:3], fmt.Sprint(w.log()[0].Status))
			}
		})
	}
}

// TestFramesThatComeInPieces: headers in several frames, with padding and
// priority, byte by byte, and settings given twice.
func TestFramesThatComeInPieces(t *testing.T) {
	bubble(t, in("clear_http2 = true", front)+one, func(w *world) {
		w.start(here, func(out http.ResponseWriter, r *http.Request) {
			b, _ := io.ReadAll(r.Body)
			_, _ = fmt.Fprint(out, r.Host, " ", r.Header.Get("Long"), " ", string(b))
		})
		var sent bytes.Buffer
		sent.WriteString(wire.Preface)
		to := http2.NewFramer(&sent, nil)
		require.NoError(t, to.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 7}, http2.Setting{ID: http2.SettingMaxFrameSize, Val: 20000}, http2.Setting{ID: http2.SettingInitialWindowSize, Val: 70000}))
		var block bytes.Buffer
		enc := hpack.NewEncoder(&block)
		for _, x := range plainly("long: " + strings.Repeat("z", 50)) {
			name, value, _ := strings.Cut(x[1:], ": ")
			require.NoError(t, enc.WriteField(hpack.HeaderField{Name: x[:1] + name, Value: value}))
		}
		b := block.Bytes()
		require.NoError(t, to.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: b[:5], PadLength: 9, Priority: http2.PriorityParam{Weight: 3, StreamDep: 0, Exclusive: false}}))
		require.NoError(t, to.WriteContinuation(1, false, b[5:6]))
		require.NoError(t, to.WriteContinuation(1, false, nil))
		require.NoError(t, to.WriteContinuation(1, true, b[6:]))
		require.NoError(t, to.WriteDataPadded(1, false, []byte("bo"), []byte{0, 0, 0}))
		require.NoError(t, to.WriteData(1, true, []byte("dy")))
		for _, size := range []int{1, 2, 7, 1000} {
			l := w.call()
			f := &frames{t: t, line: l, Framer: http2.NewFramer(l.Conn, l.Conn)}
			f.ReadMetaHeaders = hpack.NewDecoder(4096, nil)
			for at := 0; at < sent.Len(); at += size {
				l.say(sent.String()[at:min(at+size, sent.Len())])
				synctest.Wait()
			}
			assert.Equal(t, "200 b.example "+strings.Repeat("z", 50)+" body", f.outcome(1), "in pieces of %d", size)
			l.Close()
		}
	})
}

// TestAHeaderSectionWithoutEndEndsTheConnection: of what is far too large, or in
// far too many frames, nothing is answered; it is in the log.
func TestAHeaderSectionWithoutEndEndsTheConnection(t *testing.T) {
	for _, fragment := range [][]byte{nil, bytes.Repeat([]byte("\x00\x01a\x7f\x00"+strings.Repeat("x", 127)), 100)} {
		bubble(t, in("clear_http2 = true\n limits {\n header_size = \"2KiB\"\n}", front)+one, func(w *world) {
			f := w.speak()
			require.NoError(t, f.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: []byte{0x82}}))
			for range 1000 {
				if f.WriteContinuation(1, false, fragment) != nil {
					break
				}
				synctest.Wait()
			}
			assert.Contains(t, f.outcome(1), "closed")
			f.Close()
			synctest.Wait()
			require.Len(t, w.log(), 1)
			assert.Equal(t, 431, w.log()[0].Status)
		})
	}
}

// TestStreamsThatWaitForTheirClient: a client that lets nothing come loses its
// streams after idle, and of those beyond the limit the longest-waiting at once.
// What takes something, however slowly, goes on.
func TestStreamsThatWaitForTheirClient(t *testing.T) {
	settings := "clear_http2 = true\n limits {\n stalled_streams = 3\n}"
	quick := strings.Replace(one, "{\n", "{\n timeouts {\n idle = \"5s\"\n}\n", 1)
	for _, size := range []int{10, 3000, 10_000, 200_000} {
		bubble(t, in(settings, front)+quick, func(w *world) {
			w.start(here, func(out http.ResponseWriter, r *http.Request) {
				_, _ = out.Write(make([]byte, size))
			})
			f := w.speak(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 0})
			for range 10 {
				f.ask(false, plainly()...)
			}
			time.Sleep(1500 * time.Millisecond)
			in := w.proxy.Status().Upstreams[0].Backends[0].InFlight
			assert.LessOrEqual(t, in, 3, "answers of %d bytes", size)
			time.Sleep(5 * time.Second)
			assert.Zero(t, w.proxy.Status().Upstreams[0].Backends[0].InFlight, "answers of %d bytes", size)
			resets := 0
			_ = f.SetReadDeadline(time.Now().Add(time.Second))
			for {
				x, err := f.ReadFrame()
				if err != nil {
					break
				}
				if x, ok := x.(*http2.RSTStreamFrame); ok && x.ErrCode != http2.ErrCodeNo {
					resets++
				}
			}
			assert.Equal(t, 10, resets, "answers of %d bytes", size)
			f.Close()
			synctest.Wait()
			for _, a := range w.log() {
				assert.Equal(t, cause.ClientTimeout, a.Cause, "answers of %d bytes", size)
			}
		})
	}
	// An answer of the proxy's own is large as well, and has two minutes.
	bubble(t, in(settings, strings.Replace(front, "send_to = upstream.app", "reply {\n body = \""+strings.Repeat("x", 10_000)+"\"\n}\n", 1)+strings.NewReplacer("web", "other", ":8080", ":8081").Replace(front))+one, func(w *world) {
		f := w.speak(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 0})
		for range 5 {
			f.ask(false, plainly()...)
		}
		time.Sleep(3 * time.Second)
		assert.Len(t, w.log(), 2, "three may wait")
		time.Sleep(2 * time.Minute)
		assert.Len(t, w.log(), 5)
		f.Close()
	})
	bubble(t, in(settings, front)+quick, func(w *world) {
		w.start(here, func(out http.ResponseWriter, r *http.Request) { _, _ = out.Write(make([]byte, 40_000)) })
		f := w.speak()
		var streams []uint32
		for range 16 {
			streams = append(streams, f.ask(false, plainly()...))
		}
		got := map[uint32]int{}
		for over := 0; over < len(streams); {
			x, err := f.ReadFrame()
			require.NoError(t, err)
			switch x := x.(type) {
			case *http2.RSTStreamFrame:
				t.Fatalf("stream %d was reset: %s after %s", x.StreamID, x.ErrCode, time.Since(w.began))
			case *http2.DataFrame:
				n := len(x.Data())
				got[x.StreamID] += n
				if x.StreamEnded() {
					over++
				}
				if n > 0 { // a slow client: 16 KiB every 700 ms; each of sixteen streams has to wait for longer than idle
					time.Sleep(time.Duration(n) * 700 * time.Millisecond / (16 << 10))
					require.NoError(t, f.WriteWindowUpdate(0, uint32(n)))
					if !x.StreamEnded() {
						require.NoError(t, f.WriteWindowUpdate(x.StreamID, uint32(n)))
					}
				}
			}
		}
		for _, s := range streams {
			assert.Equal(t, 40_000, got[s])
		}
		f.Close()
	})
}

// TestAnIdleConnectionIsToldThatItEnds: with GOAWAY, so that no request is lost.
func TestAnIdleConnectionIsToldThatItEnds(t *testing.T) {
	bubble(t, in("clear_http2 = true\n timeouts {\n idle = \"10s\"\n}", front)+one, func(w *world) {
		w.start(here, func(http.ResponseWriter, *http.Request) { time.Sleep(20 * time.Second) })
		f := w.speak()
		assert.Equal(t, "200", f.outcome(f.ask(false, plainly()...)), "while something is asked it is not idle")
		time.Sleep(9 * time.Second)
		began := time.Now()
		assert.Equal(t, "200", f.outcome(f.ask(false, plainly()...)))
		assert.Equal(t, "goaway NO_ERROR", f.outcome(99))
		assert.Equal(t, 30*time.Second, time.Since(began))
		assert.Equal(t, "closed", f.outcome(99))
		f.Close()
	})
}

// TestAnswersOfOurOwnToGRPC: they carry the status and message of an RPC.
func TestAnswersOfOurOwnToGRPC(t *testing.T) {
	bubble(t, in("clear_http2 = true", strings.Replace(front, "    send_to", "    when {\n path = \"/app/**\"\n }\n    send_to", 1))+one, func(w *world) {
		f := w.speak()
		for path, want := range map[string]string{"/app/Do": "200 the backend refuses connections 14", "/other": "200 nothing is served under this address 12", "/app/..%2Fother": "200 the path can also be read as /other, which another route takes 13"} {
			fields := append(plainly("content-type: application/grpc+proto", "te: trailers")[:2], ":path: "+path, ":authority: a", "content-type: application/grpc+proto", "te: trailers")
			fields[0] = ":method: POST"
			assert.Equal(t, want, f.outcome(f.ask(true, fields...)))
		}
		f.Close()
		synctest.Wait()
		assert.ElementsMatch(t, []int{502, 404, 400}, []int{w.log()[0].Status, w.log()[1].Status, w.log()[2].Status}, "the log has the status of HTTP")
		assert.Equal(t, "100%25 %C3%BC%0A", grpcMessage("100% ü\n"))
	})
}
