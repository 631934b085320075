package report

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xeipuuv/gojsonschema"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
	"kestrix/internal/core/study"
	"kestrix/internal/core/trace"
)

var plainStyle = Style{Unicode: true, Width: 110}

func TestNumbers(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -1234: "-1,234"} {
		assert.Equal(t, want, count(n))
	}
	for sec, want := range map[float64]string{
		0: "0 s", 0.0000123: "12.3 µs", 0.038: "38.0 ms", 0.1284: "128 ms", 0.99949: "999 ms", 0.9996: "1.00 s", 2.31: "2.31 s", 59.94: "59.9 s", 59.96: "1m", 182: "3m02s", 3600: "1h", 7384.6: "2h03m",
	} {
		assert.Equal(t, want, span(sec), "%v", sec)
	}
	for x, want := range map[float64]string{0: "0", 1: "1.00", 12.34: "12.3", 123.4: "123", 1234: "1,234", 0.01234: "0.0123", 9.996: "10.0"} {
		assert.Equal(t, want, three(x), "%v", x)
	}
	for share, want := range map[float64]string{0: "0.00 %", 1: "100.00 %", 0.99999: "99.999 %", 0.00001: "0.001 %", 0.5: "50.00 %", 0.9998: "99.98 %"} {
		assert.Equal(t, want, finePercent(share), "%v: neither 0 nor 100 unless it is", share)
	}
	assert.Equal(t, "02:05.4", moment(125.4))
	assert.Equal(t, "12:05.4", moment(725.4))
	for n, want := range map[int64]string{0: "0 entries", 1: "1 entry", 2: "2 entries"} {
		assert.Equal(t, want, plural(n, "entry"))
	}
	assert.Equal(t, "2 addresses", plural(2, "address"))
	for n, want := range map[int64]string{12: "12 B", 2048: "2.00 KiB", 5 << 20: "5.00 MiB", 3 << 30: "3.00 GiB"} {
		assert.Equal(t, want, bytesText(n))
	}
}

func TestBarsAndCharts(t *testing.T) {
	ascii := Style{Width: 80}
	assert.Equal(t, "████▌   ", plainStyle.bar(0.5625, 8))
	assert.Equal(t, "█████   ", plainStyle.bar(0.62, 8))
	assert.Equal(t, "####    ", ascii.bar(0.5, 8))
	assert.Equal(t, "        ", plainStyle.bar(-1, 8))
	assert.Equal(t, "████████", plainStyle.bar(7, 8))
	assert.Equal(t, " ▁▄█", plainStyle.spark([]float64{0, 1, 5, 10}, 10))
	assert.Equal(t, " .=#", ascii.spark([]float64{0, 1, 5, 10}, 10))
	assert.Equal(t, "  ", plainStyle.spark([]float64{0, 0}, 0))
	assert.Equal(t, "---", ascii.rule(3))
	assert.Equal(t, "ab…", clip("abcdef", 3))
	assert.Equal(t, "one two three four\n   five", flow("one  two three four five", 23, 3))
	for _, l := range strings.Split(flow(strings.Repeat("word ", 50), 60, 10), "\n") {
		assert.LessOrEqual(t, len([]rune(l)), 60)
	}
}

func TestColoursDoNotShiftColumns(t *testing.T) {
	colour := Style{Colour: true, Unicode: true, Width: 110}
	assert.Equal(t, 3, visible(colour.red("abc")))
	assert.Equal(t, "\x1b[1mab\x1b[0m  ", padRight(colour.bold("ab"), 4))
	assert.Equal(t, "abc", plainStyle.red("abc"))
	cols := []column{{name: "a", left: true}, {name: "b"}, {name: "c", drop: 1}, {name: "d", drop: 2}}
	rows := [][]string{{"x", "1", "22", "333"}, {"yy", "1,000", "2", "3"}}
	assert.Equal(t, "  a       b   c    d\n  x       1  22  333\n  yy  1,000   2    3\n", plainStyle.table(cols, rows, 2))
	narrow := plainStyle
	narrow.Width, narrow.Terminal = 16, true
	assert.Equal(t, "  a       b   c\n  x       1  22\n  yy  1,000   2\n\nhidden: terminal too\n  narrow (d)\n", narrow.fitted(func(s Style) string { return s.table(cols, rows, 2) }))
	narrow.Terminal = false
	assert.Equal(t, plainStyle.table(cols, rows, 2), narrow.table(cols, rows, 2), "in a file nothing is hidden")
}

