package scenario

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

func harbour(t testing.TB) *config.Config {
	c, found, err := config.Read([]config.File{{Name: "h.hcl", Source: []byte(`frontend "f" {
  listen = "127.0.0.1:1"
  route "r" {
    send_to = upstream.booking
  }
}
upstream "booking" {
  backends = { auk = "127.0.0.1:2", gannet = "127.0.0.1:3" }
}
upstream "sailings" {
  backends = { skua = "127.0.0.1:4" }
}
`)}})
	require.NoError(t, err)
	require.Empty(t, found)
	return c
}

func read(t testing.TB, text string) (*Scenario, []string) {
	s, found, err := Read(config.File{Name: "s.hcl", Source: []byte(text)}, harbour(t))
	require.NoError(t, err)
	var out []string
	for _, f := range found {
		out = append(out, fmt.Sprintf("%d:%d %s %s | %s", f.Range.Start.Line, f.Range.Start.Column, f.ID, f.Message, f.Hint))
	}
	return s, out
}

func TestAScenarioIsRead(t *testing.T) {
	s, found := read(t, `seed = 7
behaviour "booking.*" {
  service = lognormal("40ms", 0.6)
  workers = 8
  backlog = 0
  connect = "2ms"
}
behaviour "*.auk" {
  service = "10ms"
}
fault "auk loses power" {
  backend = "booking.auk"
  kind    = "refuse"
  at      = "2m"
  until   = "5m"
}
fault "all slow" {
  upstream = ["booking"]
  kind     = "slow"
  factor   = 2.5
  at       = "0s"
}
fault "some errors" {
  backend = ["*.gannet", "sailings.skua"]
  kind    = "errors"
  status  = 500
  rate    = "25%"
  at      = "1s"
}
expect "few lost" {
  that = result.error_rate <= 0.002  &&  result.sessions.moved < 50
}
`)
	require.Empty(t, found)
	assert.EqualValues(t, 7, s.Seed)
	assert.Equal(t, config.Distribution{Kind: "fixed", Mean: 10 * time.Millisecond}, s.Behaviour("booking.auk").Service, "the last that matches")
	assert.Equal(t, 16, s.Behaviour("booking.auk").Workers, "what it leaves out is the default")
	g := s.Behaviour("booking.gannet")
	assert.Equal(t, config.Distribution{Kind: "lognormal", Mean: 40 * time.Millisecond, CV: 0.6}, g.Service)
	assert.Equal(t, []any{8, 0, 2 * time.Millisecond}, []any{g.Workers, g.Backlog, g.Connect})
	assert.Equal(t, Default(), s.Behaviour("sailings.skua"))
	require.Len(t, s.Faults, 3)
	assert.Equal(t, 5*time.Minute, s.Faults[0].Until)
	assert.Negative(t, s.Faults[1].Until, "it never ends")
	assert.Equal(t, "booking.*", s.Faults[1].Backends[0].Value)
	assert.Equal(t, []any{2.5, 0.25, 500}, []any{s.Faults[1].Factor, s.Faults[2].Rate, s.Faults[2].Status})
	assert.Equal(t, "result.error_rate <= 0.002 && result.sessions.moved < 50", s.Expects[0].Text)
	assert.True(t, Fits("*", "a.b") && Fits("booking.*", "booking.auk") && !Fits("booking", "booking.auk"))
}

