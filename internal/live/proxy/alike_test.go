package proxy

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/sim"
	"kestrix/internal/core/study"
	"kestrix/internal/core/trace"
	"kestrix/internal/live/accesslog"
)

// TestServeWhyAndReplayRouteAlike: whatever paths, hosts, queries, fields and cookies
// are made of, the proxy, why, and the replay of the proxy's own record take a
// request by the same route, to the same backend of a hash.
func TestServeWhyAndReplayRouteAlike(t *testing.T) {
	const routes = `frontend "web" {
  listen = "127.0.0.1:8080"
  route "host" {
    when {
      host = ["board.tern.example", "[2001:db8::1]", "*.quay.example"]
    }
    send_to = upstream.app
  }
  route "path" {
    when {
      path = ["/café/**", "/a|b", "/admin/**", regexp("/x/[0-9]+")]
    }
    send_to = upstream.app
  }
  route "query" {
    when {
      query = { q = "a b" }
    }
    send_to = upstream.app
  }
  route "field" {
    when {
      header = { x-a = "1, 2" }
    }
    send_to = upstream.app
  }
  route "cookie" {
    when {
      cookie = { c = "v w" }
    }
    send_to = upstream.app
  }
  route "rest" {
    send_to = upstream.app
  }
}
upstream "app" {
  algorithm = "hash"
  hash {
    key = "path"
  }
  backends = {
    a = "192.0.2.1:80"
    b = "192.0.2.2:80"
    c = "192.0.2.3:80"
    d = "192.0.2.4:80"
  }
}
`
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, routes)
		defer w.close()
		for i := range 4 {
			w.start(fmt.Sprintf("192.0.2.%d:80", i+1), nil)
		}
		c := parse(t, routes)
		table := route.Compile(c.Frontends[0])
		r := rand.New(rand.NewPCG(7, 1))
		some := func(most int, of ...string) string {
			var b strings.Builder
			for range r.IntN(most + 1) {
				b.WriteString(of[r.IntN(len(of))])
			}
			return b.String()
		}
		seen := map[string]int{}
		for range 1500 {
			host := []string{"a", "Board.Tern.Example", "board.tern.example.:8080", "[2001:DB8::1]:80", "n.quay.example", "quay.example"}[r.IntN(6)]
			path := "/" + some(3, "admin", "a|b", "caf\xc3\xa9", "caf%c3%a9", "x/12", "/", "..", ".", ";", "%2F", "%61dmin", "%5c", "\\", "{id}", "^", "\"", "~", "%7E", "/../", "+", "*")
			query := some(3, "?", "q=a%20b", "q=a+b", "&", "q=", "x", "%zz", ";q=a+b")
			lines := some(2, "X-A: 1\r\nX-A: 2\r\n", "X-A: 1, 2\r\n", "x-a: 1\r\n", "Cookie: c=\"v w\"\r\n", "Cookie: c=v w; c=2\r\n", "Cookie: d=1; c=\"v w\"; e\r\n", "Cookie: c=1\r\n")
			if query != "" {
				query = "?" + query
			}
			l := w.call()
			l.say("GET " + path + query + " HTTP/1.1\r\nHost: " + host + "\r\n" + lines + "Connection: close\r\n\r\n")
			l.rest()
			l.Close()
			synctest.Wait()
			log := w.log()
			a := log[len(log)-1]
			seen[a.Route]++
			what := fmt.Sprintf("%q %q %q %q", host, path, query, lines)

			q := study.Question{Method: "GET", Host: host, Path: path, Query: strings.TrimPrefix(query, "?"), Client: a.Client, Headers: headersOf(lines), Port: 8080}
			answer, err := study.Why(c, q)
			require.NoError(t, err, what)
			assert.Equal(t, a.Route, answer.Route, "why: %s: %s", what, answer.Reason)
			assert.Equal(t, a.Backend, answer.Backend, "why: %s", what)

			if strings.Contains(query, "%zz") {
				assert.Contains(t, answer.Reason, "a broken escape; the answer is 400", what)
				continue // a log has no refusal to replay
			}

			rec := recordOf(&a, q.Headers)
			var asked route.Request
			ingest.Request(&rec, table.Asks|route.AskPath, "", &asked)
			asked.Unknown = 0
			i, _ := table.Match(&asked)
			name := ""
			if i >= 0 {
				name = c.Frontends[0].Routes[i].Name
			}
			assert.Equal(t, a.Route, name, "replay: %s", what)
		}
		for _, name := range []string{"host", "path", "query", "field", "cookie", "rest", ""} {
			assert.Greater(t, seen[name], 10, "of route %q", name)
		}
	})
}

// headersOf returns the header fields of some lines, by their names in lower case.
func headersOf(lines string) map[string][]string {
	out := map[string][]string{}
	for line := range strings.SplitSeq(strings.TrimSuffix(lines, "\r\n"), "\r\n") {
		if name, value, ok := strings.Cut(line, ":"); ok {
			name = strings.ToLower(name)
			out[name] = append(out[name], strings.TrimSpace(value))
		}
	}
	return out
}

// recordOf returns the record of a request with what some formats have beside: its
// header fields, and the cookies c and z.
func recordOf(a *accesslog.Line, headers map[string][]string) trace.Record {
	rec := a.Record()
	for name, values := range headers {
		for _, v := range values {
			rec.Headers = append(rec.Headers, trace.KV{Name: []byte(name), Value: []byte(v)})
		}
	}
	for _, name := range []string{"c", "z"} {
		if v, ok := request.Cookies(headers["cookie"])(name); ok {
			rec.Cookies = append(rec.Cookies, trace.KV{Name: []byte(name), Value: []byte(v)})
		}
	}
	return rec
}

