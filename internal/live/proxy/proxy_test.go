package proxy

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/core/sticky"
	"kestrix/internal/core/study"
	"kestrix/internal/live/socket"
)

// front is a frontend for the upstream app.
const front = "frontend \"web\" {\n  listen = \"127.0.0.1:8080\"\n  route \"all\" {\n    send_to = upstream.app\n  }\n}\n"

const base = "http://127.0.0.1:8080"

func app(more string) string {
	return front + "upstream \"app\" {\n backends = {\n a = \"192.0.2.1:80\"\n b = \"192.0.2.2:80\"\n c = \"192.0.2.3:80\"\n}\n" + more + "\n}\n"
}

func addresses() []string { return []string{"192.0.2.1:80", "192.0.2.2:80", "192.0.2.3:80"} }

func TestRequestsAreSpreadAndLogged(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app(""))
		defer w.close()
		for _, a := range addresses() {
			w.start(a, nil)
		}
		counts := map[string]int{}
		for range 9 {
			status, body := w.get(base + "/seats?x=1")
			require.Equal(t, 200, status)
			counts[body]++
		}
		assert.Equal(t, map[string]int{"192.0.2.1:80": 3, "192.0.2.2:80": 3, "192.0.2.3:80": 3}, counts)
		synctest.Wait()
		l := w.log()
		require.Len(t, l, 9)
		assert.Equal(t, "203.0.113.9", l[0].Client)
		assert.Equal(t, "web/all app round-robin 1 200", fmt.Sprintf("%s/%s %s %s %d %d", l[0].Frontend, l[0].Route, l[0].Upstream, l[0].Reason, l[0].Attempts, l[0].Status))
		assert.Equal(t, "/seats?x=1", l[0].Path)
		assert.EqualValues(t, 12, l[0].Bytes)
	})
}

func TestFieldsOnTheirWay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n}\n")
		defer w.close()
		var got *http.Request
		var body string
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
			b, _ := io.ReadAll(r.Body)
			got, body = r, string(b)
			out.Header().Set("Connection", "X-Private")
			out.Header().Set("X-Private", "1")
			out.Header().Set("X-Public", "2")
			out.WriteHeader(http.StatusCreated)
			_, _ = io.WriteString(out, "made")
		})
		req, err := http.NewRequest("POST", base+"/a%2Fb/%C3%BC?q=1%202&", strings.NewReader("hello"))
		require.NoError(t, err)
		req.Host = "Tickets.Tern.example:8080"
		for name, value := range map[string]string{
			"Connection": "X-Hop, keep-alive", "X-Hop": "1", "Keep-Alive": "300", "TE": "gzip", "Proxy-Authorization": "secret", "Upgrade": "h2c",
			"X-Forwarded-For": "6.6.6.6", "Forwarded": "for=6.6.6.6", "X-Forwarded-Whatever": "x", "X-End-To-End": "yes", "Cookie": "a=b",
		} {
			req.Header.Set(name, value)
		}
		res, err := w.client.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		answer, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		assert.Equal(t, 201, res.StatusCode)
		assert.Equal(t, "made", string(answer))
		assert.Equal(t, "2", res.Header.Get("X-Public"))
		assert.Empty(t, res.Header.Get("X-Private"), "what Connection names is not passed on")
		assert.Equal(t, "1.1 kestrix", res.Header.Get("Via"))

		assert.Equal(t, "POST", got.Method)
		assert.Equal(t, "/a%2Fb/%C3%BC?q=1%202&", got.RequestURI, "the path goes on as it came")
		assert.Equal(t, "Tickets.Tern.example:8080", got.Host, "the host is kept")
		assert.Equal(t, "hello", body)
		assert.EqualValues(t, 5, got.ContentLength)
		assert.Equal(t, "yes", got.Header.Get("X-End-To-End"))
		for _, name := range []string{"X-Hop", "Keep-Alive", "Te", "Proxy-Authorization", "Upgrade", "X-Forwarded-Whatever", "Connection"} {
			assert.Empty(t, got.Header.Get(name), name)
		}
		assert.Equal(t, []string{"203.0.113.9"}, got.Header["X-Forwarded-For"], "what the client says of itself is replaced")
		assert.Equal(t, "http", got.Header.Get("X-Forwarded-Proto"))
		assert.Equal(t, `for=203.0.113.9;proto=http;host="Tickets.Tern.example:8080"`, got.Header.Get("Forwarded"))
		assert.Equal(t, "1.1 kestrix", got.Header.Get("Via"))

		said, err := study.Why(w.proxy.state.Load().config, study.Question{Method: "POST", Host: "Tickets.Tern.example:8080", Path: "/", Client: "203.0.113.9"})
		require.NoError(t, err)
		assert.NotEmpty(t, said.Passed.Own)
		for _, f := range said.Passed.Own {
			name, value, _ := strings.Cut(f, ": ")
			if value == "{request_id}" {
				synctest.Wait()
				value = w.log()[len(w.log())-1].RequestID
			}
			assert.Equal(t, value, got.Header.Get(name), "why predicts what the backend sees")
		}
	})
}