func TestMistakesInAScenario(t *testing.T) {
	fault := func(lines string) string { return "fault \"f\" {\n" + lines + "\n}\n" }
	for _, c := range []struct{ name, text, want string }{
		{"no such backend", fault("backend = \"booking.ouk\"\nkind = \"hang\"\nat = \"1s\""), `2:11 KX101 no backend is called "booking.ouk" | did you mean "booking.auk"?`},
		{"no such pattern", "behaviour \"gate.*\" {\n}\n", `1:11 KX101 no backend is called "gate.*" | backends are named UPSTREAM.BACKEND, * is any text`},
		{"no such upstream", fault("upstream = \"bookin\"\nkind = \"hang\"\nat = \"1s\""), `2:12 KX101 no upstream is called "bookin" | did you mean "booking"?`},
		{"end before beginning", fault("backend = \"booking.auk\"\nkind = \"hang\"\nat = \"5m\"\nuntil = \"2m\""), `5:9 KX004 the fault ends at 2m, which is not after its beginning at 5m | both count from the start of the replay`},
		{"kind", fault("backend = \"booking.auk\"\nkind = \"hangs\"\nat = \"1s\""), `3:8 KX007 kind cannot be "hangs"; it is "refuse", "blackhole", "hang", "reset", "errors", "slow", "flap", "probe-fails", "probe-lies", "park", "drain", "weight" or "gone" | did you mean "hang"?`},
		{"nobody", fault("kind = \"hang\"\nat = \"1s\""), `1:1 KX005 the fault "f" matches no backend | backend = "UPSTREAM.BACKEND", upstream = "UPSTREAM" or zone = "ZONE"`},
		{"no beginning", fault("backend = \"booking.auk\"\nkind = \"hang\""), `1:1 KX005 fault "f" has no at | at = "2m"`},
		{"key of another kind", fault("backend = \"booking.auk\"\nkind = \"hang\"\nat = \"1s\"\nfactor = 2"), `5:10 KX002 factor belongs to kind = "slow", and this fault is "hang" | remove it`},
		{"twice", fault("backend = \"booking.auk\"\nkind = \"hang\"\nat = \"1s\"") + fault("backend = \"booking.auk\"\nkind = \"park\"\nat = \"1s\""), `6:7 KX006 two faults are called "f" | give one of them another title`},
		{"distribution", "behaviour \"*\" {\n  service = lognoral(\"40ms\", 1)\n}\n", `2:13 KX002 there is no distribution "lognoral" | did you mean lognormal?`},
		{"patience from the trace", "clients {\n  patience = from_trace()\n}\n", `2:14 KX003 patience cannot be from_trace() | expected a distribution of at least "1ms", like lognormal("8s", 0.5)`},
		{"streams from the trace", "streams {\n  path = \"/e\"\n  lasts = from_trace()\n}\n", `3:11 KX003 lasts cannot be from_trace() | expected a distribution, like lognormal("5m", 1)`},
		{"of paths, workers", "behaviour \"*\" {\n  path = \"/a\"\n  workers = 2\n  service = \"1s\"\n}\n", `3:13 KX002 workers is of a backend as a whole, and this behaviour says how long requests of some paths take | give it in a behaviour without path`},
		{"of paths, shared", "behaviour \"*\" {\n  path = \"/a\"\n  service = \"1s\"\n  sharing {\n    cores = 2\n  }\n}\n", `4:3 KX002 sharing is of a backend as a whole, and this behaviour says how long requests of some paths take | give it in a behaviour without path`},
		{"no cores", "behaviour \"*\" {\n  sharing {\n    cores = 0\n  }\n}\n", `3:13 KX004 cores = 0 is outside its limits | expected a number from 0.01 to 100000, like 4`},
		{"cold for no time", "behaviour \"*\" {\n  cold {\n    for = \"0s\"\n  }\n}\n", `3:11 KX004 for = "0s" is outside its limits | expected a duration from "1ms" to "24h", like "30s"`},
		{"after what", "clients {\n  after = \"1s\"\n  sessions = true\n}\n", `2:11 KX005 after says when clients repeat requests, and they do not | again = 2 beside it, or no after`},
		{"a page that is no path", "load {\n  rate = \"1/s\"\n  page \"/a\" {\n    fetches = [\"/b\"]\n  }\n}\n", `3:8 KX101 no path of the load is "/a" | its paths are /`},
		{"a weighted part", "load {\n  rate = \"1/s\"\n  page \"/\" {\n    fetches = [\"/b=2\"]\n  }\n}\n", `4:16 KX003 "/b=2": a part of a page is fetched once, so that it has no weight | `},
		{"a cookie twice", "load {\n  rate = \"1/s\"\n  cookie \"a\" {\n    values = [\"1\"]\n  }\n  cookie \"a\" {\n    values = [\"2\"]\n  }\n}\n", `6:10 KX006 the cookie "a" is given twice | give all values in one block`},
		{"a header's name", "load {\n  rate = \"1/s\"\n  header \"a b\" {\n    values = [\"1,2\"]\n  }\n}\n", `3:10 KX003 "a b" cannot be a name | letters, digits, - and _, beginning with a letter`},
		{"a dependency of nobody", "dependency \"db\" {\n  backend = \"bookings.*\"\n  service = \"1ms\"\n}\n", `2:13 KX101 no backend is called "bookings.*" | backends are named UPSTREAM.BACKEND, * is any text`},
		{"a dependency twice", "dependency \"db\" {\n  backend = \"booking.*\"\n  service = \"1ms\"\n}\ndependency \"db\" {\n  backend = \"booking.*\"\n  service = \"1ms\"\n}\n", `5:12 KX006 two dependencies are called "db" | give one of them another name`},
		{"a dependency that is not there", "dependency \"db\" {\n  backend = \"booking.*\"\n  service = \"1ms\"\n}\nfault \"f\" {\n  dependency = \"dbs\"\n  kind = \"slow\"\n  at = \"1s\"\n}\n", `6:16 KX101 no dependency is called "dbs" | did you mean "db"?`},
		{"a dependency is no backend", "dependency \"db\" {\n  backend = \"booking.*\"\n  service = \"1ms\"\n}\nfault \"f\" {\n  dependency = \"db\"\n  kind = \"park\"\n  at = \"1s\"\n}\n", `7:10 KX002 a dependency cannot fail as "park" | one of refuse, blackhole, hang, reset, errors, slow, flap`},
		{"a dependency and a backend", "dependency \"db\" {\n  backend = \"booking.*\"\n  service = \"1ms\"\n}\nfault \"f\" {\n  dependency = \"db\"\n  upstream = \"booking\"\n  kind = \"slow\"\n  at = \"1s\"\n}\n", `6:16 KX002 the fault strikes backends and a dependency at once | make two faults of it`},
		{"a proxy that is not there", "instances = 2\nfault \"f\" {\n  kind = \"gone\"\n  proxy = 3\n  at = \"1s\"\n}\n", `4:11 KX101 the fault is of proxy 3, and the scenario has 2 | instances = 3 at the top, or another proxy`},
		{"the only proxy, for ever", "fault \"f\" {\n  kind = \"gone\"\n  at = \"1s\"\n}\n", `1:1 KX005 the only proxy ends and never starts again, so that no request is answered after that | until = ..., or instances = 2 at the top`},
		{"a proxy and a backend", "instances = 2\nfault \"f\" {\n  kind = \"gone\"\n  backend = \"booking.auk\"\n  at = \"1s\"\n}\n", `4:13 KX002 backend says what fails, and this fault is of a proxy | remove it`},
		{"of paths, nothing", "behaviour \"*\" {\n  path = \"/a\"\n}\n", `1:1 KX005 the behaviour names paths and does not say how long their requests take | service = ...`},
		{"a path without /", "behaviour \"*\" {\n  path = [\"**\", \"a/**\"]\n  service = \"1s\"\n}\n", `2:17 KX003 no path matches "a/**": each begins with / | "/a/**"`},
		{"a query", "streams {\n  path = \"/a?b\"\n}\n", `2:10 KX003 no path matches "/a?b": the query of a request is not of its path | leave out what follows the ?`},
		{"too many paths", func() string {
			var b strings.Builder
			for i := range 2 * (MaxPaths + 1) {
				fmt.Fprintf(&b, "behaviour \"booking.*\" {\n path = \"/%d\"\n service = \"1s\"\n}\n", i/2)
			}
			return b.String()
		}(), `65:11 KX004 behaviours and dependencies tell requests of booking apart by 9 lists of paths; at most 8 are told apart | give paths that take alike in one behaviour`},
		{"no patience", "clients {\n  patience = \"0s\"\n}\n", `2:14 KX004 patience = "0s" is outside its limits | expected a distribution of at least "1ms", like lognormal("8s", 0.5)`},
		{"nothing of clients", "clients {\n}\n", `1:1 KX005 the clients block says nothing of clients | patience = ..., again = ..., or sessions = true`},
		{"arguments", "behaviour \"*\" {\n  service = lognormal(\"40ms\")\n}\n", `2:13 KX003 lognormal takes 2 arguments, not 1 | expected a distribution, like lognormal("40ms", 0.6)`},
		{"variation", "behaviour \"*\" {\n  service = lognormal(\"40ms\", -1)\n}\n", `2:31 KX004 the coefficient of variation = -1 is outside its limits | expected a number from 0 to 100`},
		{"workers", "behaviour \"*\" {\n  workers = 0\n}\n", `2:13 KX004 workers = 0 is outside its limits | expected a whole number from 1 to 1000000, like 16`},
		{"seed", "seed = -1\n", `1:8 KX004 seed = -1 is outside its limits | expected a whole number of at least 0, like 7`},
		{"unknown", "sead = 1\n", `1:1 KX002 there is no key "sead" at the top | did you mean seed?`},
		{"syntax", "seed = \n", `1:8 KX001 `},
		{"too many", func() string {
			var b strings.Builder
			for i := range MaxFaults + 1 {
				fmt.Fprintf(&b, "fault \"f%d\" {\n backend = \"*\"\n kind = \"hang\"\n at = \"1s\"\n}\n", i)
			}
			return b.String()
		}(), fmt.Sprintf(`%d:1 KX004 a scenario holds at most 64 faults | one fault may strike several backends: backend = ["booking.*"]`, MaxFaults*5+1)},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, found := read(t, c.text)
			require.Len(t, found, 1, "%v", found)
			if strings.HasSuffix(c.want, " ") {
				assert.True(t, strings.HasPrefix(found[0], c.want), found[0])
				return
			}
			assert.Equal(t, c.want, found[0])
		})
	}
	_, _, err := Read(config.File{Name: "s.hcl"}, harbour(t))
	assert.ErrorContains(t, err, "the file is empty")
}