func TestFindingsShowTheirPlace(t *testing.T) {
	src := "frontend \"web\" {\n  listen = \"127.0.0.1:80\"\n\troute \"all\" {\n    send_to = upstream.ap\n  }\n}\nupstream \"app\" {\n  backends = { a = \"b:1\" }\n}\n"
	f := config.File{Name: "x.hcl", Source: []byte(src)}
	c, found, err := config.Read([]config.File{f})
	require.NoError(t, err)
	text := plainStyle.Findings(check.Run(c, found, nil), []config.File{f})
	assert.Contains(t, text, "x.hcl:4:15  error KX102  no upstream is called \"ap\"\n"+
		"   3 │  route \"all\" {\n"+
		"   4 │     send_to = upstream.ap\n"+
		"     │               ─────────── did you mean upstream.app?\n"+
		"   5 │   }\n")
	assert.Contains(t, text, "x.hcl:7:1  warning KX103  no route sends to the upstream \"app\"")
	assert.Contains(t, text, "  fix      add a route for it, or remove it\n")
	out := FindingsJSON(withFingerprints(check.Run(c, found, nil)))
	assert.Equal(t, [2]int{4, 26}, [2]int{out[0].EndLine, out[0].EndColumn})
	assert.Equal(t, "KX102", out[0].ID)
	assert.Equal(t, 15, out[0].Column)
	assert.NotNil(t, FindingsJSON(nil), "an empty list, not null")
}