func TestForwardedIsWrittenByTheStandard(t *testing.T) {
	for _, c := range []struct{ from, host, scheme, chain, believed, for1, for2 string }{
		{"2001:db8::1", "a.example", "https", "", "", "2001:db8::1", `for="[2001:db8::1]";proto=https;host=a.example`},
		{"-", `odd"host`, "http", "", "", "unknown", `for=unknown;proto=http;host="odd\"host"`},
		{"192.0.2.1", "a", "http", "6.6.6.6", "", "192.0.2.1", `for=192.0.2.1;proto=http;host=a`},
		{"192.0.2.1", "a", "http", "6.6.6.6, 203.0.113.9", "x-forwarded-for", "6.6.6.6, 203.0.113.9, 192.0.2.1", `for=203.0.113.9;proto=http;host=a, for=192.0.2.1`},
		{"192.0.2.1", "a", "http", "for=203.0.113.9;host=b", "forwarded", "203.0.113.9, 192.0.2.1", `for=203.0.113.9;host=b, for=192.0.2.1`},
	} {
		h := http.Header{"X-Forwarded-For": {c.chain}, "Forwarded": {c.chain}}
		from := c.from + ":4711"
		if strings.Contains(c.from, "::") {
			from = "[" + c.from + "]:4711"
		}
		v := &clientConn{}
		v.peer, v.addr = socket.ClientAddress(from)
		x := &exchange{conn: v, entry: &entry{identity: &config.Identity{}}, route: &config.Route{}, r: &http.Request{Host: c.host, Header: h}}
		e := &entry{forward: c.believed}
		if c.believed != "" {
			e.trusted = []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}
		}
		x.who(e)
		x.scheme = c.scheme
		h = x.fields()
		assert.Equal(t, []string{c.for1, c.for2}, []string{h.Get("X-Forwarded-For"), h.Get("Forwarded")}, "%+v", c)
	}
	via := http.Header{"Via": {"1.0 first", "1.1 second"}}
	addVia(via, 2, 0)
	assert.Equal(t, []string{"1.0 first, 1.1 second, 2 kestrix"}, via["Via"])
}

func TestRoutesByQueryCookieAndHeader(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		route := func(name, when string) string {
			return "  route \"" + name + "\" {\n    when {\n      " + when + "\n    }\n    send_to = upstream.app\n  }\n"
		}
		text := strings.Replace(app(""), "  route \"all\"", route("finnish", `query = { lang = "fi" }`)+route("beta", `cookie = { beta = "on" }`)+
			route("json", `header = { accept = "*json*" }`)+route("seat", `path = regexp("/seats/[0-9]+")`)+route("tools", `header = { x-tool = "*" }`)+"  route \"all\"", 1)
		w := newWorld(t, text)
		defer w.close()
		for _, a := range addresses() {
			w.start(a, nil)
		}
		for _, c := range []struct{ path, header, value, want string }{
			{"/?lang=fi", "", "", "finnish"},
			{"/?lang=sv", "", "", "all"},
			{"/", "Cookie", "a=b; beta=on", "beta"},
			{"/", "Accept", "text/json", "json"},
			{"/seats/7", "", "", "seat"},
			{"/seats/x", "", "", "all"},
			{"/", "X-Tool", "", "tools"},
		} {
			req, err := http.NewRequest("GET", base+c.path, nil)
			require.NoError(t, err)
			if c.header != "" {
				req.Header[c.header] = []string{c.value}
			}
			res, err := w.client.Do(req)
			require.NoError(t, err)
			res.Body.Close()
			synctest.Wait()
			l := w.log()
			assert.Equal(t, c.want, l[len(l)-1].Route, "%s %s", c.path, c.value)
		}
	})
}