func judged(s *Scenario, results ...[]byte) ([]Verdict, config.Findings) {
	j := s.Judge()
	for _, r := range results {
		j.Add(r)
	}
	return j.Verdicts()
}

// TestExpectationsOverSeeds: what is met with a share of the seeds, and what is close.
func TestExpectationsOverSeeds(t *testing.T) {
	results := func(failed ...int) (out [][]byte) {
		for _, n := range failed {
			out = append(out, fmt.Appendf(nil, `{"failed": %d, "list": %s}`, n, map[bool]string{true: "[1]", false: "[]"}[n < 100]))
		}
		return out
	}
	for _, c := range []struct {
		keys   string
		failed []int
		all    bool
		want   Verdict
	}{
		{"that = result.failed <= 10", []int{10, 99}, false, Verdict{Met: true, Seeds: 2, SeedsMet: 1, Close: true}},
		{"that = result.failed <= 10", []int{8, 9, 9, 9, 99}, true, Verdict{Met: false, Seeds: 5, SeedsMet: 4, Share: 0.95, Close: true}},
		{"that = result.failed <= 10", []int{11}, false, Verdict{Met: false, Seeds: 1, Close: true}},
		{"that = 10 > result.failed", []int{8}, false, Verdict{Met: true, Seeds: 1, SeedsMet: 1}},
		{"that = 10 > result.failed", []int{9}, false, Verdict{Met: true, Seeds: 1, SeedsMet: 1, Close: true}},
		{"that = result.failed <= 0", []int{0}, false, Verdict{Met: true, Seeds: 1, SeedsMet: 1}},
		{"that = result.failed == 10", []int{10}, false, Verdict{Met: true, Seeds: 1, SeedsMet: 1}},
		{"that = result.failed > 2 && 100 * result.failed <= 1050", []int{10}, false, Verdict{Met: true, Seeds: 1, SeedsMet: 1, Close: true}},
		{"that = result.failed <= 10\n seeds = 4\n share = 0.5", []int{99, 1, 1, 99, 1}, false, Verdict{Met: true, Seeds: 4, SeedsMet: 2, Share: 0.5, Close: true}},
		{"that = result.failed <= 10\n seeds = 4\n share = 0.5", []int{99, 1, 1, 1}, false, Verdict{Met: true, Seeds: 4, SeedsMet: 3, Share: 0.5}},
		{"that = result.failed <= 10\n seeds = 4", []int{1, 1, 1, 99}, false, Verdict{Met: false, Seeds: 4, SeedsMet: 3, Share: 0.95, Close: true}},
		{"that = result.failed <= 10\n seeds = 4", []int{1, 1, 1, 1, 99}, false, Verdict{Met: true, Seeds: 4, SeedsMet: 4, Share: 0.95}},
		{"that = result.list[0] == 1\n seeds = 3", []int{1, 100, 1}, false, Verdict{Met: false, Seeds: 3, SeedsMet: 2, Share: 0.95, Close: true}},
	} {
		s, found := read(t, "expect \"e\" {\n "+c.keys+"\n}\n")
		require.Empty(t, found)
		j := s.Judge()
		if c.all {
			j = s.JudgeAll()
		}
		for _, r := range results(c.failed...) {
			j.Add(r)
		}
		verdicts, wrong := j.Verdicts()
		require.Empty(t, wrong)
		v := verdicts[0]
		if strings.Contains(c.keys, "failed") {
			assert.EqualValues(t, c.failed[0], v.Values["result.failed"], "the first seed's")
		}
		if len(c.failed) == 4 {
			assert.Equal(t, [2]float64{1, 99}, v.Ranges["result.failed"])
		}
		v.Name, v.That, v.Values, v.Ranges = "", "", nil, nil
		assert.Equal(t, c.want, v, "%s %v", c.keys, c.failed)
	}
	s, _ := read(t, "expect \"a\" {\n that = result.x > 1\n seeds = 7\n}\nexpect \"b\" {\n that = result.x > 1\n}\n")
	assert.Equal(t, 7, s.Seeds())
	_, wrong := judged(s, []byte(`{}`), []byte(`{}`))
	assert.Len(t, wrong, 2, "once each")
	_, found := read(t, "expect \"a\" {\n that = result.x > 1\n share = 0.9\n}\n")
	assert.Equal(t, []string{"3:10 KX005 share says with what part of the seeds the expectation must be met, and there is one seed | seeds = 20 beside it, or no share"}, found)
}