func fixture(t *testing.T) Replay {
	src := "frontend \"web\" {\n listen = \"127.0.0.1:80\"\n route \"all\" {\n send_to = upstream.app\n }\n}\nupstream \"app\" {\n backends = {\n auk = \"b:1\"\n gannet = \"b:2\"\n}\n}\n"
	c, found, err := config.Read([]config.File{{Name: "x.hcl", Source: []byte(src)}})
	require.NoError(t, err)
	require.Empty(t, found)
	two, five, at := 2.0, 5.0, 300.0
	box := func(n int64) map[string]map[string]result.TimelineBox {
		return map[string]map[string]result.TimelineBox{"app": {"auk": {Requests: n}, "gannet": {Requests: 10 - n}}}
	}
	return Replay{Config: c, Path: "x.hcl", Names: []string{"x.hcl", "m.log"}, Scenario: scenario.None(), Result: &result.Replay{
		Requests: 12480, Answered: 12478, Failed: 2, Retried: 7, ErrorRate: 2.0 / 12480, Duration: 1800, Latency: result.Latency{P50: 0.038, P95: 0.112, P99: 0.24, Max: 2.31}, Elapsed: result.Latency{P50: 0.038, P95: 0.113, P99: 0.25, Max: 10},
		Errors: cause.Counts{cause.AnswerTimeout: 2}, Sessions: result.Sessions{Known: true, Seen: 611, Moved: 44, Misses: 51},
		Upstreams: map[string]*result.Upstream{"app": {Requests: 12480, Failed: 2, Order: []string{"auk", "gannet"}, Backends: map[string]*result.Backend{
			"auk":    {State: "up", Requests: 3720, Share: 0.298, FairShare: 0.5, Answered: 3711, Failed: 9, Latency: result.Latency{P50: 0.037, P99: 0.251}, Elapsed: result.Latency{P99: 10}, PeakInFlight: 21, SecondsOut: 182},
			"gannet": {State: "up", Requests: 8760, Share: 0.702, FairShare: 0.5, Answered: 8760},
		}}},
		Health: []result.HealthChange{
			{At: 122.4, Upstream: "app", Backend: "auk", From: "up", To: "failing", Why: "a probe failed: no answer within 1s"},
			{At: 125, Upstream: "app", Backend: "auk", From: "failing", To: "down", Why: "2 probes failed: no answer within 1s"},
			{At: 302, Upstream: "app", Backend: "auk", From: "recovering", To: "up", Why: "3 probes passed"},
		},
		Faults: []result.Fault{
			{Name: "auk hangs", Kind: "hang", Backends: []string{"app.auk"}, At: 120, Until: &at, Began: true, DetectedAfter: &five, RecoveredAfter: &two, Exposed: 9, ExposedFailed: 2},
			{Name: "later", Kind: "park", Backends: []string{"app.auk"}, At: 4000},
		},
		Timeline:     result.Timeline{Bucket: 1, Rows: []result.TimelineRow{{Upstreams: box(5)}, {Upstreams: box(0), Failed: 2}}},
		Expectations: []scenario.Verdict{{Name: "few", That: "result.error_rate <= 0.002", Met: true, Values: map[string]any{"result.error_rate": 0.00016}}, {Name: "soon", That: "x < 1", Values: map[string]any{"x": nil}}},
		Trace:        result.Trace{Clients: 611, Spread: "even", Shifted: 9, BadLines: 1, Bad: []trace.Bad{{Line: 7, Column: 3, Why: "odd"}}, Unknown: map[string]int64{"host": 5}, OutOfOrder: 2},
		Model:        result.Model{Seed: 7},
		Diagnosis: &result.Diagnosis{Replays: 7, Causes: []result.Diagnosed{{
			Cause: "retry_storm", Upstream: "app", Says: "retries sustain the overload after the fault has ended", Change: `retry { budget = "20%" }`,
			Before: result.Harm{Requests: 1000, Failed: 1000, ElapsedP99: 10, After: true}, With: result.Harm{Requests: 1000, Failed: 25, ElapsedP99: 0.4, After: true},
		}}},
		Assumed: result.Assumptions{
			{What: result.ServiceTimes, Value: "lognormal, mean 40 ms, CV 0.6", Because: "the trace has no durations", Instead: "-fields names them", Times: true},
			{What: result.Backends, Value: "16 workers for each backend", Because: "no scenario says otherwise", Instead: "behaviour"},
			{What: result.Patience, Value: "clients wait indefinitely", Because: "no scenario says when they leave", Instead: "clients { patience = ... }"},
		},
	}}
}

