package proxy

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log"
	"math/big"
	"net/http"
	"os"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// issue makes a certificate for names, and its key, as PEM. It is its own
// authority.
func issue(t *testing.T, names ...string) (certificate, key []byte) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: names[0]}, DNSNames: names, IsCA: true, BasicConstraintsValid: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(1000 * time.Hour),
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &k.PublicKey, k)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(k)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})
}

// files hands certificates and keys to a proxy: each name has NAME.pem and
// NAME.key.
func files(t *testing.T, names ...string) map[string][]byte {
	out := map[string][]byte{}
	for _, n := range names {
		out[n+".pem"], out[n+".key"] = issue(t, n)
	}
	return out
}

// withFiles serves a configuration that names files.
func withFiles(t *testing.T, has map[string][]byte, text string) *world {
	w := newWorld(t, "")
	w.proxy.o.ReadFile = func(name string) ([]byte, error) {
		if b, ok := has[name]; ok {
			return b, nil
		}
		return nil, os.ErrNotExist
	}
	require.NoError(t, w.proxy.Apply(parse(t, text)))
	return w
}

func trusting(t *testing.T, pems ...[]byte) *x509.CertPool {
	pool := x509.NewCertPool()
	for _, p := range pems {
		require.True(t, pool.AppendCertsFromPEM(p))
	}
	return pool
}

// in puts keys and blocks into the frontend of app.
func in(more, text string) string {
	return strings.Replace(text, "  listen = \"127.0.0.1:8080\"\n", "  listen = \"127.0.0.1:8080\"\n"+more+"\n", 1)
}

const one = "upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n}\n"

func TestWhoTheClientIsComesFromTrustedProxiesOnly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, c := range []struct{ trusted, said, client, proto string }{
			{`["203.0.113.9"]`, "198.51.100.7", "198.51.100.7", "https"},
			{`["192.0.2.0/24"]`, "198.51.100.7", "203.0.113.9", "http"},
		} {
			w := newWorld(t, "trusted_proxies = "+c.trusted+"\n"+front+one)
			w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
				_, _ = io.WriteString(out, r.Header.Get("X-Forwarded-For")+" "+r.Header.Get("X-Forwarded-Proto"))
			})
			req, _ := http.NewRequest("GET", base+"/", nil)
			req.Header.Set("X-Forwarded-For", c.said)
			req.Header.Set("X-Forwarded-Proto", "https")
			res, err := w.client.Do(req)
			require.NoError(t, err)
			body, _ := io.ReadAll(res.Body)
			want := "203.0.113.9 http"
			if c.client == c.said {
				want = "198.51.100.7, 203.0.113.9 https"
			}
			assert.Equal(t, want, string(body))
			synctest.Wait()
			assert.Equal(t, c.client, w.log()[0].Client)
			w.close()
		}
	})
}

func TestLimitsHoldClientsBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		route := strings.Replace(front, "send_to", "limits {\n rate = \"2/s\"\n burst = 3\n body_size = \"1KiB\"\n }\n send_to", 1)
		w := newWorld(t, in("limits {\n header_size = \"1KiB\"\n connections = 2\n}", route)+one)
		defer w.close()
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) { _, _ = io.Copy(out, r.Body) })
		var statuses []int
		for range 5 {
			status, _ := w.get(base + "/")
			statuses = append(statuses, status)
		}
		assert.Equal(t, []int{200, 200, 200, 429, 429}, statuses, "a burst of three")
		res, err := w.client.Get(base + "/")
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, "1", res.Header.Get("Retry-After"))
		time.Sleep(time.Minute)
		post := func(body io.Reader) int {
			res, err := w.client.Post(base+"/", "text/plain", body)
			require.NoError(t, err)
			defer res.Body.Close()
			return res.StatusCode
		}
		assert.Equal(t, 200, post(strings.NewReader(strings.Repeat("x", 1024))))
		assert.Equal(t, 413, post(strings.NewReader(strings.Repeat("x", 1025))), "told by its length")
		time.Sleep(time.Minute)
		assert.Equal(t, 413, post(struct{ io.Reader }{strings.NewReader(strings.Repeat("x", 5000))}), "found out while it was passed on")
		req, _ := http.NewRequest("GET", base+"/", nil)
		req.Header.Set("X-Large", strings.Repeat("x", 8000))
		res, err = w.client.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, 431, res.StatusCode)
		w.client.CloseIdleConnections()
		synctest.Wait()
		var open []io.Closer
		for range 3 {
			c, err := w.net.dial(t.Context(), "tcp", "127.0.0.1:8080")
			require.NoError(t, err)
			open = append(open, c)
			synctest.Wait()
		}
		_, err = open[2].(io.Reader).Read(make([]byte, 1))
		assert.Error(t, err, "a third connection is closed at once")
		open[0].Close()
		synctest.Wait()
		status, _ := w.get(base + "/")
		assert.Equal(t, 200, status, "there is room again")
		open[1].Close()
	})
}

