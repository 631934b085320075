package proxy

import (
	"encoding/json"
	"io"
	"math"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"kestrix/internal/core/status"
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
		host, origin := "", ""
		ask := func(method, at, who, body string) (int, string) {
			req, err := http.NewRequest(method, "http://"+at, strings.NewReader(body))
			require.NoError(t, err)
			if origin != "" {
				req.Header.Set("Origin", origin)
			}
			req.Host = host
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
			assert.Contains(t, res.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'")
			assert.Equal(t, "DENY nosniff no-store", res.Header.Get("X-Frame-Options")+" "+res.Header.Get("X-Content-Type-Options")+" "+res.Header.Get("Cache-Control"))
			return res.StatusCode, string(b)
		}
		state := func(text string) string {
			var s status.Status
			require.NoError(t, json.Unmarshal([]byte(text), &s), text)
			return s.Upstreams[0].Backends[0].State
		}
		after := func(text string) string {
			var x status.Told
			require.NoError(t, json.Unmarshal([]byte(text), &x), text)
			return x.Orders[0].After
		}
		status, text := ask("GET", "127.0.0.1:9900/status", "", "")
		assert.Equal(t, []any{200, "up"}, []any{status, state(text)}, "without users a loopback address answers")
		host = "harbour.example"
		status, _ = ask("GET", "127.0.0.1:9900/status", "", "")
		assert.Equal(t, 403, status, "nor a name that somebody lets lead here")
		host, origin = "", "http://elsewhere.example"
		status, _ = ask("GET", "127.0.0.1:9900/status", "", "")
		assert.Equal(t, 403, status, "nor for a page of another site")
		origin = "http://127.0.0.1:9900"
		status, _ = ask("GET", "127.0.0.1:9900/status", "", "")
		assert.Equal(t, 200, status)
		origin = ""
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
			{"POST", "/operate", "mary:north sea", `{"backend":"app.a","do":"park","seen":"weight 3"}`, 412},
			{"POST", "/operate", "mary:north sea", `{"backend":"app.a","do":"park"} {"backend":"app.b","do":"park"}`, 400},
			{"POST", "/operate", "mary:north sea", `{"backend":"app.a","do":"park","for":NaN}`, 400},
			{"POST", "/operate", "mary:north sea", `{"backend":"app.a","do":"park","for":"1e-12"}`, 400},
			{"POST", "/operate", "mary:north sea", `{"backend":"` + strings.Repeat("a", 10_000) + `","do":"park"}`, 400},
			{"POST", "/zero", "mary:north sea", strings.Repeat(" ", 10_000) + "{}", 400},
			{"POST", "/zero", "mary:north sea", "{}{}", 400},
			{"GET", "/events", "", "", 401},
			{"GET", "/events", "tom:low tide", "", 200},
			{"GET", "/events?after=x", "tom:low tide", "", 400},
			{"GET", "/events?most=-1", "tom:low tide", "", 400},
			{"GET", "/events?" + strings.Repeat("object=a&", 101), "tom:low tide", "", 400},
			{"GET", "/configuration", "tom:low tide", "", 403},
			{"GET", "/configuration", "mary:north sea", "", 200},
			{"POST", "/configuration", "mary:north sea", "{}", 405},
			{"GET", "/", "", "", 401},
			{"GET", "/live", "", "", 401},
			{"GET", "/", "tom:low tide", "", 404}, // this one has no page
			{"GET", "/page.js", "", "", 401},
			{"POST", "/", "mary:north sea", "{}", 405},
			{"DELETE", "/status", "mary:north sea", "", 405},
			{"GET", "/elsewhere", "mary:north sea", "", 404},
			{"GET", "/zero", "mary:north sea", "", 405},
			{"GET", "/reload", "mary:north sea", "", 405},
			{"POST", "/zero", "mary:north sea", "", 415},
			{"POST", "/reload", "mary:north sea", "", 415},
			{"POST", "/zero", "tom:low tide", "{}", 403},
			{"POST", "/reload", "tom:low tide", "{}", 403},
			{"POST", "/metrics", "mary:north sea", "{}", 405},
			{"GET", "/metrics", "", "", 401},
			{"GET", "/metrics", "tom:low tide", "", 200},
			{"GET", "/alive", "", "", 200},
			{"POST", "/alive", "", "{}", 401},
		} {
			status, text := ask(c.method, "192.0.2.99:9900"+c.path, c.who, c.body)
			assert.Equal(t, c.status, status, "%+v: %s", c, text)
			assert.NotContains(t, text, "$2a$")
		}
		status, text = ask("POST", "192.0.2.99:9900/operate", "mary:north sea", `{"backend":"app.a","do":"drain"}`)
		assert.Equal(t, []any{200, "draining, weight 1"}, []any{status, after(text)})
		status, text = ask("POST", "192.0.2.99:9900/operate", "mary:north sea", `{"backend":"app.a","do":"return"}`)
		assert.Equal(t, []any{200, "up, weight 1"}, []any{status, after(text)})
		time.Sleep(61 * time.Second)
		refused := w.news("control")
		if assert.Len(t, refused, 6, "five refusals, and how many more there were") {
			assert.Equal(t, "10 more refused requests in the last minute", refused[5].Text)
		}
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

func TestWhatOperatorsTell(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app(""))
		defer w.close()
		for _, a := range addresses() {
			w.start(a, nil)
		}
		for range 30 {
			w.get(base + "/")
		}
		ten, other := 10, "draining"
		tell := func(o status.Order) string {
			told, err := w.proxy.Operate(o, "mary")
			if err != nil {
				return err.Error()
			}
			return told.Orders[0].Before + " -> " + told.Orders[0].After
		}
		assert.Equal(t, "up, weight 1 -> draining, weight 1", tell(status.Order{Backend: "app.a", Do: "drain", For: 600}))
		assert.Equal(t, "up, weight 1 -> up, weight 10", tell(status.Order{Backend: "app.b", Do: "weight", Weight: &ten, For: 60}))
		b := w.proxy.Status().Upstreams[0].Backends
		assert.Equal(t, []any{"draining", "drained by hand", 600.0, "weight 10 where the file says 1"}, []any{b[0].State, b[0].Why, time.Until(*b[0].Until).Seconds(), b[1].ByHand})
		assert.Equal(t, []uint64{10, 10, 10}, []uint64{b[0].Requests, b[1].Statuses[1], b[2].Bytes / 12})
		assert.InDelta(t, 1.0/3, b[0].Share, 1e-9)
		time.Sleep(5 * time.Minute)
		b = w.proxy.Status().Upstreams[0].Backends
		assert.Equal(t, []any{"draining", 1, (*time.Time)(nil)}, []any{b[0].State, b[1].Weight, b[1].Until})
		time.Sleep(6 * time.Minute)
		assert.Equal(t, "up", w.proxy.Status().Upstreams[0].Backends[0].State, "it is over by itself")
		// The last one is not taken out without being asked twice, and what
		// cannot be done changes nothing.
		tell(status.Order{Backend: "app.a", Do: "park", For: 60})
		assert.Equal(t, "parked, weight 1 -> parked, weight 1", tell(status.Order{Backend: "a", Do: "park"}), "without an end now, by the name that only one backend has")
		tell(status.Order{Backend: "app.b", Do: "park"})
		time.Sleep(2 * time.Minute)
		for o, want := range map[status.Order]string{
			{Backend: "app.c", Do: "drain"}:                  `app.c is the last of "app" in rotation; without it no backend answers`,
			{Backend: "app.d", Do: "drain"}:                  `the upstream "app" has no backend "d"; did you mean app.a?`,
			{Backend: "zz", Do: "drain"}:                     `there is no upstream "zz"; status lists the backends`,
			{Backend: "app.c", Do: "parc"}:                   `"parc" cannot be done; did you mean park?`,
			{Backend: "app.c", Do: "return", For: 60}:        "only park, drain and weight last for a time",
			{Backend: "app.c", Do: "drain", For: 1e-12}:      "a time of 1e-12 s cannot be set; it is from 1 s to 30 days, and without one an order lasts",
			{Backend: "app.c", Do: "drain", For: -1}:         "a time of -1 s cannot be set; it is from 1 s to 30 days, and without one an order lasts",
			{Backend: "app.c", Do: "drain", For: 1e300}:      "a time of 1e+300 s cannot be set; it is from 1 s to 30 days, and without one an order lasts",
			{Backend: "app.c", Do: "drain", For: math.NaN()}: "a time of NaN s cannot be set; it is from 1 s to 30 days, and without one an order lasts",
			{Backend: "app.c", Do: "drain", Seen: &other}:    "app.c was changed in the meantime; it is as the file says. Nothing was done",
			{Backend: "app.c", Do: "weight"}:                 "a weight from 0 to 10000 is missing",
		} {
			assert.Equal(t, want, tell(o))
		}
		b = w.proxy.Status().Upstreams[0].Backends
		assert.Equal(t, []string{"parked", "parked", "up"}, []string{b[0].State, b[1].State, b[2].State})
		assert.Equal(t, "up, weight 1 -> parked, weight 1", tell(status.Order{Backend: "app.c", Do: "park", Insist: true}))
		w.proxy.Zero()
		assert.Zero(t, w.proxy.Status().Upstreams[0].Backends[0].Requests)
		assert.Equal(t, "order park, by mary; now parked, weight 1; before: up, weight 1", func() string { n := w.news("app.c"); e := n[len(n)-1]; return string(e.Kind) + " " + e.Text }())
	})
}

