package wire

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/request"
)

// from is a connection that returns what a reader does, and keeps what is written.
type from struct {
	net.Conn
	r   io.Reader
	out bytes.Buffer
}

func (f *from) Read(p []byte) (int, error)  { return f.r.Read(p) }
func (f *from) Write(p []byte) (int, error) { return f.out.Write(p) }

// guarded guards a connection on which every request is answered at once.
func guarded(c net.Conn, most int, http2 bool) *Guard {
	g := NewGuard(c, GuardOptions{Head: most, Wait: time.Minute, HTTP2: http2})
	g.ending.answered = 1 << 60
	return g
}

const ok = "GET /a?b=%20 HTTP/1.1\r\nHost: a\r\n\r\n"

func TestOnlyRequestsOfOneMeaningPass(t *testing.T) {
	good := []string{
		ok, ok + ok, "OPTIONS * HTTP/1.1\r\nHost:a\r\n\r\n", "GET / HTTP/1.0\r\n\r\n",
		"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\nhello" + ok,
		"POST / HTTP/1.1\r\nHost: a\r\ntransfer-encoding: Chunked\r\n\r\n5;x=1\r\nhello\r\nA\r\n0123456789\r\n0\r\nSum: 1\r\n\r\n" + ok,
		"GET /\xc3\xbc HTTP/1.1\r\nHost: a\r\nX: \xff\ty\r\nEmpty:\r\n\r\n",
	}
	bad := map[string]string{
		"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\nContent-Length: 5\r\n\r\nhello":              "two Content-Lengths",
		"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n": "Content-Length beside Transfer-Encoding",
		"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: gzip, chunked\r\n\r\n0\r\n\r\n":                "a Transfer-Encoding other than chunked",
		"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\nTransfer-Encoding: x\r\n\r\n":       "two Transfer-Encodings",
		"POST / HTTP/1.0\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n":                                 "Transfer-Encoding in HTTP/1.0",
		"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: +5\r\n\r\nhello":                                  "a Content-Length that is no length",
		"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5, 5\r\n\r\nhello":                                "a Content-Length that is no length",
		"GET / HTTP/1.1\nHost: a\n\n":                                       "a line that ends without CR",
		"GET / HTTP/1.1\r\nHost: a\r\nX: a\rY: b\r\n\r\n":                   "a bare CR",
		"GET / HTTP/1.1\r\nHost: a\r\nX: \x00\r\n\r\n":                      "a control character in the header field X",
		"GET / HTTP/1.1\r\nHost: a\r\nContent-Length : 5\r\n\r\n":           "a header field whose name has a character that none may have",
		"GET / HTTP/1.1\r\nHost: a\r\nX: a\r\n b\r\n\r\n":                   "a folded header field",
		"GET / HTTP/1.1\r\n Host: a\r\n\r\n":                                "a folded header field",
		"GET / HTTP/1.1\r\nHost: a\r\n: b\r\n\r\n":                          "a header field without a name",
		"GET / HTTP/1.1\r\nHost: a\r\nwhat\r\n\r\n":                         "a header field without a colon",
		"GET / HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n":                      "2 Host fields where one is missing",
		"GET / HTTP/1.1\r\n\r\n":                                            "0 Host fields where one is missing",
		"GET  / HTTP/1.1\r\nHost: a\r\n\r\n":                                "a request without a proper target",
		"GET / b HTTP/1.1\r\nHost: a\r\n\r\n":                               "a version other than HTTP/1.1 or HTTP/1.0",
		"GET /a#b HTTP/1.1\r\nHost: a\r\n\r\n":                              "a target with a fragment",
		"GET /%zz HTTP/1.1\r\nHost: a\r\n\r\n":                              "a target with a broken escape",
		"GET / HTTP/1.2\r\nHost: a\r\n\r\n":                                 "a version other than HTTP/1.1 or HTTP/1.0",
		"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n":                                  "the method PRI, which begins HTTP/2 and nothing else (RFC 9113 section 3.4)",
		"\x16\x03\x01":                                                      "a TLS handshake where clear text is spoken",
		"\x00":                                                              "a first line that is no request",
		"GET / HTTP/1.1\r\nHost: a\r\nX: " + strings.Repeat("x", 2000):      "a head of more than 1024 bytes",
		"GET / HTTP/1.1\r\nHost: a\r\nX: " + strings.Repeat("x\r\ny:", 300): "a head of more than 1024 bytes",
	}
	for _, way := range []func(io.Reader) io.Reader{func(r io.Reader) io.Reader { return r }, iotest.OneByteReader, iotest.HalfReader} {
		for _, text := range good {
			g := guarded(&from{r: way(strings.NewReader(text))}, 1024, false)
			got, err := io.ReadAll(way(g))
			require.NoError(t, err)
			assert.Equal(t, text, string(got))
			assert.Nil(t, g.Refused(), text)
		}
		for text, why := range bad {
			g := guarded(&from{r: way(strings.NewReader(ok + text))}, 1024, false)
			got, err := io.ReadAll(way(g))
			require.NoError(t, err)
			assert.Equal(t, ok+instead, string(got), "%q", text)
			if no := g.Refused(); assert.NotNil(t, no, "%q", text) {
				assert.Equal(t, why, no.Why, "%q", text)
			}
		}
		// A body that is wrong is noticed when its head has gone on.
		for _, body := range []string{"5\nhello", "5\r\nhelloX", "x\r\n", "\r\n", "5 \x00\r\n", "0\r\nX\x01: 1\r\n", "fffffffffffffffff\r\n", "5\r\rhello"} {
			g := guarded(&from{r: way(strings.NewReader("POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n" + body))}, 1024, false)
			_, err := io.ReadAll(way(g))
			assert.ErrorIs(t, err, ErrMalformed, "%q", body)
		}
	}
	g := guarded(&from{r: strings.NewReader("PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n\x00\x00\x00\x06\x00\x00\x00\x00\x00")}, 1024, true)
	got, err := io.ReadAll(g)
	require.NoError(t, err)
	assert.Equal(t, "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n\x00\x00\x00\x06\x00\x00\x00\x00\x00", string(got))
	assert.Equal(t, "POST", NewGuardOn("POST /x HTTP/1.1\r\nA\r\n").Method)
}