func TestTheReplayReportTellsItsStory(t *testing.T) {
	p := fixture(t)
	text := plainStyle.Replay(p)
	for _, want := range []string{
		"x.hcl · m.log · seed 7\n1 of 2 expectations met · 2 of 12,480 failed (0.02 %) · elapsed p99 ~250 ms\n12,480 requests in 30m from 611 clients\n",
		"\nassumed ~ service times: lognormal, mean 40 ms, CV 0.6: the trace has no durations; -fields names\n         them\nassumed 16 workers for each backend; clients wait indefinitely\n",
		"lines that could not be read, skipped: 1\n  line 7, column 3: odd\n",
		"records out of order, sorted: 2\n",
		"5 requests did not match a route with a condition on the host, which the trace does not record; -host NAME",
		"  answered    12,478    99.98 %    p50 ~38.0 ms   p95 ~112 ms   p99 ~240 ms   max ~2.31 s\n",
		"  failed           2     0.02 %    retried 7   sessions 611 seen, 44 moved, 51 misses\n",
		"  failed by cause: answer_timeout 2\n",
		"  auk      up        3,720  29.8 %      50.0 %       9  ~37.0 ms  ~0 s  ~251 ms      ~10.0 s    21  3m02s\n",
		"02:00.0  fault  auk hangs (app.auk): the backend accepts connections and never answers\n",
		"02:05.0  auk    down     2 probes failed: no answer within 1s; 5.00 s after the fault; 9 requests met it: 7",
		"05:00.0  fault  auk hangs ends\n",
		"05:02.0  auk    up       3 probes passed; 2.00 s after the end of the fault\n",
		"1:06:40  fault  later did not begin; the replay ended at 30:00.0\n",
		"requests over time · app · one column is 1 s · tallest 10\n  auk     ▄\n  gannet  ▄█\n  fault    ▔ auk hangs\n  failed   █\n",
		"  met      few   result.error_rate 0.00016 <= 0.002\n",
		"  not met  soon  x never < 1\n",
		"recommended changes\n  app: retry { budget = \"20%\" }\n    2.50 % of the requests after the fault fail instead of 100.00 %, elapsed p99 ~400 ms instead of ~10.0 s\n    cause: retries sustain the overload after the fault has ended\n  measured with one seed, by 7 replays with one change each\n",
	} {
		assert.Contains(t, text, want)
	}
	at := 0
	for _, part := range []string{"expectations met", "assumed", "recommended changes", "client impact", "\napp ·", "\ntimeline", "requests over time"} {
		assert.Greater(t, strings.Index(text, part), at, "%s comes later", part)
		at = strings.Index(text, part)
	}
	for _, width := range []int{40, 60, 80, 100, 120} {
		s := Style{Width: width, Terminal: true}
		for _, l := range strings.Split(s.Replay(p), "\n") {
			assert.LessOrEqual(t, len(l), max(width, 66), "width %d: %s", width, l)
			assert.NotContains(t, l, "█")
		}
	}
	p.Result.Partial = true
	assert.Contains(t, plainStyle.Replay(p), "stopped early, figures are partial")
}

func TestLongTablesShowTheTenWorst(t *testing.T) {
	p := fixture(t)
	u := p.Result.Upstreams["app"]
	for i := range 38 {
		name := "b" + string(rune('a'+i/26)) + string(rune('a'+i%26))
		u.Order = append(u.Order, name)
		u.Backends[name] = &result.Backend{Requests: 1, Failed: int64(i % 3)}
	}
	text := plainStyle.Replay(p)
	assert.Contains(t, text, "the ten worst; the other 30 backends: 8,789 requests,")
	all := plainStyle
	all.All = true
	assert.NotContains(t, all.Replay(p), "the ten worst")
	assert.Contains(t, all.Replay(p), "bbl ")
}

func TestTheResultHasItsDocumentedKeys(t *testing.T) {
	text, err := json.Marshal(fixture(t).Result)
	require.NoError(t, err)
	var keys map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(text, &keys))
	for _, k := range strings.Fields("requests answered failed unfinished retried error_rate duration throughput latency errors routes upstreams sessions health faults timeline expectations trace engine") {
		assert.Contains(t, keys, k)
	}
}