// TestMetricsAreCleanUnderLoad reads them with a strict parser while requests go
// on, and holds them to what happened.
func TestMetricsAreCleanUnderLoad(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, "control {\n listen = \"127.0.0.1:9900\"\n}\n"+app("probe \"http\" {\n every = \"1s\"\n}"))
		defer w.close()
		for i, a := range addresses() {
			w.start(a, func(out http.ResponseWriter, r *http.Request) {
				if r.URL.Path != "/" {
					time.Sleep(time.Duration(20*(i+1)) * time.Millisecond)
				}
				if i == 2 && r.URL.Path == "/seats" {
					out.WriteHeader(http.StatusInternalServerError)
				}
			})
		}
		scrape := func() map[string]*dto.MetricFamily {
			res, err := w.client.Get("http://127.0.0.1:9900/metrics")
			require.NoError(t, err)
			defer res.Body.Close()
			p := expfmt.NewTextParser(model.LegacyValidation)
			all, err := p.TextToMetricFamilies(res.Body)
			require.NoError(t, err)
			return all
		}
		go func() {
			for range 20 {
				scrape()
				time.Sleep(37 * time.Millisecond)
			}
		}()
		for range 30 {
			w.get(base + "/seats")
		}
		time.Sleep(time.Second)
		all := scrape()
		of := func(name, backend string, more ...string) *dto.Metric {
			for _, m := range all[name].GetMetric() {
				labels := map[string]string{}
				for _, l := range m.GetLabel() {
					labels[l.GetName()] = l.GetValue()
				}
				if labels["backend"] == backend && (len(more) == 0 || labels[more[0]] == more[1]) {
					return m
				}
			}
			require.Fail(t, "not told", "%s of %s %v", name, backend, more)
			return nil
		}
		assert.Equal(t, 10.0, of("kestrix_backend_requests_total", "a").GetCounter().GetValue())
		assert.Equal(t, 10.0, of("kestrix_backend_responses_total", "c", "status", "5xx").GetCounter().GetValue())
		assert.Equal(t, 10.0, of("kestrix_backend_failed_requests_total", "c").GetCounter().GetValue())
		assert.Equal(t, 1.0, of("kestrix_backend_state", "a", "state", "up").GetGauge().GetValue())
		assert.Equal(t, 0.0, of("kestrix_backend_state", "a", "state", "down").GetGauge().GetValue())
		h := of("kestrix_backend_first_byte_seconds", "b").GetHistogram()
		assert.EqualValues(t, 10, h.GetSampleCount())
		assert.InDelta(t, 0.4, h.GetSampleSum(), 0.01)
		for _, b := range h.GetBucket() {
			assert.Equal(t, b.GetUpperBound() >= 0.05, b.GetCumulativeCount() == 10, "40 ms and %v", b)
		}
		assert.Len(t, all["kestrix_info"].GetMetric(), 1)
		for path, want := range map[string]int{"/alive": 200, "/ready": 200} {
			status, _ := w.get("http://127.0.0.1:9900" + path)
			assert.Equal(t, want, status)
		}
	})
}