// NewGuardOn returns the refusal of what a client sends.
func NewGuardOn(text string) *Refusal {
	g := guarded(&from{r: strings.NewReader(text)}, 1024, false)
	_, _ = io.ReadAll(g)
	return g.Refused()
}

func TestATakenOverConnectionIsNotGuarded(t *testing.T) {
	const more = "\x81\x05hello\n\n"
	up := "GET /ws HTTP/1.1\r\nHost: a\r\nUpgrade: websocket\r\n\r\n"
	g := guarded(&from{r: io.MultiReader(strings.NewReader(up), iotest.OneByteReader(strings.NewReader(more)))}, 1024, false)
	b := make([]byte, 100)
	n, err := g.Read(b)
	require.NoError(t, err)
	assert.Equal(t, up, string(b[:n]))
	g.Open()
	got, err := io.ReadAll(g)
	require.NoError(t, err)
	assert.Equal(t, more, string(got))
}

func TestAnswersAreReadStrictly(t *testing.T) {
	type want struct {
		status int
		body   string
		again  bool // the connection can be used for another request
		fails  string
	}
	for text, w := range map[string]want{
		"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhello":                                               {200, "hello", true, ""},
		"HTTP/1.1 200\r\nContent-Length: 0\r\n\r\n":                                                       {200, "", true, ""},
		"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhello more":                                          {200, "hello", false, ""},
		"HTTP/1.1 200 OK\r\nContent-Length: 5\r\nConnection: close, X-A\r\nX-A: b\r\n\r\nhello":           {200, "hello", false, ""},
		"HTTP/1.0 200 OK\r\nContent-Length: 5\r\n\r\nhello":                                               {200, "hello", false, ""},
		"HTTP/1.0 200 OK\r\nContent-Length: 5\r\nConnection: Keep-Alive\r\n\r\nhello":                     {200, "hello", true, ""},
		"HTTP/1.1 200 OK\r\n\r\nup to the end":                                                            {200, "up to the end", false, ""},
		"HTTP/1.1 204 No\r\n\r\n":                                                                         {204, "", true, ""},
		"HTTP/1.1 304 Not\r\nContent-Length: 5\r\n\r\n":                                                   {304, "", true, ""},
		"HTTP/1.1 103 Early\r\nLink: x\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 1\r\n\r\nx":              {200, "x", true, ""},
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nhe\r\n3\r\nllo\r\n0\r\nSum: 7\r\n\r\n": {200, "hello", true, ""},
		"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhel":                                                 {200, "hel", false, "unexpected EOF"},
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhel":                                   {200, "hel", false, "unexpected EOF"},
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\nhello":                                   {200, "", false, "malformed"},
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nContent-Length: 5\r\n\r\n":                      {0, "", false, "malformed"},
		"HTTP/1.1 200 OK\r\nContent-Length: 5\r\nContent-Length: 6\r\n\r\nhello":                          {0, "", false, "malformed"},
		"HTTP/1.1 200 OK\nContent-Length: 5\n\nhello":                                                     {0, "", false, "malformed"},
		"HTTP/1.1 200 OK\r\nA: b\r\n c\r\n\r\n":                                                           {0, "", false, "malformed"},
		"HTTP/1.1 200 OK\r\nA b: c\r\n\r\n":                                                               {0, "", false, "malformed"},
		"HTTP/1.1 200 OK\r\nA: b\x01\r\n\r\n":                                                             {0, "", false, "malformed"},
		"HTTP/1.1 20 OK\r\n\r\n":                                                                          {0, "", false, "malformed"},
		"ICY 200 OK\r\n\r\n":                                                                              {0, "", false, "malformed"},
		"":                                                                                                {0, "", false, ErrNothing.Error()},
		"HTTP/1.1 2":                                                                                      {0, "", false, "unexpected EOF"},
		"HTTP/1.1 200 OK\r\n" + strings.Repeat("A: b\r\n", 60000):                                         {0, "", false, "malformed"},
		"HTTP/1.1 200 OK\r\nA: " + strings.Repeat("b", 20000) + "\r\nContent-Length: 5\r\n\r\nhello":      {200, "hello", true, ""},
		strings.Repeat("HTTP/1.1 102 Wait\r\nA: b\r\n\r\n", 20000):                                        {0, "", false, "malformed"},
	} {
		for _, way := range []func(io.Reader) io.Reader{func(r io.Reader) io.Reader { return r }, iotest.OneByteReader} {
			c := NewConn(&from{r: way(strings.NewReader(text))})
			h := http.Header{}
			a, err := c.Receive("GET", h, nil)
			var body []byte
			if err == nil {
				assert.Equal(t, w.status, a.Status, "%.60q", text)
				body, err = io.ReadAll(c)
			}
			assert.Equal(t, w.body, string(body), "%.60q", text)
			if w.fails != "" {
				assert.ErrorContains(t, err, w.fails, "%.60q", text)
				continue
			}
			require.NoError(t, err, "%.60q", text)
			if !strings.Contains(text, "more") || len(text) > 0 && c.end > c.at { // read byte by byte, what follows is not seen yet
				assert.Equal(t, w.again, c.Done(), "%.60q", text)
			}
			assert.Empty(t, h["Connection"])
			assert.Empty(t, h["X-A"])
			tail, err := c.Trailer()
			require.NoError(t, err)
			assert.Equal(t, strings.Contains(text, "Sum"), tail.Get("Sum") == "7")
		}
	}
	c := NewConn(&from{r: strings.NewReader("HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\n")})
	a, err := c.Receive("HEAD", http.Header{}, nil)
	require.NoError(t, err)
	assert.Equal(t, int64(5), a.Length)
	assert.True(t, c.Done(), "an answer to HEAD has no body")
}

