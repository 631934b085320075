package proxy

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"kestrix/internal/core/status"
)

// TestRequestsThatFailedOrWereSlowAreKept with their attempts, the latest hundred of each
// route, also when counts begin anew.
func TestRequestsThatFailedOrWereSlowAreKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, "")
		w.proxy.o.Pages = plainPages{}
		require.NoError(t, w.proxy.Apply(parse(t, "mask_query = [\"token\"]\ncontrol {\n listen = \"127.0.0.1:9900\"\n slow_requests = \"150ms\"\n}\n"+front+`
upstream "app" {
  backends = { a = "192.0.2.1:80", b = "192.0.2.2:80" }
  retry {
    attempts = 2
    on       = ["connect", "503"]
  }
}
`)))
		defer w.close()
		handler := func(out http.ResponseWriter, r *http.Request) {
			switch r.URL.Path {
			case "/slow":
				time.Sleep(200 * time.Millisecond)
			case "/bad":
				out.WriteHeader(503)
			}
		}
		w.start("192.0.2.1:80", handler)
		ask := func(query string) status.Requests {
			res, err := w.client.Get("http://127.0.0.1:9900/requests?" + query)
			require.NoError(t, err)
			body, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			var x status.Requests
			require.NoError(t, json.Unmarshal(body, &x), string(body))
			return x
		}
		assert.Empty(t, ask("").Requests)
		w.get(base + "/fine")
		w.get(base + "/slow?token=s3cret")
		w.get(base + "/bad")
		synctest.Wait()
		all := ask("")
		require.Len(t, all.Requests, 2)
		bad, slow := all.Requests[0], all.Requests[1]
		assert.Equal(t, []any{100, 0.15, "/slow?token=MASKED", true, ""}, []any{all.Most, all.SlowFrom, slow.Path, slow.Slow, slow.Cause})
		assert.InDelta(t, 0.2, slow.Duration, 0.001)
		assert.False(t, bad.Slow)
		var tried []string
		for _, a := range bad.Attempts {
			tried = append(tried, fmt.Sprintf("%s %s %d %s", a.Backend, a.Address, a.Status, a.Cause))
		}
		assert.ElementsMatch(t, []string{"a 192.0.2.1:80 503 status_5xx", "b 192.0.2.2:80 0 refused"}, tried)

		for i := range 150 {
			w.get(base + fmt.Sprintf("/bad?n=%d", i))
		}
		w.proxy.Zero()
		synctest.Wait()
		assert.Len(t, ask("kind=failed").Requests, 100)
		assert.Equal(t, "/bad?n=149", ask("kind=failed&most=1").Requests[0].Path)
		assert.Len(t, ask("kind=slow").Requests, 1)
		assert.Len(t, ask("kind=slow&kind=failed").Requests, 101)
		assert.Empty(t, ask("kind=failed&route=other").Requests)
		assert.Empty(t, ask("cause=reset").Requests)
		one := ask("id=" + bad.RequestID)
		assert.Empty(t, one.Requests, "it is too old")
		slow.At = slow.At.UTC()
		assert.Equal(t, slow.RequestID, ask("id=" + slow.RequestID).Requests[0].RequestID)
		each := map[string]int{}
		for _, x := range w.proxy.kept.find(status.RequestQuery{PerCause: 3}) {
			each[x.Cause]++
		}
		assert.Equal(t, map[string]int{"refused": 3, "status_5xx": 3, "": 1}, each)
		for query, want := range map[string]string{
			"requests.html?route=web/all&kind=slow&cause=": `200 web all false true of []: 1`, "requests.html?kind=fast": "400 there is no kind",
			"events.html?since=1h&kind=listening&until=": "200 1h listening: 2, ", "events.html?since=noon": "200 noon : 0, since cannot be",
		} {
			res, err := w.client.Get("http://127.0.0.1:9900/" + query)
			require.NoError(t, err)
			body, _ := io.ReadAll(res.Body)
			assert.Contains(t, fmt.Sprintf("%d %s", res.StatusCode, body), want)
		}
		for query, why := range map[string]string{"kind=fast": "there is no kind of request", "most=-1": "most cannot be", "rout=x": "did you mean route?"} {
			res, err := w.client.Get("http://127.0.0.1:9900/requests?" + query)
			require.NoError(t, err)
			body, _ := io.ReadAll(res.Body)
			assert.Equal(t, 400, res.StatusCode)
			assert.Contains(t, string(body), why)
		}
	})
}

// TestReadersSeeNoQueries: what stands there may open a session.
func TestReadersSeeNoQueries(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hash, err := bcrypt.GenerateFromPassword([]byte("low tide"), bcrypt.MinCost)
		require.NoError(t, err)
		user := func(name, role string) string {
			return fmt.Sprintf("user %q {\n password = %q\n role = %q\n}\n", name, hash, role)
		}
		w := newWorld(t, "control {\n listen = \"127.0.0.1:9900\"\n"+user("tom", "reader")+user("ann", "operator")+"}\n"+front+one)
		defer w.close()
		w.get(base + "/pay?token=s3cret")
		synctest.Wait()
		for name, want := range map[string]string{"tom": "/pay?...", "ann": "/pay?token=s3cret"} {
			q, err := http.NewRequest("GET", "http://127.0.0.1:9900/requests", nil)
			require.NoError(t, err)
			q.SetBasicAuth(name, "low tide")
			res, err := w.client.Do(q)
			require.NoError(t, err)
			var x status.Requests
			require.NoError(t, json.NewDecoder(res.Body).Decode(&x))
			require.Len(t, x.Requests, 1, name)
			assert.Equal(t, want, x.Requests[0].Path)
		}
	})
}

// TestKeptRequestsAreBounded: an attacker's long texts are cut.
func TestKeptRequestsAreBounded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, "control {\n listen = \"127.0.0.1:9900\"\n}\n"+front+one)
		defer w.close()
		w.get(base + "/" + strings.Repeat("a", 5000))
		synctest.Wait()
		x := w.proxy.kept.find(status.RequestQuery{})
		require.Len(t, x, 1)
		assert.Len(t, x[0].Path, keptText)
	})
}
