package proxy

import (
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// These hold single keys to being obeyed live: each fails when its key is
// ignored.

func TestASlowRequestIsNotWaitedFor(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, secure := range []bool{false, true} {
			has, more := files(t, "a.example"), "timeouts {\n request_header = \"3s\"\n idle = \"7s\"\n}"
			if secure {
				more += "\ntls {\n certificate = \"a.example.pem\"\n key = \"a.example.key\"\n}"
			}
			w := withFiles(t, has, in(more, front)+one)
			w.start("192.0.2.1:80", nil)
			began := time.Now()
			c, err := w.net.dial(t.Context(), "tcp", "127.0.0.1:8080")
			require.NoError(t, err)
			if !secure {
				_, err = io.WriteString(c, "GET / HTTP/1.1\r\nHost: a")
				require.NoError(t, err)
			}
			_, _ = io.ReadAll(c)
			assert.Equal(t, 3*time.Second, time.Since(began), "TLS: %v", secure)
			if !secure {
				c, err = w.net.dial(t.Context(), "tcp", "127.0.0.1:8080")
				require.NoError(t, err)
				_, err = io.WriteString(c, "GET / HTTP/1.1\r\nHost: a\r\n\r\n")
				require.NoError(t, err)
				began = time.Now()
				_, _ = io.ReadAll(c)
				assert.Equal(t, 7*time.Second, time.Since(began), "a kept connection that asks for nothing more")
				l := w.call()
				l.say("GET / HTTP/1.1\r\nHost: a\r\n\r\n")
				l.head()
				began = time.Now()
				l.say("GET / HTTP/1.1\r\nHo")
				l.rest()
				assert.Equal(t, 3*time.Second, time.Since(began), "nor is the second of a connection")
			}
			w.close()
		}
	})
}

func TestConnectionsToBackendsAreKeptForTheirTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n timeouts {\n kept = \"4s\"\n }\n}\n")
		defer w.close()
		w.start("192.0.2.1:80", nil)
		connections := func() int {
			w.net.mu.Lock()
			defer w.net.mu.Unlock()
			return w.net.listeners["192.0.2.1:80"].clients
		}
		ask := func() int {
			status, _ := w.get(base + "/")
			require.Equal(t, 200, status)
			return connections()
		}
		assert.Equal(t, 1, ask())
		time.Sleep(3 * time.Second)
		assert.Equal(t, 1, ask())
		time.Sleep(5 * time.Second)
		assert.Equal(t, 2, ask(), "it was closed after its time")
		// A reload that only moves lines leaves it open.
		require.NoError(t, w.proxy.Apply(parse(t, "\n\n"+front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n\n timeouts {\n kept = \"4s\"\n }\n}\n")))
		assert.Equal(t, 2, ask())
	})
}

func TestWhatAProbeExpects(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for expect, state := range map[string]string{
			`{ status = "418" }`: "up", `{ status = ["200-299"] }`: "down", `{ status = "418", body = "*tide*" }`: "up", `{ status = "418", body = "*ebb*" }`: "down",
		} {
			w := newWorld(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n probe \"http\" {\n path = \"/ready\"\n every = \"1s\"\n expect = "+expect+"\n }\n}\n")
			w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) { http.Error(out, "high tide", http.StatusTeapot) })
			time.Sleep(5 * time.Second)
			got := "up"
			if news := w.news("app.a"); len(news) > 0 {
				got = string(news[len(news)-1].Kind)
			}
			assert.Equal(t, state, got, expect)
			w.close()
		}
	})
}

// TestWhatAProbeAsksWith: a method, a host and header fields of its own.
func TestWhatAProbeAsksWith(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for keys, want := range map[string]string{
			"":                                     "GET 192.0.2.1:80 \"\" kestrix-probe",
			"method = \"HEAD\"":                    "HEAD 192.0.2.1:80 \"\" kestrix-probe",
			"host = \"tickets.tern.example:8443\"": "GET tickets.tern.example:8443 \"\" kestrix-probe",
			"headers = { \"X-Probe\" = \"yes\", \"user-agent\" = \"tern\" }": "GET 192.0.2.1:80 \"yes\" tern",
		} {
			w := newWorld(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n probe \"http\" {\n path = \"/ready\"\n every = \"1s\"\n "+keys+"\n }\n}\n")
			got := make(chan string, 100)
			w.start("192.0.2.1:80", func(_ http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/ready" {
					got <- fmt.Sprintf("%s %s %q %s", r.Method, r.Host, r.Header.Get("X-Probe"), r.UserAgent())
				}
			})
			time.Sleep(3 * time.Second)
			assert.Equal(t, want, <-got, keys)
			w.close()
		}
	})
}