func TestTimesOfARouteAndOfStreams(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		text := strings.Replace(front, "route \"all\"", "route \"slow\" {\n when {\n path = \"/slow\"\n }\n timeouts {\n answer = \"50s\"\n idle = \"2m\"\n stream = \"1m\"\n }\n send_to = upstream.app\n }\n  route \"all\"", 1)
		w := newWorld(t, text+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n timeouts {\n answer = \"10s\"\n idle = \"20s\"\n }\n}\n")
		defer w.close()
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
			wait, _ := time.ParseDuration(r.URL.Query().Get("wait"))
			if r.URL.Query().Has("stream") {
				out.Header().Set("Content-Type", "text/event-stream; charset=utf-8")
				for {
					if _, err := io.WriteString(out, "data: x\n\n"); err != nil || http.NewResponseController(out).Flush() != nil {
						return
					}
					select {
					case <-time.After(wait):
					case <-r.Context().Done():
						return
					}
				}
			}
			time.Sleep(wait)
			_, _ = io.WriteString(out, "ok")
		})
		for _, c := range []struct {
			path   string
			status int
			cause  string
			took   time.Duration
		}{
			{"/?wait=9s", 200, "", 9 * time.Second},
			{"/?wait=11s", 504, "answer_timeout", 10 * time.Second},
			{"/slow?wait=11s", 200, "", 11 * time.Second},
			{"/slow?wait=51s", 504, "answer_timeout", 50 * time.Second},
			{"/?stream&wait=30s", 200, "idle_timeout", 20 * time.Second},
			{"/slow?stream&wait=30s", 200, "", time.Minute},
		} {
			began := time.Now()
			status, body := w.get(base + c.path)
			assert.Equal(t, c.status, status, "%s: %s", c.path, body)
			assert.Equal(t, c.took, time.Since(began), c.path)
			synctest.Wait()
			l := w.log()
			assert.Equal(t, c.cause+" round-robin", l[len(l)-1].Cause.String()+" "+l[len(l)-1].Reason, c.path)
		}
	})
}

func TestTLSInFront(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		has := files(t, "tickets.tern.example", "board.tern.example", "crew.tern.example")
		settings := "tls {\n certificate = [\"tickets.tern.example.pem\", \"board.tern.example.pem\"]\n key = [\"tickets.tern.example.key\", \"board.tern.example.key\"]\n min_version = \"1.3\"\n%s\n}"
		w := withFiles(t, has, in(fmt.Sprintf(settings, ""), front)+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n sticky {\n by = \"cookie\"\n }\n}\n")
		defer w.close()
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
			_, _ = io.WriteString(out, r.Header.Get("X-Forwarded-Proto")+" "+r.Header.Get("Via"))
		})
		ask := func(name string, change func(*tls.Config)) (*http.Response, error) {
			c := &tls.Config{ServerName: name, RootCAs: trusting(t, has["tickets.tern.example.pem"], has["board.tern.example.pem"])}
			if change != nil {
				change(c)
			}
			tr := &http.Transport{DialContext: w.net.dial, TLSClientConfig: c, ForceAttemptHTTP2: true}
			defer tr.CloseIdleConnections()
			req, _ := http.NewRequest("GET", "https://127.0.0.1:8080/", nil)
			res, err := tr.RoundTrip(req)
			if err == nil {
				body, _ := io.ReadAll(res.Body)
				res.Header.Set("Body", string(body))
				res.Body.Close()
			}
			return res, err
		}
		for _, name := range []string{"tickets.tern.example", "board.tern.example"} {
			res, err := ask(name, nil)
			require.NoError(t, err, "each name has its certificate")
			assert.Equal(t, "https 2 kestrix", res.Header.Get("Body"))
			assert.Equal(t, 2, res.ProtoMajor)
			assert.Contains(t, res.Header.Get("Set-Cookie"), "; Secure")
		}
		_, err := ask("crew.tern.example", nil)
		assert.ErrorContains(t, err, "not crew.tern.example", "the first certificate is for everybody else")
		_, err = ask("board.tern.example", func(c *tls.Config) { c.MaxVersion = tls.VersionTLS12 })
		assert.ErrorContains(t, err, "protocol version")

		// A reload: clients must show a certificate, and HTTP/1.1 is all that is
		// offered.
		more := fmt.Sprintf(settings, " client_ca = \"crew.tern.example.pem\"\n alpn = [\"http/1.1\"]")
		require.NoError(t, w.proxy.Apply(parse(t, in(more, front)+one)))
		_, err = ask("board.tern.example", nil)
		assert.Error(t, err, "a certificate is required")
		crew, err := tls.X509KeyPair(has["crew.tern.example.pem"], has["crew.tern.example.key"])
		require.NoError(t, err)
		res, err := ask("board.tern.example", func(c *tls.Config) { c.Certificates = []tls.Certificate{crew} })
		require.NoError(t, err)
		assert.Equal(t, "https 1.1 kestrix", res.Header.Get("Body"))

		for _, c := range []struct{ from, to, err string }{
			{"board.tern.example.key\"]", "gone.key\"]", "the key gone.key cannot be read"},
			{"board.tern.example.key\"]", "tickets.tern.example.key\"]", "no certificate and key that belong together"},
			{"crew.tern.example.pem", "crew.tern.example.key", "holds no certificate in PEM form"},
		} {
			err := w.proxy.Apply(parse(t, in(strings.Replace(more, c.from, c.to, 1), front)+one))
			assert.ErrorContains(t, err, c.err)
			assert.ErrorContains(t, err, "t.hcl:", "the place stands before it")
		}
	})
}

