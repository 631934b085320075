package study

import (
	"fmt"
	"io"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/region"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/sim"
)

// randomConfig makes a frontend with some routes, each to an upstream of its own.
func randomConfig(t *rapid.T, when, algorithm *rapid.Generator[string]) *config.Config {
	var text strings.Builder
	text.WriteString("frontend \"web\" {\n listen = \"127.0.0.1:80\"\n")
	n := rapid.IntRange(1, 5).Draw(t, "routes")
	for i := range n {
		fmt.Fprintf(&text, "route \"r%d\" {\n", i)
		if w := when.Draw(t, "when"); w != "" {
			fmt.Fprintf(&text, "when {\n%s\n}\n", w)
		}
		fmt.Fprintf(&text, "send_to = upstream.u%d\n}\n", i)
	}
	text.WriteString("}\n")
	for i := range n {
		fmt.Fprintf(&text, "upstream \"u%d\" {\n algorithm = %q\n backends = {\n", i, algorithm.Draw(t, "algorithm"))
		more := rapid.SampledFrom([]string{"", "failover {\n}\n", "sticky {\n by = \"address\"\n}\n", "sticky {\n by = \"cookie\"\n}\n"}).Draw(t, "more")
		for k := range rapid.IntRange(1, 4).Draw(t, "backends") {
			tier := 1
			if strings.HasPrefix(more, "failover") {
				tier = rapid.IntRange(1, 2).Draw(t, "tier")
			}
			fmt.Fprintf(&text, "b%d = { address = \"127.0.0.1:%d\", weight = %d, tier = %d }\n", k, 1000+10*i+k, rapid.IntRange(1, 3).Draw(t, "weight"), tier)
		}
		text.WriteString("}\n" + more + "}\n")
	}
	c, found, err := config.Read([]config.File{{Name: "r.hcl", Source: []byte(text.String())}})
	if err != nil || len(found) > 0 {
		t.Fatalf("%v %v", err, found)
	}
	return c
}

// TestWhyAndTheReplayAgree asks why of random requests to random configurations,
// replays the same requests, and compares route and backend.
func TestWhyAndTheReplayAgree(t *testing.T) {
	path := rapid.SampledFrom([]string{"/", "/a", "/a/b", "/live/x", "/seats/7"})
	host := rapid.SampledFrom([]string{"tern.example", "board.tern.example", "other.example"})
	method := rapid.SampledFrom([]string{"GET", "POST"})
	query := rapid.SampledFrom([]string{"", "lang=fi", "lang=sv&x=1"})
	when := rapid.SampledFrom([]string{
		"", `path = "/a/**"`, `path = ["/live/**", not("/live/x")]`, `host = "*.tern.example"`, `method = not("POST")`,
		`path = regexp("/seats/[0-9]+")`, `query = { lang = "fi" }`, `query = { x = not("*") }`, `client = "203.0.113.0/25"`,
	})
	algorithm := rapid.SampledFrom([]string{"round-robin", "least-connections", "random", "two-choices", "first-fit", "hash"})
	compared := 0
	rapid.Check(t, func(t *rapid.T) {
		c := randomConfig(t, when, algorithm)
		seed := rapid.Uint64().Draw(t, "seed")
		client := fmt.Sprintf("203.0.113.%d", rapid.IntRange(1, 254).Draw(t, "client"))
		q := Question{Method: method.Draw(t, "method"), Host: host.Draw(t, "host"), Port: 80, Path: path.Draw(t, "path"), Query: query.Draw(t, "query"), Client: client, Times: 6, Seed: seed}
		a, err := Why(c, q)
		if err != nil {
			t.Fatal(err)
		}
		target := q.Path
		if q.Query != "" {
			target += "?" + q.Query
		}
		var log strings.Builder
		for i := range q.Times {
			// An hour apart, so that each ends before the next begins.
			fmt.Fprintf(&log, "{\"time\":%d,\"client\":%q,\"method\":%q,\"host\":%q,\"path\":%q}\n", 1_790_000_000+3600*i, client, q.Method, q.Host, target)
		}
		var picks []string
		o := replay.Options{Seed: seed, Observe: func(d sim.Decision) { picks = append(picks, d.Upstream+" "+d.Backend) }}
		open := func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(log.String())), nil }
		r, err := replay.Run(t.Context(), c, scenario.None(), []ingest.Source{{Name: "t", Open: open}}, o)
		if err != nil {
			t.Fatal(err)
		}
		if a.Route == "" {
			if r.Errors[cause.NoRoute] != int64(q.Times) {
				t.Fatalf("why finds no route, the replay routed %d", int64(q.Times)-r.Errors[cause.NoRoute])
			}
			return
		}
		if r.Routes["web/"+a.Route] != int64(q.Times) {
			t.Fatalf("why says %s, the replay %v", a.Route, r.Routes)
		}
		for i, p := range a.Series {
			compared++
			if got := a.Upstream + " " + p.Backend; got != picks[i] {
				t.Fatalf("request %d: why says %s, the replay %s", i, got, picks[i])
			}
		}
	})
	require.Greater(t, compared, atLeast(100), "the property was put to the test")
}

