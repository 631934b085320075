package proxy

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/wire"
)

// openPipes counts the ends of pipes that this process has open.
func openPipes() int {
	n := 0
	all, _ := os.ReadDir("/proc/self/fd") // elsewhere there are none
	for _, f := range all {
		if to, err := os.Readlink("/proc/self/fd/" + f.Name()); err == nil && strings.HasPrefix(to, "pipe:") {
			n++
		}
	}
	return n
}

// TestBodiesMovedInTheKernelEndLikeOthers: over real sockets, with the kernel's pipes and without, for backends and
// clients that stop, leave, are slow, or are well.
func TestBodiesMovedInTheKernelEndLikeOthers(t *testing.T) {
	const size = 16 << 20
	body := make([]byte, size)
	for i := range body {
		body[i] = byte(rand.Uint32())
	}
	want := sha256.Sum256(body)
	back, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer back.Close()
	go func() {
		for {
			c, err := back.Accept()
			if err != nil {
				return
			}
			go sends(c, body)
		}
	}()
	for _, kernel := range []bool{false, true} {
		var mu sync.Mutex
		var lines []accesslog.Line
		p := New(Options{Seed: 7, Grace: time.Second, Access: func(a *accesslog.Line) {
			mu.Lock()
			defer mu.Unlock()
			lines = append(lines, a.Detached())
		}})
		if !kernel {
			p.pipes = wire.NewPipes(0)
		}
		free, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		at := free.Addr().String()
		free.Close()
		require.NoError(t, p.Apply(parse(t, strings.Replace(front, "127.0.0.1:8080", at, 1)+fmt.Sprintf("upstream \"app\" {\n backends = { a = %q }\n timeouts {\n  idle = \"400ms\"\n }\n}\n", back.Addr()))))
		<-p.Ready()
		before, most := openPipes(), 0
		for _, c := range []struct {
			path   string
			client func(io.Reader) error // reads the body
			why    cause.Cause
			least  int64 // bytes
		}{
			{"/whole", func(r io.Reader) error { _, err := io.Copy(io.Discard, r); return err }, cause.None, size},
			{"/whole", func(r io.Reader) error {
				for b := make([]byte, 1<<20); ; time.Sleep(40 * time.Millisecond) { // longer than idle in all
					if _, err := io.ReadFull(r, b); err != nil {
						return err
					}
					most = max(most, openPipes())
				}
			}, cause.None, size},
			{"/stops", func(r io.Reader) error { _, err := io.Copy(io.Discard, r); return err }, cause.AnswerTimeout, size / 2},
			{"/breaks", func(r io.Reader) error { _, err := io.Copy(io.Discard, r); return err }, cause.Reset, size / 2},
			{"/whole", func(r io.Reader) error {
				time.Sleep(1500 * time.Millisecond)
				_, err := io.Copy(io.Discard, r)
				return err
			}, cause.ClientTimeout, 4 << 10},
			{"/whole", func(r io.Reader) error { _, err := io.CopyN(io.Discard, r, 1<<20); return err }, cause.ClientLeft, 1 << 20},
		} {
			conn, err := net.Dial("tcp", at)
			require.NoError(t, err)
			require.NoError(t, conn.(*net.TCPConn).SetReadBuffer(512<<10))
			_, err = io.WriteString(conn, "GET "+c.path+" HTTP/1.1\r\nHost: a\r\n\r\n")
			require.NoError(t, err)
			res, err := http.ReadResponse(bufio.NewReader(conn), nil)
			require.NoError(t, err)
			sum := sha256.New()
			err = c.client(io.TeeReader(res.Body, sum))
			if c.why == cause.None {
				assert.Equal(t, want[:], sum.Sum(nil), "%s, kernel %t", c.path, kernel)
				_, err := io.WriteString(conn, "GET /small HTTP/1.1\r\nHost: a\r\n\r\n") // the connections are as they should be
				require.NoError(t, err)
				res, err := http.ReadResponse(bufio.NewReader(conn), nil)
				if assert.NoError(t, err) {
					text, _ := io.ReadAll(res.Body)
					assert.Equal(t, "small", string(text))
				}
			} else if c.why != cause.ClientLeft {
				assert.Error(t, err, "%s: half an answer is no whole one", c.path)
			}
			conn.Close()
			var a accesslog.Line
			require.Eventually(t, func() bool {
				mu.Lock()
				defer mu.Unlock()
				for _, x := range lines {
					if x.Path == c.path {
						a = x
						return true
					}
				}
				return false
			}, 5*time.Second, time.Millisecond)
			assert.Equal(t, c.why, a.Cause, "%s, kernel %t", c.path, kernel)
			assert.GreaterOrEqual(t, a.Bytes, c.least, "%s, kernel %t", c.path, kernel)
			mu.Lock()
			lines = nil
			mu.Unlock()
		}
		if runtime.GOOS == "linux" {
			assert.Equal(t, kernel, most > before, "pipes are used")
		}
		assert.LessOrEqual(t, openPipes(), before, "and closed")
		_ = p.Stop()
	}
}

// sends answers on a connection: /whole with the body, /stops and /breaks with half of it.
func sends(c net.Conn, body []byte) {
	defer c.Close()
	r := bufio.NewReader(c)
	for {
		q, err := http.ReadRequest(r)
		if err != nil {
			return
		}
		out := body
		if q.URL.Path == "/small" {
			out = []byte("small")
		}
		head := fmt.Appendf(nil, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n", len(out))
		if q.URL.Path == "/whole" { // with its body, so that more of it than is looked at comes with the head
			_, _ = c.Write(append(head, out...))
			continue
		}
		_, _ = c.Write(head)
		switch q.URL.Path {
		case "/stops":
			_, _ = io.Copy(c, bytes.NewReader(out[:len(out)/2]))
			_, _ = io.Copy(io.Discard, r)
			return
		case "/breaks":
			_, _ = io.Copy(c, bytes.NewReader(out[:len(out)/2]))
			return
		}
		if _, err := io.Copy(c, bytes.NewReader(out)); err != nil {
			return
		}
	}
}
