package report

import (
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// onItsOwn holds a page to needing nothing besides itself.
func onItsOwn(t *testing.T, page []byte) string {
	text := string(page)
	for _, outside := range []string{"<script", "src=", "href=", "http://", "https://", "@import", "<link"} {
		assert.NotContains(t, text, outside)
	}
	assert.Contains(t, text, `content="default-src 'none'; style-src 'unsafe-inline'"`)
	d := xml.NewDecoder(strings.NewReader(text))
	d.Strict, d.AutoClose, d.Entity = false, xml.HTMLAutoClose, xml.HTMLEntity
	for {
		if _, err := d.Token(); err != nil {
			require.ErrorIs(t, err, io.EOF, "every element is closed")
			break
		}
	}
	return text
}

// drawn reads the values of a stepped area back from its path, by the axis beside it:
// that is labelled with round numbers, of which the place is known.
func drawn(t *testing.T, svg string) []float64 {
	axis := regexp.MustCompile(`<text x="57" y="([0-9.]+)" class="e soft">([0-9.,]+)/s</text>`).FindAllStringSubmatch(svg, -1)
	require.GreaterOrEqual(t, len(axis), 2)
	number := func(s string) float64 {
		f, err := strconv.ParseFloat(strings.ReplaceAll(s, ",", ""), 64)
		require.NoError(t, err)
		return f
	}
	first, last := axis[0], axis[len(axis)-1]
	perPixel := (number(last[2]) - number(first[2])) / (number(first[1]) - number(last[1]))
	path := regexp.MustCompile(`<path class="area accent" d="M[0-9.]+ [0-9.]+((?:V[0-9.]+H[0-9.]+)+)V`).FindStringSubmatch(svg)
	require.NotNil(t, path)
	var out []float64
	for _, v := range regexp.MustCompile(`V([0-9.]+)`).FindAllStringSubmatch(path[1], -1) {
		out = append(out, (number(first[1])-4-number(v[1]))*perPixel)
	}
	return out
}

// replayed is a real replay: a backend goes and comes back.
func replayed(t *testing.T) Replay {
	src := "frontend \"web\" {\n listen = \"127.0.0.1:80\"\n route \"all\" {\n send_to = upstream.app\n }\n}\nupstream \"app\" {\n backends = {\n auk = \"127.0.0.1:1\"\n gannet = \"127.0.0.1:2\"\n}\nprobe \"tcp\" {\n every = \"2s\"\n}\n}\n"
	c, found, err := config.Read([]config.File{{Name: "tern.hcl", Source: []byte(src)}})
	require.NoError(t, err)
	require.Empty(t, found)
	text := "load {\n rate = \"40/s\"\n for = \"100s\"\n}\nfault \"auk falls\" {\n backend = \"app.auk\"\n kind = \"refuse\"\n at = \"30s\"\n until = \"60s\"\n}\n"
	sc, found, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte(text)}, c)
	require.NoError(t, err)
	require.Empty(t, found)
	r, err := replay.Run(context.Background(), c, sc, nil, replay.Options{Seed: 1})
	require.NoError(t, err)
	return Replay{Config: c, Scenario: sc, Path: "tern.hcl", Names: []string{"tern.hcl"}, Result: r}
}

func TestThePageOfAReplay(t *testing.T) {
	p := replayed(t)
	p.Result.Faults[0].Name = `auk <script>alert("x")</script> & falls`
	page, err := ReplayPage(p, "1.2.3")
	require.NoError(t, err)
	text := onItsOwn(t, page)
	assert.Contains(t, text, "auk &lt;script&gt;alert(&#34;x&#34;)&lt;/script&gt; &amp; falls", "whatever a fault is called")
	assert.Contains(t, text, "<title>tern.hcl")
	for _, want := range []string{"Requests over time", "Duration of requests", "Timeline", "Client impact", "Model and configuration", "kestrix 1.2.3", "lognormal", "Failed, by cause"} {
		assert.Contains(t, text, want)
	}
	r := p.Result
	assert.Contains(t, text, fmt.Sprintf("<dd>%s <small>%s</small></dd>", count(r.Answered), finePercent(share(r.Answered, r.Requests))))
	for _, u := range r.Upstreams {
		for name, b := range u.Backends {
			assert.Contains(t, text, fmt.Sprintf(`<b>%s</b></td><td>%s</td><td class="n">%s</td>`, name, b.State, count(b.Requests)))
		}
	}
	// What is drawn is what was counted.
	chart, _ := p.requestsChart()
	values := drawn(t, string(chart))
	require.InDelta(t, len(r.Timeline.Rows), len(values), 1)
	sum := 0.0
	for i, v := range values[:len(values)-1] { // the replay ends within the last
		assert.InDelta(t, float64(r.Timeline.Rows[i].Answered)/r.Timeline.Bucket, v, 0.35, "row %d", i)
		sum += v * r.Timeline.Bucket
	}
	assert.InDelta(t, r.Answered, sum, float64(r.Answered)/20)
	assert.Contains(t, string(chart), `class="band"`)
	require.NotEmpty(t, p.strips("app", "auk"))
	for _, s := range p.strips("app", "auk") {
		assert.Contains(t, text, fmt.Sprintf("auk is %s from %s to %s", s.state, moment(s.from), moment(s.until)))
	}
}

func TestVerdicts(t *testing.T) {
	p := fixture(t)
	p.Result.Expectations = nil
	p.Result.Failed, p.Result.ErrorRate = 0, 0
	parts, bad := p.verdict()
	assert.Equal(t, "0 of 12,480 failed", parts[0])
	assert.False(t, bad)
	p = fixture(t)
	p.Result.Partial = true
	parts, bad = p.verdict()
	assert.Equal(t, []string{"stopped early, figures are partial", "1 of 2 expectations met", "2 of 12,480 failed (0.02 %)", "elapsed p99 ~250 ms"}, parts)
	assert.True(t, bad, "an expectation is not met")
}

// TestALargePageStaysSmall: a day of a thousand upstreams.
func TestALargePageStaysSmall(t *testing.T) {
	p := fixture(t)
	u := p.Config.Upstreams[0]
	res := p.Result.Upstreams[u.Name]
	rows := p.Result.Timeline.Rows
	for len(p.Result.Timeline.Rows) < 2000 {
		p.Result.Timeline.Rows = append(p.Result.Timeline.Rows, rows...)
	}
	for i := range p.Result.Timeline.Rows {
		p.Result.Timeline.Rows[i].At = float64(i) * p.Result.Timeline.Bucket
	}
	p.Result.Duration = 86400
	for i := range 1000 {
		x := *u
		x.Name = fmt.Sprintf("app%d", i)
		p.Config.Upstreams = append(p.Config.Upstreams, &x)
		p.Result.Upstreams[x.Name] = res
	}
	for range 5000 {
		p.Result.Health = append(p.Result.Health, result.HealthChange{At: 3, Upstream: u.Name, Backend: "auk", From: "up", To: "down", Why: "a probe failed"})
	}
	page, err := ReplayPage(p, "1")
	require.NoError(t, err)
	assert.Less(t, len(page), 2<<20)
	assert.Contains(t, string(page), "-format json lists 981 more")
	assert.Contains(t, string(page), "left rotation 5,00")
}