func TestExpectations(t *testing.T) {
	s, found := read(t, `expect "few" {
  that = result.error_rate <= 0.01
}
expect "soon" {
  that = result.faults[0].detected_after < 10
}
expect "never is infinite" {
  that = result.faults[0].recovered_after > 1e9
}
expect "by name" {
  that = result.upstreams.booking.backends.auk.requests == 3 && result.routes["web/rest"] == 4
}
`)
	require.Empty(t, found)
	verdicts, wrong := judged(s, []byte(`{"error_rate":0.02,"faults":[{"detected_after":4.5,"recovered_after":null}],"upstreams":{"booking":{"backends":{"auk":{"requests":3}}}},"routes":{"web/rest":4}}`))
	require.Empty(t, wrong)
	require.Len(t, verdicts, 4)
	assert.Equal(t, []bool{false, true, true, true}, []bool{verdicts[0].Met, verdicts[1].Met, verdicts[2].Met, verdicts[3].Met})
	assert.Equal(t, map[string]any{"result.error_rate": 0.02}, verdicts[0].Values)
	assert.Equal(t, map[string]any{"result.faults[0].recovered_after": nil}, verdicts[2].Values)
	assert.Equal(t, []string{"result.routes[\"web/rest\"]", "result.upstreams.booking.backends.auk.requests"}, verdicts[3].Names())

	for text, want := range map[string]string{
		"result.eror_rate > 1":               `result has no key "eror_rate"; did you mean error_rate?`,
		"result.faults[0].detectd_after < 1": `result.faults[0] has no key "detectd_after"; known: failed`,
		"result.sessions.lost < 1":           "result has no key \"sessions\"; known: error_rate, faults, lists",
		"result.error_rate.lost < 1":         "result.error_rate has no key \"lost\"; lost was renamed: sessions have misses, faults have exposed_failed",
		"result.error_rate.x < 1":            `result.error_rate has no key "x"; it is a value without keys`,
		"result[\"eror_rate\"] > 1":          `result has no key "eror_rate"; did you mean error_rate?`,
		"result.error_rate":                  "an expectation is true or false; this is a number; compare it, as in result.error_rate <= 0.002",
		"rezult.error_rate > 1":              `there is no name "rezult" in expectations; did you mean result?`,
		"result.faults[9].x > 1":             "result.faults has no element [9]; the only element is [0]",
		"result.lists[9] > 1":                "result.lists has no element [9]; the elements are [0] to [1]",
		"result.error_rate[0] > 1":           "result.error_rate is not a list; " + keysHint,
		"nothing() > 1":                      `there is no function "nothing" in expectations; known: after, before, during, share`,
		"shore(\"a\") > 1":                   `there is no function "shore" in expectations; did you mean share?`,
		"share() > 1":                        `a function of expectations takes one text; like share("booking.auk") or before("auk is killed")`,
		"share([\"a\"]) > 1":                 `a function of expectations takes one text; like share("booking.auk") or before("auk is killed")`,
		"share(null) > 1":                    `a function of expectations takes one text; like share("booking.auk") or before("auk is killed")`,
		"share(\"a.x\") > 1":                 `no backend is called "a.x"; there are none`,
		"result.error_rate > \"a\"":          "the expectation compares values of different types; compare numbers with numbers, as in result.error_rate <= 0.002",
		"\"yes\"":                            "an expectation is true or false; this is a text; compare it, as in result.error_rate <= 0.002",
		"result":                             "an expectation is true or false; this is an object with keys; compare it, as in result.error_rate <= 0.002",
		"result.lists":                       "an expectation is true or false; this is a list; compare it, as in result.error_rate <= 0.002",
	} {
		s, found := read(t, "expect \"x\" {\n  that = "+text+"\n}\n")
		require.Empty(t, found)
		_, wrong := judged(s, []byte(`{"error_rate":0.02,"faults":[{"failed":1}],"lists":[1,2]}`))
		require.Len(t, wrong, 1, text)
		assert.Equal(t, want, wrong[0].Message+"; "+wrong[0].Hint, text)
		assert.Equal(t, 2, wrong[0].Range.Start.Line)
	}
}