func TestWhatIsSent(t *testing.T) {
	send := func(r *Request, body []byte, s *Sender) string {
		f := &from{}
		c := NewConn(f)
		require.NoError(t, c.Send(r, body))
		if s != nil {
			require.NoError(t, c.SendBody(s))
		}
		return f.out.String()
	}
	h := http.Header{"A": {"b"}}
	assert.Equal(t, "GET / HTTP/1.1\r\nHost: a\r\nA: b\r\n\r\n", send(&Request{Method: "GET", Target: "/", Host: "a", Header: h}, nil, nil))
	assert.Equal(t, "PUT /x HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\nhi", send(&Request{Method: "PUT", Target: "/x", Host: "a", Length: 2}, []byte("hi"), nil))
	assert.Equal(t, "POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\n\r\n", send(&Request{Method: "POST", Target: "/", Host: "a", HasBody: true}, nil, nil))
	assert.Equal(t, "GET / HTTP/1.1\r\nHost: a\r\nConnection: Upgrade\r\nUpgrade: tide\r\n\r\n", send(&Request{Method: "GET", Target: "/", Host: "a", Upgrade: "tide"}, nil, nil))
	for _, bad := range []*Request{
		{Method: "GET", Target: "/ x", Host: "a"}, {Method: "GET", Target: "", Host: "a"}, {Method: "G T", Target: "/", Host: "a"}, {Method: "GET", Target: "/", Host: "a\r\nb"},
		{Method: "GET", Target: "/", Host: "a", Header: http.Header{"A": {"b\r\nc: d"}}}, {Method: "GET", Target: "/", Host: "a", Header: http.Header{"A b": {"c"}}},
	} {
		f := &from{}
		assert.ErrorIs(t, NewConn(f).Send(bad, nil), ErrMalformed)
		assert.Empty(t, f.out.String())
	}
	chunked := &Request{Method: "POST", Target: "/", Host: "a", Length: -1}
	got := send(chunked, nil, &Sender{Body: iotest.OneByteReader(strings.NewReader("hi")), Length: -1, Trailer: func() http.Header { return http.Header{"Sum": {"7"}} }})
	_, body, _ := strings.Cut(got, "\r\n\r\n")
	assert.Equal(t, "1\r\nh\r\n1\r\ni\r\n0\r\nSum: 7\r\n\r\n", body)
	var own *ReadError
	for _, s := range []*Sender{{Body: strings.NewReader("hi"), Length: 3}, {Body: strings.NewReader("hi"), Length: 1}, {Body: iotest.ErrReader(io.ErrClosedPipe), Length: -1}} {
		assert.ErrorAs(t, NewConn(&from{}).SendBody(s), &own)
	}
}