func TestOtherTexts(t *testing.T) {
	a := &study.Answer{Frontend: "web", Route: "all", Upstream: "app", Backend: "auk", Reason: "its turn", Routes: []study.RouteStep{{Route: "x", Why: "path"}, {Route: "all", Matches: true, Why: "all"}},
		Considered: []study.Considered{{Backend: "auk", State: "up", Weight: 1, Chosen: true, Why: "chosen"}}, Series: []study.Pick{{Backend: "auk", Why: "its turn"}, {Why: "none"}}}
	text := plainStyle.Why("GET http://a/ from b", a)
	assert.Contains(t, text, "route     all           takes it  all")
	assert.Contains(t, text, "asked 2 times in a row")
	assert.Contains(t, plainStyle.Why("x", &study.Answer{Reason: "no route matches"}), "no route matches")
	at := time.Date(2026, 11, 23, 6, 55, 8, 120e6, time.FixedZone("elsewhere", -3600))
	assert.Equal(t, "2026-11-23T07:55:08.120Z  booking.auk       down         a probe failed\n", plainStyle.Event(status.Event{At: at, Object: "booking.auk", Kind: "down", Text: "a probe failed"}))
	assert.Contains(t, Style{Colour: true}.Event(status.Event{Kind: "down"}), "\x1b[31mdown")
	assert.Contains(t, plainStyle.DemoTable([]DemoRow{{Config: "x.hcl", Scenario: "quiet", Result: fixture(t).Result}}), "x.hcl          quiet          2      0.02 %")
	first := 0.0
	sum := &trace.Summary{Format: "common", Records: 3, First: &first, Last: &first, BadLines: 1, Bad: []trace.Bad{{Line: 1, Column: 2, Why: "odd"}}, Methods: map[string]int64{"GET": 2, "POST": 1},
		Rate: &trace.Rate{Bucket: 1, Rows: []trace.RateRow{{At: 0, Requests: 3}}}, Unknown: map[string]int64{"host": 3, "status": 1}, TopPaths: []trace.Count{{Name: "/a", Requests: 3}}}
	text = plainStyle.Trace("m.log", sum)
	assert.Contains(t, text, "m.log · Common log lines")
	assert.Contains(t, text, "methods   GET 2 (66.7 %), POST 1 (33.3 %)")
	assert.Contains(t, text, "unknown   host, status in 1 record")
	assert.Contains(t, text, "duration  not recorded")
}

func withFingerprints(all config.Findings) []Checked {
	var out []Checked
	for _, f := range all {
		out = append(out, Checked{Finding: f, Fingerprint: "x"})
	}
	return out
}

func TestExchangeFormatsAreWhatTheyClaim(t *testing.T) {
	src := "upstream \"a\" {\n  backends = { b = \"c\" }\n}\n"
	c, found, err := config.Read([]config.File{{Name: "x.hcl", Source: []byte(src)}})
	require.NoError(t, err)
	all := check.Run(c, found, nil)
	text, err := json.Marshal(SARIF(withFingerprints(all), nil, false, "1"))
	require.NoError(t, err)
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID    string
				RuleIndex int
				Level     string
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn, EndColumn int }
					}
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal(text, &log))
	run := log.Runs[0]
	require.Len(t, run.Results, len(all))
	for i, r := range run.Results {
		assert.Equal(t, run.Tool.Driver.Rules[r.RuleIndex].ID, r.RuleID)
		assert.Contains(t, []string{"error", "warning", "note"}, r.Level)
		assert.Equal(t, all[i].Range.Start.Line, r.Locations[0].PhysicalLocation.Region.StartLine)
		assert.Equal(t, "x.hcl", r.Locations[0].PhysicalLocation.ArtifactLocation.URI)
	}
	out, err := JUnit([]string{"x.hcl", "y.hcl"}, []config.Findings{all, nil}, func(s config.Severity) bool { return s == config.Error })
	require.NoError(t, err)
	var suites junitSuites
	require.NoError(t, xml.Unmarshal(out, &suites))
	assert.Equal(t, len(all)+1, suites.Tests)
	assert.Equal(t, all.Count(config.Error), suites.Failures)
	assert.Equal(t, "no findings", suites.Suites[1].Cases[0].Name)
	for _, r := range check.Rules {
		text := plainStyle.Rule(r)
		assert.NotContains(t, text, "want:")
		assert.Contains(t, text, "# here")
		assert.Contains(t, rulePages("")["rules.md"], "| ["+r.ID+"]")
	}
}

