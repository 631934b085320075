package scenario

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

func TestLoadsAreRead(t *testing.T) {
	s, found := read(t, `instances = 3
load {
  rate     = "200/s"
  for      = "5m"
  shape    = "ramp"
  arrivals = "even"
  clients  = 70
  paths    = ["/seats=5", "POST /bookings"]
  host     = "tickets.tern.example"
}
streams {
  path   = ["/live/**", "/board"]
  lasts  = lognormal("5m", 1)
  resend = true
}
`)
	require.Empty(t, found)
	assert.Equal(t, 3, s.Instances)
	require.NotNil(t, s.Load)
	assert.False(t, s.Load.Closed)
	assert.InDelta(t, 200, s.Load.Spec.Rate, 1e-9)
	assert.Equal(t, []any{5 * time.Minute, "ramp", "even", 70, "tickets.tern.example"}, []any{s.Load.Spec.For, s.Load.Spec.Shape, s.Load.Spec.Arrivals, s.Load.Spec.Clients, s.Load.Spec.Host})
	assert.Len(t, s.Load.Spec.Paths, 2)
	assert.NoError(t, s.Load.Spec.Validate())
	assert.True(t, s.Streams.Hold("/live/a/b") && s.Streams.Hold("/board") && !s.Streams.Hold("/boards"))
	assert.Equal(t, []any{true, time.Second, time.Duration(0)}, []any{s.Streams.Resend, s.Streams.ResendAfter, s.Streams.Quiet})

	s, found = read(t, "load {\n requests = 40\n concurrency = 4\n think = \"1s\"\n}\n")
	require.Empty(t, found)
	assert.Equal(t, []any{true, 40, 4, time.Second, 4}, []any{s.Load.Closed, s.Load.Requests, s.Load.Concurrency, s.Load.Think.Mean, s.Load.Spec.Clients})
	assert.NoError(t, s.Load.Spec.Validate())
	s, _ = read(t, "seed = 1\n")
	assert.Equal(t, []any{(*Load)(nil), (*Streams)(nil), 1}, []any{s.Load, s.Streams, s.Instances})
}

func TestMistakesInLoads(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"nothing", "load {\n}", `1:1 KX005 load says not how much`},
		{"no requests", "load {\n concurrency = 3\n}", `1:1 KX005 a closed load has no requests`},
		{"both", "load {\n requests = 3\n concurrency = 3\n rate = \"1/s\"\n}", `4:9 KX002 rate belongs to an open load`},
		{"think", "load {\n rate = \"1/s\"\n think = \"1s\"\n}", `3:10 KX002 think belongs to a closed load`},
		{"path", "load {\n rate = \"1/s\"\n paths = [\"/a\", \"b\"]\n}", `3:17 KX003 "b": a path begins with /`},
		{"weights", "load {\n rate = \"1/s\"\n paths = \"/a=0\"\n}", `1:1 KX004 the weights of all paths together are 0`},
		{"frontend", "load {\n rate = \"1/s\"\n frontend = \"g\"\n}", `3:13 KX101 no frontend is called "g"`},
		{"members of nobody", "members \"booking.ouk\" {\n count = 2\n}", `1:9 KX101 no backend is called "booking.ouk" | did you mean "booking.auk"?`},
		{"members of an address", "members \"booking.auk\" {\n count = 2\n}", `1:9 KX101 "booking.auk" stands for itself alone`},
		{"no members", "members \"booking.auk\" {\n count = 0\n}", `count`},
		{"streams of nothing", "streams {\n}", `1:1 KX005 streams has no path`},
		{"turns of another kind", "fault \"f\" {\n backend = \"*\"\n kind = \"slow\"\n at = \"1s\"\n fails_for = \"1s\"\n}", `5:14 KX002 fails_for belongs to kind = "flap", and this fault is "slow"`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, found := read(t, c.text)
			require.NotEmpty(t, found)
			assert.Contains(t, strings.Join(found, "\n"), c.want)
		})
	}
}

// TestFunctionsOfExpectations holds them to the result they look into.
func TestFunctionsOfExpectations(t *testing.T) {
	result := []byte(`{"upstreams":{"booking":{"backends":{"auk":{"share":0.25}}}},"faults":[{"name":"power","before":{"failed":0},"during":{"error_rate":0.1,"latency":{"p95":2}},"after":{"failed":3}}]}`)
	judge := func(that string) ([]Verdict, config.Findings) {
		s, found := read(t, "expect \"e\" {\n that = "+that+"\n}\n")
		require.Empty(t, found, that)
		return judged(s, result)
	}
	for that, met := range map[string]bool{
		`share("booking.auk") == 0.25`:                                       true,
		`during("power").error_rate < 0.05`:                                  false,
		`before("power").failed + after("power").failed == 3`:                true,
		`during("power").latency.p95 <= 2 && share("booking.auk") < 1`:       true,
		`result.upstreams.booking.backends.auk.share > share("booking.auk")`: false,
	} {
		verdicts, found := judge(that)
		require.Empty(t, found, that)
		assert.Equal(t, met, verdicts[0].Met, that)
	}
	verdicts, _ := judge(`during("power").error_rate < 0.05 && share("booking.auk") < 1`)
	assert.Equal(t, map[string]any{`during("power").error_rate`: 0.1, `share("booking.auk")`: 0.25}, verdicts[0].Values, "what was compared is told")
	for that, want := range map[string]string{
		`share("booking.ouk") < 1`:     `no backend is called "booking.ouk"`,
		`during("powr").failed == 0`:   `no fault is called "powr"`,
		`during("power").faild == 0`:   `during("power") has no key "faild"`,
		`between("power").failed == 0`: `there is no function "between" in expectations`,
		`during("power")`:              `an expectation is true or false`,
	} {
		_, found := judge(that)
		if assert.NotEmpty(t, found, that) {
			assert.Contains(t, found[0].Message, want, that)
			assert.Equal(t, 2, found[0].Range.Start.Line)
		}
	}
}
