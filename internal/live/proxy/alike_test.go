package proxy

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/replay"
	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
	"kestrix/internal/core/study"
	"kestrix/internal/core/trace"
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

			q := study.Question{Method: "GET", Host: host, Path: path, Query: strings.TrimPrefix(query, "?"), Client: a.Client, Headers: map[string][]string{}, Port: 8080}
			for line := range strings.SplitSeq(strings.TrimSuffix(lines, "\r\n"), "\r\n") {
				if name, value, ok := strings.Cut(line, ": "); ok {
					q.Headers[strings.ToLower(name)] = append(q.Headers[strings.ToLower(name)], value)
				}
			}
			answer, err := study.Why(c, q)
			require.NoError(t, err, what)
			assert.Equal(t, a.Route, answer.Route, "why: %s: %s", what, answer.Reason)
			assert.Equal(t, a.Backend, answer.Backend, "why: %s", what)

			if strings.Contains(query, "%zz") {
				assert.Contains(t, answer.Reason, "a broken escape; the answer is 400", what)
				continue // a log has no refusal to replay
			}

			// What a record has: fields and cookies stand in those formats that have them.
			rec := a.record()
			for name, values := range q.Headers {
				for _, v := range values {
					rec.Headers = append(rec.Headers, trace.KV{Name: []byte(name), Value: []byte(v)})
				}
			}
			if v, ok := request.Cookies(q.Headers["cookie"])("c"); ok {
				rec.Cookies = append(rec.Cookies, trace.KV{Name: []byte("c"), Value: []byte(v)})
			}
			var asked route.Request
			replay.Request(&rec, table.Asks|route.AskPath, "", &asked)
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