func TestThePictureShowsWhatLeadsWhere(t *testing.T) {
	p := &study.Map{
		Frontends: []study.MapFrontend{{Name: "web", Protocol: "http", Listen: []string{"0.0.0.0:80"}, Routes: []study.MapRoute{{Name: "a<b>", When: "path /a & /b", SendTo: "app"}, {Name: "rest", When: "everything", SendTo: "app"}}}},
		Upstreams: []study.MapUpstream{{Name: "app", Algorithm: "hash", Settings: []string{"no probe"}}},
	}
	for i := range 40 {
		p.Upstreams[0].Backends = append(p.Upstreams[0].Backends, study.MapBackend{Name: "b", Address: "x:1", Weight: i, Share: 0.025})
	}
	text := plainStyle.Map(p)
	assert.Contains(t, text, "frontend web · http · 0.0.0.0:80\n  ├─ a<b>  → app  path /a & /b\n  └─ rest  → app  everything\n")
	assert.Contains(t, text, "upstream app · hash · no probe\n")
	assert.Contains(t, text, "and 30 more (all with -all)")
	assert.Equal(t, 10, strings.Count(text, "weight"))
	assert.Contains(t, Style{Width: 80}.Map(p), "`- rest  -> app  everything")
	dot := MapDot(p)
	assert.Contains(t, dot, `"frontend.web" -> "upstream.app" [label="1 a<b>: path /a & /b"];`)
	assert.Contains(t, dot, "and 28 more")
	picture := MapSVG("x & y", p)
	assert.NoError(t, xml.Unmarshal([]byte(picture), new(struct{ XMLName xml.Name })), "it is well-formed")
	assert.Contains(t, picture, "a&lt;b&gt;")
	assert.Equal(t, 4, strings.Count(picture, "<path"), "two routes, each with a way in and a way on")
	assert.Contains(t, picture, "and 28 more")
}

// sarifSchema reads the schema of SARIF 2.1.0 out of the library that carries it.
func sarifSchema(t *testing.T) string {
	_ = sarif.NewReport // keeps the library among the modules
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/owenrumney/go-sarif/v3").Output()
	require.NoError(t, err)
	src, err := os.ReadFile(filepath.Join(strings.TrimSpace(string(dir)), "pkg/report/v210/sarif/schema.go"))
	require.NoError(t, err)
	from, to := bytes.IndexByte(src, '`'), bytes.LastIndexByte(src, '`')
	require.Less(t, from, to)
	return string(src[from+1 : to])
}

// TestSARIFIsValidAgainstItsSchema holds what is written for every rule against
// the schema of SARIF 2.1.0.
func TestSARIFIsValidAgainstItsSchema(t *testing.T) {
	schema := sarifSchema(t)
	var all config.Findings
	for _, r := range check.Rules {
		bad, _ := r.Examples()
		c, reading, err := config.Read([]config.File{{Name: "dir/bad file.hcl", Source: []byte(bad)}})
		require.NoError(t, err)
		all = append(all, check.Run(c, reading, nil)...)
	}
	require.Greater(t, len(all), 50)
	for _, found := range []config.Findings{all, nil} {
		text, err := json.Marshal(SARIF(withFingerprints(found), []check.Allowed{{Finding: all[0], Because: "it is so"}}, true, "1.2.3"))
		require.NoError(t, err)
		result, err := gojsonschema.Validate(gojsonschema.NewStringLoader(schema), gojsonschema.NewBytesLoader(text))
		require.NoError(t, err)
		assert.Empty(t, result.Errors())
	}
}

// TestTheMapHasFewCrossings orders upstreams so that the lines of a hand-made map do not cross, and never has more crossings
// than the order of the file.
func TestTheMapHasFewCrossings(t *testing.T) {
	route := func(to string) study.MapRoute { return study.MapRoute{SendTo: to} }
	m := &study.Map{
		Frontends: []study.MapFrontend{{Routes: []study.MapRoute{route("zeta"), route("mid")}}, {Routes: []study.MapRoute{route("alpha"), route("mid")}}},
		Upstreams: []study.MapUpstream{{Name: "idle"}, {Name: "alpha"}, {Name: "mid"}, {Name: "zeta"}},
	}
	var names []string
	for _, u := range fewCrossings(m) {
		names = append(names, u.Name)
	}
	assert.Equal(t, []string{"zeta", "alpha", "mid", "idle"}, names)
	assert.Equal(t, 1, crossings([]int{2}, []int{1, 3}))
}