// SetReadDeadline is taken and has no effect.
func (f *from) SetReadDeadline(time.Time) error { return nil }

// SetWriteDeadline is taken and has no effect.
func (f *from) SetWriteDeadline(time.Time) error { return nil }

// FuzzGuard holds the guard against reading in other pieces, and against what
// the standard library makes of what passed: the two must agree on where each
// request ends.
func FuzzGuard(f *testing.F) {
	f.Add([]byte(ok), uint8(3))
	f.Add([]byte("POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5;x\r\nhello\r\n0\r\nA: b\r\n\r\n"+ok), uint8(1))
	f.Add([]byte("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\nhello"+ok), uint8(7))
	f.Add([]byte("\r\nGET http://[::1]:80/?x HTTP/1.1\r\nHost: a\r\n\r\n\r\nCONNECT a:1 HTTP/1.1\r\nHost: a:1\r\nExpect: 100-continue\r\n\r\n"), uint8(2))
	f.Fuzz(func(t *testing.T, b []byte, step uint8) {
		read := func(r io.Reader) ([]byte, *Refusal, error) {
			g := guarded(&from{r: r}, 4096, false)
			got, err := io.ReadAll(g)
			return got, g.Refused(), err
		}
		whole, no, err := read(bytes.NewReader(b))
		pieces, no2, err2 := read(&stepReader{b, int(step%16) + 1})
		if !bytes.Equal(whole, pieces) || (err == nil) != (err2 == nil) || (no == nil) != (no2 == nil) {
			t.Fatalf("in pieces of %d: %q %v %v, not %q %v %v", step, pieces, err2, no2, whole, err, no)
		}
		br := bufio.NewReader(bytes.NewReader(whole))
		for err == nil {
			q, e := http.ReadRequest(br)
			if errors.Is(e, io.EOF) || errors.Is(e, io.ErrUnexpectedEOF) {
				break
			}
			if e != nil {
				t.Fatalf("passed, and the library does not take it: %v: %q", e, whole)
			}
			if q.Host != "" && !request.ValidHost(q.Host) || q.Method == "PRI" || q.Host == "" && q.URL.IsAbs() {
				t.Fatalf("passed for %q %q: %q", q.Method, q.Host, whole)
			}
			if len(q.Header["Content-Length"]) > 0 && len(q.TransferEncoding) > 0 {
				t.Fatalf("passed with two lengths: %q", b)
			}
			if _, e := io.Copy(io.Discard, q.Body); e != nil {
				if !strings.Contains(e.Error(), "unexpected EOF") && !strings.Contains(e.Error(), "suspiciously long trailer") {
					t.Fatalf("passed, and the library finds %v: %q", e, b)
				}
				break
			}
		}
	})
}

