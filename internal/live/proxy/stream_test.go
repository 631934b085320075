package proxy

import (
	"bufio"
	"context"
	"crypto/tls"
	"io"
	"net"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/pires/go-proxyproto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/live/wire"
)

const gate = `
frontend "gate" {
  listen   = "127.0.0.1:7000"
  protocol = "tcp"
  route "tickets" {
    when {
      sni = "*.tern.example"
    }
    send_to = upstream.tickets
  }
  route "rest" {
    send_to = upstream.rest
  }
}
upstream "tickets" {
  backends = { auk = "192.0.2.1:443" }
}
upstream "rest" {
  backends = { shag = "192.0.2.2:7", skua = "192.0.2.3:7" }
  retry {
    attempts = 2
  }
  timeouts {
    idle   = "30s"
    stream = "2m"
  }
}
`

// echo runs a backend that sends back what it is sent, after a greeting, and
// ends when its client does.
func (w *world) echo(address, greeting string) net.Listener {
	return w.raw(address, func(l *line) {
		_, _ = io.WriteString(l, greeting)
		_, _ = io.Copy(l, l.r)
		_, _ = io.WriteString(l, " bye")
	})
}

func (w *world) connect() net.Conn {
	c, err := w.net.dial(context.Background(), "tcp", "127.0.0.1:7000")
	require.NoError(w.t, err)
	return c
}

func TestTCPIsCarriedBothWaysToItsEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, gate)
		defer w.close()
		defer w.echo("192.0.2.3:7", "hello ").Close() // and nobody at 192.0.2.2
		for range 2 {
			c := w.connect()
			_, err := io.WriteString(c, "no TLS at all")
			require.NoError(t, err)
			require.NoError(t, wire.CloseWrite(c))
			all, err := io.ReadAll(c)
			require.NoError(t, err)
			assert.Equal(t, "hello no TLS at all bye", string(all), "what comes after the client's end still arrives")
			c.Close()
		}
		synctest.Wait()
		l := w.log()
		require.Len(t, l, 2)
		attempts := 0
		for _, a := range l {
			assert.Equal(t, "gate/rest rest.skua 23", a.Frontend+"/"+a.Route+" "+a.Upstream+"."+a.Backend+" "+itoa(a.Bytes))
			attempts += a.Attempts
		}
		assert.Equal(t, 3, attempts, "one of the two met the other first: a retry moves nobody's turn")

		began := time.Now()
		c := w.connect()
		_, err := io.WriteString(c, "x is no TLS")
		require.NoError(t, err)
		_, err = io.ReadAll(c)
		assert.NoError(t, err)
		assert.Equal(t, 30*time.Second, time.Since(began), "nothing moved")
		began = time.Now()
		c = w.connect()
		for err == nil {
			_, err = io.WriteString(c, "tick tock")
			time.Sleep(time.Second)
		}
		assert.Equal(t, 2*time.Minute, time.Since(began).Truncate(10*time.Second), "it moved, and lasted its time")
		synctest.Wait()
		l = w.log()
		assert.Equal(t, []cause.Cause{cause.IdleTimeout, cause.None}, []cause.Cause{l[2].Cause, l[3].Cause})
	})
}

func itoa(n int64) string { return time.Duration(n).String()[:len(time.Duration(n).String())-2] }

func TestTLSIsPassedOnUnopenedByItsName(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		has := files(t, "board.tern.example", "else.example")
		w := newWorld(t, gate)
		defer w.close()
		for address, name := range map[string]string{"192.0.2.1:443": "board.tern.example", "192.0.2.2:7": "else.example", "192.0.2.3:7": "else.example"} {
			l, err := w.net.listen("tcp", address)
			require.NoError(t, err)
			pair, err := tls.X509KeyPair(has[name+".pem"], has[name+".key"])
			require.NoError(t, err)
			s := tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{pair}})
			defer s.Close()
			go func() {
				for {
					c, err := s.Accept()
					if err != nil {
						return
					}
					_, _ = io.WriteString(c, "from "+name)
					c.Close()
				}
			}()
		}
		for _, name := range []string{"board.tern.example", "else.example"} {
			c := tls.Client(w.connect(), &tls.Config{ServerName: name, RootCAs: trusting(t, has[name+".pem"])})
			all, err := io.ReadAll(c)
			require.NoError(t, err, "the backend's own certificate is seen")
			assert.Equal(t, "from "+name, string(all))
			c.Close()
			synctest.Wait() // until its line is written
		}
		assert.Equal(t, []string{"tickets board.tern.example", "rest else.example"}, []string{w.log()[0].Route + " " + w.log()[0].Host, w.log()[1].Route + " " + w.log()[1].Host})
	})
}