func TestRedirectsAndReplies(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		own := "  route \"old\" {\n    when {\n      path = \"/old/**\"\n    }\n    redirect {\n      to = \"https://{host}/new{path}\"\n      status = 307\n    }\n  }\n" +
			"  route \"closed\" {\n    when {\n      path = \"/closed\"\n    }\n    reply {\n      status = 503\n      body = \"back at noon\\n\"\n      content_type = \"text/html\"\n    }\n  }\n"
		w := newWorld(t, strings.Replace(app(""), "  route \"all\"", own+"  route \"all\"", 1))
		defer w.close()
		w.client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
		res, err := w.client.Get(base + "/old/a%2Fb?c=d")
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, 307, res.StatusCode)
		assert.Equal(t, "https://127.0.0.1/new/old/a%2Fb?c=d", res.Header.Get("Location"))
		res, err = w.client.Get(base + "/closed")
		require.NoError(t, err)
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, "503 text/html back at noon\n", fmt.Sprint(res.StatusCode, " ", res.Header.Get("Content-Type"), " ", string(body)))
		res, err = w.client.Head(base + "/closed")
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, 503, res.StatusCode)
		synctest.Wait()
		l := w.log()
		assert.Equal(t, []string{"redirect", "reply", "reply"}, []string{l[0].Reason, l[1].Reason, l[2].Reason})
		assert.EqualValues(t, 13, l[1].Bytes)
		assert.Zero(t, l[2].Bytes)
		assert.Empty(t, l[0].Backend)
	})
}

func TestPathsHostsAndFieldsAreRewrittenAndMappedBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		own := `    rewrite {
      drop_prefix = "/app"
      prepend     = "/v2"
      host        = "inside.example"
    }
    headers {
      request {
        set    = { "X-From" = "{client} by {route}" }
        remove = ["Cookie", "X-Forwarded-Host"]
      }
      answer {
        set    = { "Tern-Backend" = "{upstream}.{backend} {reason} {attempts}" }
        remove = ["Server"]
      }
    }
    send_to`
		w := newWorld(t, strings.Replace(app(""), "    send_to", own, 1))
		defer w.close()
		var got *http.Request
		for _, a := range addresses() {
			w.start(a, func(out http.ResponseWriter, r *http.Request) {
				got = r
				out.Header().Set("Location", "http://inside.example/v2/a%2Fb?c=d")
				out.Header().Add("Set-Cookie", "s=1; Path=/v2; Domain=inside.example")
				out.Header().Set("Server", "secret 1.0")
				out.WriteHeader(302)
			})
		}
		w.client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
		req, err := http.NewRequest("GET", base+"/app/x%2Fy?q=1", nil)
		require.NoError(t, err)
		req.Header.Set("Cookie", "a=b")
		res, err := w.client.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, "/v2/x%2Fy?q=1", got.RequestURI)
		assert.Equal(t, "inside.example", got.Host)
		assert.Equal(t, "203.0.113.9 by all", got.Header.Get("X-From"))
		assert.Empty(t, got.Header.Get("Cookie"))
		assert.Empty(t, got.Header.Get("X-Forwarded-Host"))
		assert.Equal(t, "203.0.113.9", got.Header.Get("X-Forwarded-For"))
		assert.Equal(t, "http://127.0.0.1:8080/app/a%2Fb?c=d", res.Header.Get("Location"))
		assert.Equal(t, "s=1; Path=/app", res.Header.Get("Set-Cookie"))
		assert.Regexp(t, `^app\.[abc] round-robin 1$`, res.Header.Get("Tern-Backend"))
		assert.Empty(t, res.Header.Get("Server"))
	})
}

