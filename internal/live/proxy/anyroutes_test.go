package proxy

import (
	"crypto/tls"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRoutesByAnyBlocks has routes of which one of several any blocks must fit, and a field that
// may have one of several values.
func TestRoutesByAnyBlocks(t *testing.T) {
	has := files(t, "a.example")
	route := func(name, block string) string {
		return "  route \"" + name + "\" {\n    when {\n      any {\n        path = \"/none\"\n      }\n      any {\n        " + block + "\n      }\n    }\n    send_to = upstream.app\n  }\n"
	}
	text := strings.Replace(app(""), "  route \"all\"", "  tls {\n    certificate = \"a.example.pem\"\n    key = \"a.example.key\"\n  }\n"+
		route("host", `host = "h.example"`)+route("path", `path = "/p"`)+route("method", `method = "PUT"`)+route("header", `header = { x-tool = ["b", "c"] }`)+route("query", `query = { q = "1" }`)+
		route("cookie", `cookie = { beta = "on" }`)+route("sni", `sni = "s.example"`)+route("client", `client = "0.0.0.0/0"`)+"  route \"all\"", 1)
	synctest.Test(t, func(t *testing.T) {
		w := withFiles(t, has, text)
		defer w.close()
		for _, a := range addresses() {
			w.start(a, nil)
		}
		for _, c := range []struct {
			want, method, url, name string
			field                   []string
		}{
			{"host", "GET", "https://h.example/", "a.example", nil}, {"path", "GET", "https://a.example/p", "a.example", nil}, {"method", "PUT", "https://a.example/", "a.example", nil},
			{"header", "GET", "https://a.example/", "a.example", []string{"X-Tool", "c"}}, {"client", "GET", "https://a.example/", "a.example", []string{"X-Tool", "d"}},
			{"query", "GET", "https://a.example/?q=1", "a.example", nil}, {"cookie", "GET", "https://a.example/", "a.example", []string{"Cookie", "beta=on"}},
			{"sni", "GET", "https://a.example/", "s.example", nil}, {"host", "GET", "https://a.example/none", "a.example", nil}, {"client", "GET", "https://a.example/", "a.example", nil},
		} {
			req, err := http.NewRequest(c.method, c.url, nil)
			require.NoError(t, err)
			req.Host, req.URL.Host = req.URL.Host, "127.0.0.1:8080"
			if c.field != nil {
				req.Header.Set(c.field[0], c.field[1])
			}
			tr := &http.Transport{DialContext: w.net.dial, TLSClientConfig: &tls.Config{ServerName: c.name, InsecureSkipVerify: true}}
			res, err := (&http.Client{Transport: tr}).Do(req)
			require.NoError(t, err)
			res.Body.Close()
			synctest.Wait()
			l := w.log()
			assert.Equal(t, c.want, l[len(l)-1].Route, "%+v", c)
			tr.CloseIdleConnections()
		}
	})
}