type stepReader struct {
	b []byte
	n int
}

func (s *stepReader) Read(p []byte) (int, error) {
	if len(s.b) == 0 {
		return 0, io.EOF
	}
	n := copy(p[:min(len(p), s.n)], s.b)
	s.b = s.b[n:]
	return n, nil
}

// FuzzAnswer holds the reading of answers against the standard library's: what
// is taken here is taken there, with the same body.
func FuzzAnswer(f *testing.F) {
	f.Add([]byte("HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhello"))
	f.Add([]byte("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\nA: b\r\n\r\n"))
	f.Add([]byte("HTTP/1.1 103 X\r\n\r\nHTTP/1.0 200 OK\r\n\r\nhello"))
	f.Fuzz(func(t *testing.T, b []byte) {
		c := NewConn(&from{r: bytes.NewReader(b)})
		passed := 0
		a, err := c.Receive("GET", http.Header{}, func(int, http.Header) { passed++ })
		if err != nil {
			return
		}
		body, err := io.ReadAll(c)
		slow := NewConn(&from{r: iotest.OneByteReader(bytes.NewReader(b))})
		if _, err := slow.Receive("GET", http.Header{}, nil); err != nil {
			t.Fatalf("byte by byte it is not taken: %v", err)
		}
		again, err2 := io.ReadAll(slow)
		if !bytes.Equal(body, again) || (err == nil) != (err2 == nil) {
			t.Fatalf("byte by byte: %q %v, not %q %v", again, err2, body, err)
		}
		if a.Status < 200 || err != nil {
			return
		}
		br := bufio.NewReader(bytes.NewReader(b))
		for range passed {
			if _, err := http.ReadResponse(br, nil); err != nil {
				return // the library takes fewer interim answers
			}
		}
		res, err := http.ReadResponse(br, nil)
		if err != nil {
			return // or is stricter, in the fields
		}
		want, err := io.ReadAll(res.Body)
		if err == nil && !bytes.Equal(want, body) {
			t.Fatalf("%q has the body %q, not %q", b, want, body)
		}
		if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
			t.Logf("the library: %v", err)
		}
	})
}

// TestWhatStandsBesideChunksIsBounded: extensions and trailers together, so that nobody
// has the guard keep or read without end.
func TestWhatStandsBesideChunksIsBounded(t *testing.T) {
	for text, why := range map[string]string{
		"0\r\n" + strings.Repeat("X-Tide: "+strings.Repeat("x", 90)+"\r\n", 200) + "\r\n": "trailers of more than 16 KiB",
		"0\r\nX: " + strings.Repeat("x", 20_000):                                          "trailers of more than 16 KiB",
		"1;" + strings.Repeat("x", 20_000):                                                "chunk extensions of more than 16 KiB",
		strings.Repeat("1;xxxxxxxxxxxxxxxx\r\nx\r\n", 2000):                               "chunk extensions of more than 16 KiB",
		"1" + strings.Repeat(" ", 20_000):                                                 "a chunk size that is no number",
	} {
		var c chunks
		_, err := c.skip([]byte(text), nil)
		assert.ErrorContains(t, err, why, "%.40q", text)
	}
	var c chunks
	n, err := c.skip([]byte("1;x=y\r\nx\r\n0\r\nX-Tide: ebb\r\n\r\nGET"), nil)
	require.NoError(t, err)
	assert.Equal(t, len("1;x=y\r\nx\r\n0\r\nX-Tide: ebb\r\n\r\n"), n)
}