func TestForwardedIsBelievedWhereThatIsSaid(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for field, want := range map[string]string{"forwarded": "198.51.100.1", "x-forwarded-for": "198.51.100.2"} {
			w := newWorld(t, "trusted_proxies = \"203.0.113.9\"\nclient_from = \""+field+"\"\n"+front+one)
			w.start("192.0.2.1:80", nil)
			req, err := http.NewRequest("GET", base+"/", nil)
			require.NoError(t, err)
			req.Header.Set("Forwarded", "for=198.51.100.1")
			req.Header.Set("X-Forwarded-For", "198.51.100.2")
			res, err := w.client.Do(req)
			require.NoError(t, err)
			res.Body.Close()
			synctest.Wait()
			assert.Equal(t, want, w.log()[0].Client, field)
			w.close()
		}
	})
}

func TestARouteChangesWhatItSays(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		edits := "rewrite {\n substitute = { \"/seat/([0-9]+)\" = \"/seats/$1\" }\n}\nheaders {\n request {\n add = { \"X-Route\" = \"{route}\" }\n clients = [\"%[1]s\"]\n }\n answer {\n set = { \"Tern-Backend\" = \"{backend}\" }\n clients = [\"%[1]s\"]\n }\n}\nsend_to"
		for nets, served := range map[string]string{"203.0.113.0/24": "a", "10.0.0.0/8": ""} {
			w := newWorld(t, strings.Replace(front, "send_to", fmt.Sprintf(edits, nets), 1)+one)
			w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
				_, _ = io.WriteString(out, r.URL.Path+" "+r.Header.Get("X-Route"))
			})
			res, err := w.client.Get(base + "/seat/7")
			require.NoError(t, err)
			body, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			assert.Equal(t, map[string]string{"a": "/seats/7 all", "": "/seats/7 "}[served], string(body), nets)
			assert.Equal(t, served, res.Header.Get("Tern-Backend"), nets)
			w.close()
		}
	})
}

func TestTheBoundOfAHash(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for bound, most := range map[string]int{"": 9, " bound = 1\n": 3} {
			w := newWorld(t, app("algorithm = \"hash\"\nhash {\n key = \"header\"\n name = \"X-Tenant\"\n"+bound+"}"))
			counts := make(chan string, 9)
			for _, a := range addresses() {
				w.start(a, func(out http.ResponseWriter, r *http.Request) {
					counts <- a
					time.Sleep(time.Second)
				})
			}
			for range 9 {
				go func() {
					req, err := http.NewRequest("GET", base+"/", nil)
					assert.NoError(t, err)
					req.Header.Set("X-Tenant", "tern")
					if res, err := w.client.Do(req); assert.NoError(t, err) {
						res.Body.Close()
					}
				}()
			}
			got := map[string]int{}
			for range 9 {
				got[<-counts]++
			}
			fullest := 0
			for _, n := range got {
				fullest = max(fullest, n)
			}
			assert.Equal(t, most, fullest, "bound %q: %v", bound, got)
			time.Sleep(2 * time.Second)
			w.close()
		}
	})
}

func TestClientCertificatesAskedForAndControlOverTLS(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		has := files(t, "a.example", "crew.example", "stranger.example")
		pair := "certificate = \"a.example.pem\"\n key = \"a.example.key\"\n"
		text := in("tls {\n"+pair+"client_ca = \"crew.example.pem\"\n client_certificate = \"ask\"\n}", front) + one +
			"control {\n listen = \"127.0.0.1:9900\"\n tls {\n" + pair + "min_version = \"1.3\"\n }\n}\n"
		w := withFiles(t, has, text)
		defer w.close()
		w.start("192.0.2.1:80", nil)
		ask := func(at string, change func(*tls.Config)) int {
			c := &tls.Config{ServerName: "a.example", RootCAs: trusting(t, has["a.example.pem"])}
			if change != nil {
				change(c)
			}
			tr := &http.Transport{DialContext: w.net.dial, TLSClientConfig: c}
			defer tr.CloseIdleConnections()
			res, err := (&http.Client{Transport: tr}).Get("https://" + at)
			if err != nil {
				return 0
			}
			res.Body.Close()
			return res.StatusCode
		}
		show := func(name string) func(*tls.Config) {
			own, err := tls.X509KeyPair(has[name+".pem"], has[name+".key"])
			require.NoError(t, err)
			return func(c *tls.Config) {
				// Whatever authorities are asked for, this one is shown.
				c.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return &own, nil }
			}
		}
		assert.Equal(t, 200, ask("127.0.0.1:8080/", nil), "none is taken")
		assert.Equal(t, 200, ask("127.0.0.1:8080/", show("crew.example")))
		assert.Zero(t, ask("127.0.0.1:8080/", show("stranger.example")), "a wrong one is not")
		assert.Equal(t, 200, ask("127.0.0.1:9900/status", nil))
		assert.Zero(t, ask("127.0.0.1:9900/status", func(c *tls.Config) { c.MaxVersion = tls.VersionTLS12 }))
		status, _ := w.get("http://127.0.0.1:9900/status")
		assert.NotEqual(t, 200, status, "in clear text nothing is told")
	})
}