// TestServeWhyAndReplayChooseAlike: by every algorithm, and every key of a hash and of a
// session, whatever the key is made of, the proxy and the replay of its record choose
// the same backend for the same reason. So does why, where the choice goes by the
// request alone.
func TestServeWhyAndReplayChooseAlike(t *testing.T) {
	hash := func(key, method string) string {
		return "algorithm = \"hash\"\nhash {\n key = \"" + strings.ReplaceAll(key, " ", "\"\n name = \"") + "\"\n method = \"" + method + "\"\n}"
	}
	variants := []string{
		"algorithm = \"round-robin\"", "algorithm = \"least-connections\"", "algorithm = \"random\"", "algorithm = \"two-choices\"", "algorithm = \"first-fit\"",
		"sticky {\n by = \"address\"\n}", "sticky {\n by = \"header\"\n name = \"X-Tenant\"\n}", "sticky {\n by = \"existing-cookie\"\n name = \"c\"\n}",
		hash("client", "ring") + "\nsticky {\n by = \"header\"\n name = \"X-Tenant\"\n}",
	}
	for _, key := range []string{"client", "client-prefix", "path", "header X-Tenant", "cookie c", "query q"} {
		for _, method := range []string{"ring", "rendezvous", "modulo"} {
			variants = append(variants, hash(key, method))
		}
	}
	if underRace {
		variants = variants[3:4] // see underRace
	}
	for _, variant := range variants {
		t.Run(strings.NewReplacer("\n", " ", "\"", "").Replace(variant), func(t *testing.T) {
			text := "trusted_proxies = [\"203.0.113.9\"]\n" + front + "upstream \"app\" {\n backends = {\n a = \"192.0.2.1:80\"\n b = { address = \"192.0.2.2:80\", weight = 3 }\n c = \"192.0.2.3:80\"\n d = \"192.0.2.4:80\"\n }\n" + variant + "\n}\n"
			c := parse(t, text)
			var log []byte
			var live []string
			synctest.Test(t, func(t *testing.T) {
				w := newWorld(t, text)
				defer w.close()
				for i := range 4 {
					w.start(fmt.Sprintf("192.0.2.%d:80", i+1), nil)
				}
				r := rand.New(rand.NewPCG(7, 2))
				one := func(of ...string) string { return of[r.IntN(len(of))] }
				for i := range 150 {
					if i > 0 { // the replay begins with the first request
						time.Sleep(time.Second)
					}
					path := "/" + one("", "a", "A", "%61", "caf%C3%A9", "caf\xc3\xa9", "a|b", "{id}", "a/./b", "a/../b", "a^b", "\"") + one("", "?q=1", "?q=a+b", "?q=a%20b&q=c", "?q=", "?Q=1", "?x&q=%C3%A9", "?q=\xc3\xa9")
					lines := "X-Forwarded-For: " + one("198.51.100.7", "198.51.100.8", "2001:DB8::7", "2001:db8:0:0::7", "2001:db8::8", "[2001:db8::7]:80", "::ffff:198.51.100.7") + "\r\n" +
						one("", "X-Tenant: north\r\n", "X-Tenant: North\r\n", "x-tenant:  north \r\n", "X-Tenant:\r\n", "X-Tenant: a\r\nX-Tenant: b\r\n", "X-Tenant: a, b\r\n", "X-Tenant: caf\xc3\xa9\r\n", "X-Tenant: \"a\\b\"\r\n") +
						"Cookie: z=0\r\n" + // with none at all a record does not say that there was none
						one("", "Cookie: c=1\r\n", "Cookie: c=\"1\"\r\n", "Cookie: d=2; c=1; c=3\r\n", "Cookie: c=\r\n", "Cookie: c\r\n", "Cookie: d=1\r\nCookie: c=1\r\n", "Cookie: C=1\r\n")
					l := w.call()
					l.say("GET " + path + " HTTP/1.1\r\nHost: a\r\n" + lines + "Connection: close\r\n\r\n")
					l.rest()
					l.Close()
					synctest.Wait()
					all := w.log()
					a := all[len(all)-1]
					require.Equal(t, 200, a.Status, "%q %q", path, lines)
					live = append(live, a.Backend+" "+a.Reason)
					headers := headersOf(lines)
					rec := recordOf(&a, headers)
					log = append(trace.AppendJSON(log, &rec), '\n')
					if strings.Contains(variant, "hash") && !strings.Contains(variant, "sticky") {
						asked, query, _ := strings.Cut(path, "?")
						answer, err := study.Why(c, study.Question{Method: "GET", Host: "a", Path: asked, Query: query, Client: a.Client, Headers: headers, Port: 8080})
						require.NoError(t, err)
						assert.Equal(t, a.Backend, answer.Backend, "why: %q %q", path, lines)
					}
				}
			})
			var replayed []string
			o := replay.Options{Seed: 7, Observe: func(d sim.Decision) { replayed = append(replayed, d.Backend+" "+d.Reason) }}
			_, err := replay.Run(t.Context(), c, scenario.None(), []ingest.Source{{Name: "t.jsonl", Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(log)), nil }}}, o)
			require.NoError(t, err)
			assert.Equal(t, live, replayed)
		})
	}
}