// TestAnApplicationBehindAPrefix is told of it, gets no request for it without a / behind
// it, and redirects to https as it means to.
func TestAnApplicationBehindAPrefix(t *testing.T) {
	for more, want := range map[string][]string{
		"":                            {"308 /app/?a=b", "200 / /app", "302 https://127.0.0.1:8080/app/login|s=1; Path=/app", "200 /x /app", "404 "},
		"map_back = []\n":             {"308 /app/?a=b", "200 / /app", "302 https://127.0.0.1:8080/login|s=1; Path=/", "200 /x /app", "404 "},
		"map_back = [\"location\"]\n": {"308 /app/?a=b", "200 / /app", "302 https://127.0.0.1:8080/app/login|s=1; Path=/", "200 /x /app", "404 "},
		"bare_prefix = \"serve\"\n":   {"200 /?a=b /app", "200 / /app", "302 https://127.0.0.1:8080/app/login|s=1; Path=/app", "200 /x /app", "404 "},
	} {
		synctest.Test(t, func(t *testing.T) {
			w := newWorld(t, strings.Replace(front, "    send_to", "    when {\n path = [\"/app/**\"]\n}\n rewrite {\n drop_prefix = \"/app\"\n "+more+"}\n send_to", 1)+one)
			defer w.close()
			w.start(here, func(out http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/secure" {
					out.Header().Set("Location", "https://"+r.Host+"/login")
					out.Header().Set("Set-Cookie", "s=1; Path=/")
					out.WriteHeader(302)
					return
				}
				_, _ = io.WriteString(out, r.RequestURI+" "+strings.Join(r.Header["X-Forwarded-Prefix"], ","))
			})
			w.client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
			for i, path := range []string{"/app?a=b", "/app/", "/app/secure", "/%61pp/x", "/apple"} {
				req, err := http.NewRequest("GET", base+path, nil)
				require.NoError(t, err)
				req.Header.Set("X-Forwarded-Prefix", "/forged")
				res, err := w.client.Do(req)
				require.NoError(t, err)
				body, _ := io.ReadAll(res.Body)
				res.Body.Close()
				got := fmt.Sprint(res.StatusCode, " ", res.Header.Get("Location"))
				switch {
				case res.StatusCode == 200:
					got += string(body)
				case res.Header.Get("Set-Cookie") != "":
					got += "|" + res.Header.Get("Set-Cookie")
				}
				assert.Equal(t, want[i], got, "%q %s", more, path)
			}
		})
	}
}

func TestRetriesSendTheBodyAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app("algorithm = \"least-connections\"\nretry {\n attempts = 3\n on = [\"connect\", \"reset\", \"503\"]\n}"))
		defer w.close()
		var mu sync.Mutex
		bodies := map[string]int{}
		serve := func(address string) http.HandlerFunc {
			return func(out http.ResponseWriter, r *http.Request) {
				b, _ := io.ReadAll(r.Body)
				mu.Lock()
				bodies[string(b)]++
				mu.Unlock()
				if address != "192.0.2.3:80" {
					out.WriteHeader(503)
				}
				fmt.Fprintf(out, "%s %d", address, len(b))
			}
		}
		for _, a := range addresses() {
			w.start(a, serve(a))
		}
		put := func(method, body string) (int, string) {
			req, err := http.NewRequest(method, base+"/", strings.NewReader(body))
			require.NoError(t, err)
			res, err := w.client.Do(req)
			require.NoError(t, err)
			defer res.Body.Close()
			b, _ := io.ReadAll(res.Body)
			return res.StatusCode, string(b)
		}
		for range 6 {
			status, got := put("PUT", "small body")
			assert.Equal(t, 200, status)
			assert.Equal(t, "192.0.2.3:80 10", got, "repeated until one answers, with the whole body")
		}
		posts := map[int]int{}
		for range 6 {
			status, _ := put("POST", "small body")
			posts[status]++
		}
		assert.Positive(t, posts[503], "a POST that was answered with 503 is not repeated")
		large := strings.Repeat("x", keptBody+1)
		larges := map[int]int{}
		for range 6 {
			status, _ := put("PUT", large)
			larges[status]++
		}
		assert.Positive(t, larges[503], "what is too large to be kept cannot be repeated")
		assert.Positive(t, larges[200], "but is passed on")
		for _, a := range addresses()[:2] {
			w.kill(a)
		}
		synctest.Wait() // kept connections are known to be gone; a POST sent over one could not be repeated
		for range 6 {
			status, _ := put("POST", large)
			assert.Equal(t, 200, status, "connecting may be repeated for any method: nothing of the body was sent")
		}
		mu.Lock()
		defer mu.Unlock()
		assert.Len(t, bodies, 2, "every body begin_request whole")
	})
}

func TestAClientThatLeavesEndsItsRequest(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app("suspend {\n after = 1\n}"))
		defer w.close()
		ended := make(chan struct{}, 3)
		for _, a := range addresses() {
			w.start(a, func(out http.ResponseWriter, r *http.Request) {
				<-r.Context().Done()
				ended <- struct{}{}
			})
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		req, err := http.NewRequestWithContext(ctx, "GET", base+"/", nil)
		require.NoError(t, err)
		_, err = w.client.Do(req)
		require.ErrorIs(t, err, context.DeadlineExceeded)
		<-ended
		synctest.Wait()
		l := w.log()
		require.Len(t, l, 1)
		assert.Equal(t, cause.ClientLeft, l[0].Cause)
		assert.Zero(t, l[0].Status)
		for _, e := range w.events {
			assert.NotEqual(t, status.EventKind("suspended"), e.Kind, "it says nothing of the backend")
		}
	})
}

func TestStreamsAreFlushedAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, front+"upstream \"app\" {\n backends = { a = \"192.0.2.1:80\" }\n timeouts {\n answer = \"1s\"\n }\n}\n")
		defer w.close()
		w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
			out.Header().Set("Content-Type", "text/event-stream")
			for i := range 3 {
				fmt.Fprintf(out, "data: %d\n", i)
				_ = http.NewResponseController(out).Flush()
				time.Sleep(10 * time.Second)
			}
		})
		began := time.Now()
		res, err := w.client.Get(base + "/")
		require.NoError(t, err)
		defer res.Body.Close()
		lines := bufio.NewScanner(res.Body)
		for i := range 3 {
			require.True(t, lines.Scan())
			assert.Equal(t, fmt.Sprintf("data: %d", i), lines.Text())
			assert.Equal(t, time.Duration(i)*10*time.Second, time.Since(began), "as it comes, whatever the answer timeout")
		}
		assert.False(t, lines.Scan())
	})
}

func TestACookieKeepsItsBackend(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		text := app("retry {\n}\nsticky {\n by = \"cookie\"\n name = \"tern_seat\"\n ttl = \"1h\"\n secret = \"a long line that only proxies know\"\n}")
		w := newWorld(t, text)
		defer w.close()
		for _, a := range addresses() {
			w.start(a, nil)
		}
		jar := ""
		ask := func() (string, *http.Cookie) {
			req, err := http.NewRequest("GET", base+"/", nil)
			require.NoError(t, err)
			if jar != "" {
				req.Header.Set("Cookie", "other=1; tern_seat="+jar)
			}
			res, err := w.client.Do(req)
			require.NoError(t, err)
			defer res.Body.Close()
			b, _ := io.ReadAll(res.Body)
			for _, c := range res.Cookies() {
				jar = c.Value
				return string(b), c
			}
			return string(b), nil
		}
		first, cookie := ask()
		require.NotNil(t, cookie)
		assert.True(t, cookie.HttpOnly)
		assert.Equal(t, http.SameSiteLaxMode, cookie.SameSite)
		assert.Equal(t, 3600, cookie.MaxAge)
		assert.Equal(t, "/", cookie.Path)
		for range 5 {
			got, again := ask()
			assert.Equal(t, first, got)
			assert.Nil(t, again, "it is not given anew each time")
		}
		time.Sleep(20 * time.Minute)
		got, renewed := ask()
		assert.Equal(t, first, got)
		assert.NotNil(t, renewed, "renewed while the client keeps coming")
		// The seat holds for another proxy with the same secret, and after a
		// reload; a cookie that was changed is as none.
		require.NoError(t, w.proxy.Apply(parse(t, text)))
		got, _ = ask()
		assert.Equal(t, first, got)
		good := jar
		jar = strings.Repeat("A", len(good))
		_, cookie = ask()
		assert.NotNil(t, cookie)
		// The clock was put back since a seat was given: it holds. One that is
		// older than its ttl does not.
		name := map[string]string{"192.0.2.1:80": "a", "192.0.2.2:80": "b", "192.0.2.3:80": "c"}[first]
		for ahead, holds := range map[time.Duration]bool{2 * time.Hour: true, -2 * time.Hour: false} {
			for range 2 {
				jar = sticky.NewSealer([]byte("a long line that only proxies know")).Seal([sticky.NonceSize]byte{1}, "app", sticky.Ticket{
					Session: 7, Backend: sticky.BackendHash("app", name), Issued: time.Now().Add(ahead),
				})
				got, given := ask()
				assert.Equal(t, holds, given == nil, "issued %s ahead", ahead)
				assert.True(t, !holds || got == first)
			}
		}
		jar = good
		w.kill(first)
		moved, detour := ask()
		assert.NotEqual(t, first, moved)
		assert.Nil(t, detour, "a retry's detour does not move the session")
		synctest.Wait()
		l := w.log()
		assert.NotEmpty(t, l[0].Session)
		assert.Equal(t, l[0].Session, l[1].Session)
		assert.NotContains(t, good, l[0].Session)
		assert.Equal(t, "seat", l[1].Reason)
		assert.Equal(t, "retry", l[len(l)-1].Reason)
	})
}
