package proxy

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"
)

func TestControlIsClosedToStrangers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hash := func(password string) string {
			h, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.MinCost)
			require.NoError(t, err)
			return string(h)
		}
		users := "user \"mary\" {\n password = \"" + hash("north sea") + "\"\n role = \"operator\"\n}\nuser \"tom\" {\n password = \"" + hash("low tide") + "\"\n}\n"
		with := func(listen, more string) string {
			return "control {\n listen = \"" + listen + "\"\n" + more + "}\n" + app("")
		}
		w := newWorld(t, with("127.0.0.1:9900", ""))
		defer w.close()
		ask := func(method, at, who, body string) (int, string) {
			req, err := http.NewRequest(method, "http://"+at, strings.NewReader(body))
			require.NoError(t, err)
			if name, password, ok := strings.Cut(who, ":"); ok {
				req.SetBasicAuth(name, password)
			}
			if body != "" {
				req.Header.Set("Content-Type", "application/json")
			}
			res, err := w.client.Do(req)
			require.NoError(t, err)
			defer res.Body.Close()
			b, _ := io.ReadAll(res.Body)
			return res.StatusCode, string(b)
		}
		state := func(text string) string {
			var s Status
			require.NoError(t, json.Unmarshal([]byte(text), &s), text)
			return s.Upstreams[0].Backends[0].State
		}
		status, text := ask("GET", "127.0.0.1:9900/status", "", "")
		assert.Equal(t, []any{200, "up"}, []any{status, state(text)}, "without users a loopback address answers")
		require.NoError(t, w.proxy.Apply(parse(t, with("192.0.2.99:9900", ""))))
		status, _ = ask("GET", "192.0.2.99:9900/status", "", "")
		assert.Equal(t, 403, status, "and any other does not")
		require.NoError(t, w.proxy.Apply(parse(t, with("192.0.2.99:9900", users))))
		for _, c := range []struct {
			method, path, who, body string
			status                  int
		}{
			{"GET", "/status", "", "", 401},
			{"GET", "/status", "mary:wrong", "", 401},
			{"GET", "/status", "nobody:north sea", "", 401},
			{"GET", "/status", "tom:low tide", "", 200},
			{"POST", "/operate", "tom:low tide", `{"backend":"app.a","do":"park"}`, 403},
			{"GET", "/operate", "mary:north sea", "", 405},
			{"POST", "/operate", "mary:north sea", "", 415},
			{"POST", "/operate", "mary:north sea", `{"backend":"app.a","do":"park","x":1}`, 400},
			{"POST", "/operate", "mary:north sea", `{"backend":"app.z","do":"park"}`, 400},
			{"POST", "/operate", "mary:north sea", `{"backend":"z","do":"park"}`, 400},
			{"POST", "/operate", "mary:north sea", `{"backend":"app.a","do":"sink"}`, 400},
			{"POST", "/operate", "mary:north sea", `{"backend":"app.a","do":"weight"}`, 400},
			{"POST", "/operate", "mary:north sea", `{"backend":"app.a","do":"weight","weight":-1}`, 400},
			{"GET", "/elsewhere", "mary:north sea", "", 404},
		} {
			status, text := ask(c.method, "192.0.2.99:9900"+c.path, c.who, c.body)
			assert.Equal(t, c.status, status, "%+v: %s", c, text)
			assert.NotContains(t, text, "$2a$")
		}
		status, text = ask("POST", "192.0.2.99:9900/operate", "mary:north sea", `{"backend":"app.a","do":"drain"}`)
		assert.Equal(t, []any{200, "draining"}, []any{status, state(text)})
		status, text = ask("POST", "192.0.2.99:9900/operate", "mary:north sea", `{"backend":"app.a","do":"return"}`)
		assert.Equal(t, []any{200, "up"}, []any{status, state(text)})
		synctest.Wait()
		refused := w.news("control")
		assert.Len(t, refused, 5, "each refusal is told")
		for _, r := range refused {
			assert.NotContains(t, r.Text, "north sea")
		}
		for range 30 {
			status, _ = ask("GET", "192.0.2.99:9900/status", "mary:guess", "")
		}
		assert.Equal(t, 429, status)
		status, _ = ask("GET", "192.0.2.99:9900/status", "mary:north sea", "")
		assert.Equal(t, 200, status, "who was let in before is not kept out by somebody's guesses")
		time.Sleep(2 * time.Minute)
		status, _ = ask("GET", "192.0.2.99:9900/status", "mary:guess", "")
		assert.Equal(t, 401, status)
		require.NoError(t, w.proxy.Apply(parse(t, app(""))))
		_, err := w.net.dial(t.Context(), "tcp", "192.0.2.99:9900")
		assert.Error(t, err, "control is gone with its block")
	})
}