func TestPROXYProtocolInAndOut(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		text := "trusted_proxies = \"203.0.113.0/24\"\n" + strings.Replace(gate, "  protocol = \"tcp\"", "  protocol = \"tcp\"\n  proxy_protocol = true", 1)
		text = strings.Replace(text, "  retry {", "  proxy_protocol = \"v2\"\n  retry {", 1)
		w := newWorld(t, text)
		defer w.close()
		seen := make(chan string, 10)
		for _, a := range []string{"192.0.2.2:7", "192.0.2.3:7"} {
			l, err := w.net.listen("tcp", a)
			require.NoError(t, err)
			defer l.Close()
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					r := bufio.NewReader(c)
					h, err := proxyproto.Read(r)
					if err != nil {
						seen <- err.Error()
					} else {
						rest, _ := io.ReadAll(r)
						seen <- h.SourceAddr.String() + " " + string(rest)
					}
					c.Close()
				}
			}()
		}
		for sent, want := range map[string]string{
			"PROXY TCP4 198.51.100.7 192.0.2.99 4711 7000\r\nhi":         "198.51.100.7:4711 hi",
			"PROXY TCP6 2001:db8::7 2001:db8::1 4711 7000\r\nhi":         "[2001:db8::7]:4711 hi",
			"\r\n\r\n\x00\r\nQUIT\n\x20\x00\x00\x00not named by anybody": "203.0.113.9:4",
		} {
			c := w.connect()
			_, err := io.WriteString(c, sent)
			require.NoError(t, err)
			require.NoError(t, wire.CloseWrite(c))
			assert.Contains(t, <-seen, want)
			c.Close()
		}
		c := w.connect()
		_, err := io.WriteString(c, "GET / HTTP/1.1\r\n\r\n")
		require.NoError(t, err)
		_, err = io.ReadAll(c)
		assert.NoError(t, err, "closed without an answer")
		news := w.news("127.0.0.1:7000")
		assert.Contains(t, news[len(news)-1].Text, "does not begin with a PROXY protocol header")
		require.NoError(t, w.proxy.Apply(parse(t, strings.Replace(text, "203.0.113.0/24", "192.0.2.0/24", 1))))
		c = w.connect()
		_, _ = io.WriteString(c, "PROXY TCP4 198.51.100.7 192.0.2.99 4711 7000\r\nhi")
		_, err = io.ReadAll(c)
		assert.NoError(t, err)
		synctest.Wait()
		news = w.news("127.0.0.1:7000")
		assert.Contains(t, news[len(news)-1].Text, "not one of trusted_proxies")
	})
}

func TestStoppingWaitsForConnectionsAndThenCutsThem(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, strings.Replace(gate, "idle   = \"30s\"", "idle = \"1h\"", 1))
		defer w.echo("192.0.2.2:7", "").Close()
		defer w.echo("192.0.2.3:7", "").Close()
		c := w.connect()
		_, err := io.WriteString(c, "x is no TLS")
		require.NoError(t, err)
		synctest.Wait()
		began := time.Now()
		assert.ErrorContains(t, w.proxy.Stop(), "were closed")
		assert.Equal(t, 5*time.Second, time.Since(began))
		_, err = io.ReadAll(c)
		assert.NoError(t, err)
	})
}

func TestStoppingEndsAWaitInTheQueue(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		text := strings.Replace(gate, `shag = "192.0.2.2:7", skua = "192.0.2.3:7"`, `shag = { address = "192.0.2.2:7", max_in_flight = 1 }`, 1)
		w := newWorld(t, strings.Replace(text, "  timeouts {\n", "  queue {\n    timeout = \"1h\"\n  }\n  timeouts {\n", 1))
		defer w.echo("192.0.2.2:7", "").Close()
		for range 2 {
			_, err := io.WriteString(w.connect(), "x is no TLS")
			require.NoError(t, err)
			synctest.Wait()
		}
		began := time.Now()
		assert.ErrorContains(t, w.proxy.Stop(), "were closed")
		assert.Equal(t, 5*time.Second, time.Since(began), "not the hour that it might have waited")
	})
}

func FuzzHelloName(f *testing.F) {
	f.Add([]byte("\x16\x03\x01\x00\x05\x01\x00\x00\x01\x00"))
	f.Add([]byte("GET / HTTP/1.1\r\n\r\n"))
	f.Fuzz(func(t *testing.T, sent []byte) {
		here, there := bufferedPipe(nil, nil)
		_, _ = here.Write(sent)
		_ = wire.CloseWrite(here)
		_, c := serverName(there, time.Minute)
		all, err := io.ReadAll(c)
		require.NoError(t, err)
		assert.Equal(t, string(sent), string(all), "whatever it was, it goes on as it came")
	})
}