func TestTLSWithBackends(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		has := files(t, "app.inside.example", "other.example")
		pair, err := tls.X509KeyPair(has["app.inside.example.pem"], has["app.inside.example.key"])
		require.NoError(t, err)
		for _, c := range []struct {
			settings string
			answered bool
			probe    string
		}{
			{"ca = \"app.inside.example.pem\"\n name = \"app.inside.example\"", true, "up"},
			{"ca = \"app.inside.example.pem\"", false, "down"},
			{"ca = \"other.example.pem\"\n name = \"app.inside.example\"", false, "down"},
			{"verify = false", true, "up"},
			{"verify = false\n min_version = \"1.3\"", false, "down"}, // the backend speaks no newer one than 1.2
			{"verify = false\n certificate = \"other.example.pem\"\n key = \"other.example.key\"", true, "up"},
		} {
			w := withFiles(t, has, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:443\" }\n when_all_down = \"try-anyway\"\n probe \"http\" {\n every = \"1s\"\n }\n tls {\n"+c.settings+"\n}\n}\n")
			l, err := w.net.listen("tcp", "192.0.2.1:443")
			require.NoError(t, err)
			s := &http.Server{ErrorLog: log.New(io.Discard, "", 0), Handler: http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(out, "safe") })}
			w.backends["tls"] = s
			go func() {
				_ = s.Serve(tls.NewListener(l, &tls.Config{
					MaxVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}, ClientAuth: tls.VerifyClientCertIfGiven, ClientCAs: trusting(t, has["other.example.pem"]),
					VerifyConnection: func(s tls.ConnectionState) error {
						if strings.Contains(c.settings, "other.example.key") && len(s.PeerCertificates) != 1 {
							return errors.New("no certificate of the proxy")
						}
						return nil
					},
				}))
			}()
			time.Sleep(10 * time.Second)
			status, body := w.get(base + "/")
			assert.Equal(t, c.answered, status == 200, "%s: %s", c.settings, body)
			if c.answered { // a reload that changes nothing of it keeps connections
				connections := func() int {
					w.net.mu.Lock()
					defer w.net.mu.Unlock()
					return w.net.listeners["192.0.2.1:443"].clients
				}
				before := connections()
				require.NoError(t, w.proxy.Refresh())
				status, _ = w.get(base + "/")
				assert.Equal(t, 200, status)
				assert.Equal(t, before, connections(), c.settings)
			}
			state := "up"
			if news := w.news("app.a"); len(news) > 0 {
				state = string(news[len(news)-1].Kind)
			}
			assert.Equal(t, c.probe, state, c.settings)
			w.close()
		}
	})
}
