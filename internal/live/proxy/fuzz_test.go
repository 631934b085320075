package proxy

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"testing"
	"testing/synctest"
	"time"

	"kestrix/internal/live/socket"
)

// FuzzRequest has a client send whatever it likes. What the backend gets are
// whole requests, everything is answered or closed, and nothing is left open.
func FuzzRequest(f *testing.F) {
	for _, s := range []string{
		"GET / HTTP/1.1\r\nHost: a\r\n\r\nGET /x HTTP/1.1\r\nHost: a\r\n\r\n",
		"POST /seats HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\nTrailer: A\r\n\r\n5\r\nhello\r\n0\r\nA: b\r\n\r\n",
		"PUT / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\nExpect: 100-continue\r\n\r\nhello",
		"GET / HTTP/1.1\r\nHost: a\r\nConnection: Upgrade, X\r\nUpgrade: websocket\r\nX: y\r\n\r\n\x81\x00",
		"OPTIONS * HTTP/1.1\r\nHost: a\r\nX-Forwarded-For: 1.2.3.4\r\nForwarded: for=\"[\"\r\n\r\n", "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n\x00\x00\x00\x04\x00\x00\x00\x00\x00",
	} {
		f.Add([]byte(s), uint8(20), true)
	}
	f.Fuzz(func(t *testing.T, b []byte, cut uint8, clear bool) {
		synctest.Test(t, func(t *testing.T) {
			text := front + one
			if clear {
				text = in("clear_http2 = true\nerrors {\n}", front) + "upstream \"app\" {\n backends = { a = \"" + here + "\" }\n retry {\n}\n sticky {\n by = \"cookie\"\n}\n}\n"
			}
			w := newWorld(t, text)
			w.start(here, func(out http.ResponseWriter, r *http.Request) {
				if _, err := io.Copy(io.Discard, r.Body); err == nil && len(r.Header["Via"]) != 1 {
					t.Errorf("a request that did not come through: %v", r)
				}
				fmt.Fprintln(out, r.URL)
			})
			c := w.call()
			k := min(int(cut), len(b))
			_, _ = c.Write(b[:k])
			time.Sleep(time.Second)
			_, _ = c.Write(b[k:])
			time.Sleep(time.Second)
			c.Close()
			time.Sleep(3 * time.Minute)
			if n := w.proxy.Status().Upstreams[0].Backends[0].InFlight; n != 0 {
				t.Errorf("%d requests are open", n)
			}
			w.close()
		})
	})
}

// FuzzProxyHeader has a peer begin a connection with whatever it likes:
// who is named has an address, and what follows is not lost.
func FuzzProxyHeader(f *testing.F) {
	f.Add([]byte("PROXY TCP4 203.0.113.9 192.0.2.1 4711 80\r\nhello"))
	f.Add([]byte("PROXY UNKNOWN\r\nhello"))
	f.Add(append([]byte("\r\n\r\n\x00\r\nQUIT\n\x21\x11\x00\x0c\xcb\x00\x71\x09\xc0\x00\x02\x01\x12\x67\x00\x50"), "hello"...))
	peer := net.TCPAddrFromAddrPort(netip.MustParseAddrPort("192.0.2.7:1"))
	f.Fuzz(func(t *testing.T, b []byte) {
		ours, theirs := bufferedPipe(nil, peer)
		_, _ = theirs.Write(b)
		theirs.Close()
		c, err := socket.ReadProxyHeader(ours, time.Minute)
		if err != nil {
			return
		}
		if host, ip := socket.ClientAddress(c.RemoteAddr().String()); !ip.IsValid() {
			t.Fatalf("%q names %q", b, host)
		}
		rest, err := io.ReadAll(c)
		if err != nil || !bytes.HasSuffix(b, rest) {
			t.Fatalf("%q leaves %q, %v", b, rest, err)
		}
	})
}