// TestWitnessesOfDiffAreTrue holds each request of which diff says that it goes
// elsewhere against why and the replay of both configurations.
func TestWitnessesOfDiffAreTrue(t *testing.T) {
	when := rapid.SampledFrom([]string{
		"", `path = "/a/**"`, `path = ["/live/**", not("/live/x")]`, `host = "*.tern.example"`, `host = "tern.example"`, `method = not("POST")`,
		`method = ["POST", "PUT"]`, `query = { lang = "fi" }`, `query = { x = not("*") }`, `client = "203.0.113.0/25"`, `client = "10.0.0.0/8"`,
	})
	algorithm := rapid.Just("round-robin")
	told := 0
	rapid.Check(t, func(t *rapid.T) {
		old, now := randomConfig(t, when, algorithm), randomConfig(t, when, algorithm)
		for _, m := range Compare(old, now).Requests {
			told++
			words := strings.Fields(m.Request)
			u, err := url.Parse(words[1])
			if err != nil {
				t.Fatal(err)
			}
			q := Question{Method: words[0], Host: u.Host, Port: 80, Path: u.EscapedPath(), Query: u.RawQuery, Client: "203.0.113.9"}
			if len(words) == 4 && words[2] == "from" {
				q.Client = words[3]
			} else if len(words) != 2 {
				t.Fatalf("%q cannot be asked", m.Request)
			}
			for _, side := range []struct {
				c    *config.Config
				says string
			}{{old, m.Old}, {now, m.New}} {
				a, err := Why(side.c, q)
				if err != nil {
					t.Fatal(err)
				}
				lands := "upstream " + a.Upstream
				switch {
				case strings.Contains(a.Reason, "can also be read"):
					lands = leads(side.c.Frontends[0], region.Refused, nil)
				case a.Route == "":
					lands = "no route: 404"
				}
				if lands != side.says {
					t.Fatalf("%s: diff says %s, why says %s", m.Request, side.says, lands)
				}
				line := fmt.Sprintf("{\"time\":1790000000,\"client\":%q,\"method\":%q,\"host\":%q,\"path\":%q}\n", q.Client, q.Method, q.Host, u.RequestURI())
				open := func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(line)), nil }
				r, err := replay.Run(t.Context(), side.c, scenario.None(), []ingest.Source{{Name: "t", Open: open}}, replay.Options{})
				if err != nil {
					t.Fatal(err)
				}
				if a.Route == "" && r.Errors[cause.NoRoute] != 1 || a.Route != "" && r.Routes["web/"+a.Route] != 1 {
					t.Fatalf("%s: why says %s, the replay %v", m.Request, lands, r.Routes)
				}
			}
		}
	})
	require.Greater(t, told, atLeast(50), "the property was put to the test")
}

// atLeast returns how often a property must have been put to the test: a short run draws
// a fifth of the cases.
func atLeast(n int) int {
	if testing.Short() {
		return n / 10
	}
	return n
}