// TestEveryKindOfFaultIsWhole walks the table: a kind without an effect or an order would
// do nothing, and a key that belongs to no kind would be ignored.
func TestEveryKindOfFaultIsWhole(t *testing.T) {
	common := []string{"backend", "upstream", "zone", "dependency", "kind", "at", "until"}
	block, seen := Language.Block("fault"), map[string]bool{}
	for _, k := range FaultKinds {
		assert.False(t, seen[k.Name], "%s is there twice", k.Name)
		seen[k.Name] = true
		assert.NotEmpty(t, k.Doc, "%s: Doc", k.Name)
		does := 0
		for _, x := range []bool{k.Effect != Effect{}, k.Order != "", k.Proxy} {
			if x {
				does++
			}
		}
		assert.Equal(t, 1, does, "%s: either an effect on the backend, or an operator's order, or a proxy ends", k.Name)
		assert.Contains(t, []string{"", "park", "drain", "weight"}, k.Order, "%s: Order", k.Name)
		assert.False(t, k.Flaps && k.Order != "", "%s: an order does not flap", k.Name)
		for _, key := range k.Keys {
			assert.NotNil(t, block.Key(key), "%s: the language has no key %s", k.Name, key)
		}
		if k.Flaps {
			assert.Subset(t, k.Keys, []string{"fails_for", "works_for"}, "%s: Keys", k.Name)
		}
		if k.Effect.Errors {
			assert.Subset(t, k.Keys, []string{"status", "rate", "after"}, "%s: Keys", k.Name)
		}
		assert.Equal(t, k.Effect.Slows, slices.Contains(k.Keys, "factor"), "%s: Keys", k.Name)
	}
	for _, key := range block.Keys {
		assert.NotEqual(t, slices.Contains(common, key.Name), slices.Contains(keysOfKinds(), key.Name), "%s belongs to every kind, or to some", key.Name)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("seed = 7\nbehaviour \"*\" {\n service = lognormal(\"40ms\", 0.6)\n}\nfault \"f\" {\n backend = \"booking.auk\"\n kind = \"hang\"\n at = \"1s\"\n}\nexpect \"e\" {\n that = result.x > 1\n}\n"))
	c := harbour(f)
	f.Fuzz(func(t *testing.T, src []byte) {
		s, found, err := Read(config.File{Name: "f.hcl", Source: src}, c)
		if err == nil && len(found) == 0 {
			judged(s, []byte(`{"x":2}`), []byte(`{}`))
		}
	})
}
