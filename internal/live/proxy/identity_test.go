package proxy

import (
	"fmt"
	"io"
	"net/http"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRequestsAreKnownByAnID: of the proxy's own making, or of a trusted proxy; backends and
// the log have the same one, and what is masked stands nowhere.
func TestRequestsAreKnownByAnID(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, c := range []struct {
			top, field, said string
			kept             bool
		}{
			{`trusted_proxies = ["203.0.113.9"]`, "X-Request-Id", "4bf92f35-77b3/x:1", true},
			{`trusted_proxies = ["203.0.113.9"]`, "X-Request-Id", `a"b`, false},
			{`trusted_proxies = ["203.0.113.9"]`, "X-Request-Id", "", false},
			{`trusted_proxies = ["192.0.2.0/24"]`, "X-Request-Id", "mine", false},
			{"trusted_proxies = [\"203.0.113.9\"]\nrequest_id_field = \"tern-request\"", "Tern-Request", "mine", true},
			{`request_id_field = ""`, "X-Request-Id", "passed-as-any-field", false},
		} {
			w := newWorld(t, "proxy_name = \"quay-1\"\nmask_query = [\"token\"]\n"+c.top+"\n"+front+one)
			w.start("192.0.2.1:80", func(out http.ResponseWriter, r *http.Request) {
				_, _ = io.WriteString(out, r.Header.Get(c.field)+" "+r.Header.Get("X_Request_Id")+" "+r.URL.RawQuery)
			})
			req, _ := http.NewRequest("GET", base+"/a?x=1&%74oken=s3cret&token=again", nil)
			req.Header.Set(c.field, c.said)
			req.Header["X_Request_Id"] = []string{"other"}
			req.Header.Set("Referer", "http://tern.example/?token=s3cret#top")
			res, err := w.client.Do(req)
			require.NoError(t, err)
			body, _ := io.ReadAll(res.Body)
			synctest.Wait()
			a := w.log()[0]
			id := a.RequestID
			if c.kept {
				assert.Equal(t, c.said, id)
			} else {
				assert.Regexp(t, `^[0-9a-f]{16}-1$`, id)
			}
			carried, other := id, ""
			switch c.top {
			case `request_id_field = ""`:
				carried, other = c.said, "other"
			case "trusted_proxies = [\"203.0.113.9\"]\nrequest_id_field = \"tern-request\"":
				other = "other"
			}
			assert.Equal(t, fmt.Sprintf("%s %s x=1&%%74oken=s3cret&token=again", carried, other), string(body), c.top)
			assert.Equal(t, "/a?x=1&%74oken=MASKED&token=MASKED", a.Path)
			assert.Equal(t, "http://tern.example/?token=MASKED#top", a.Referer)
			assert.Equal(t, []string{"quay-1", "192.0.2.1:80", "http", ""}, []string{a.Proxy, a.Address, a.Scheme, a.TLS})
			w.close()
		}
	})
}

// TestIDsAreOfOneProcess: another process, or another proxy, has others.
func TestIDsAreOfOneProcess(t *testing.T) {
	seen := map[string]bool{}
	for range 100 {
		r := newRequestIDs()
		for range 100 {
			seen[r.next()] = true
		}
	}
	assert.Len(t, seen, 100*100)
}
