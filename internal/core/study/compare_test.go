package study

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/scenario"
)

func subject(t *testing.T, name, text, sc string) Subject {
	c, found, err := config.Read([]config.File{{Name: name, Source: []byte(text)}})
	require.NoError(t, err)
	require.Empty(t, found)
	s, found, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte(sc)}, c)
	require.NoError(t, err)
	require.Empty(t, found)
	return Subject{name, c, s}
}

const three = `frontend "web" {
  listen = "127.0.0.1:80"
  route "all" {
    send_to = upstream.a
  }
}
upstream "a" {
  algorithm = "least-connections"
  backends = {
    auk      = "127.0.0.1:1"
    gannet   = "127.0.0.1:2"
    "auk-2"  = "127.0.0.1:3"
  }
}
`

func TestVariants(t *testing.T) {
	s := subject(t, "a.hcl", three, "fault \"auk's twin hangs\" {\n backend = \"a.auk-2\"\n kind = \"hang\"\n at = \"1s\"\n}\nbehaviour \"a.auk\" {\n workers = 3\n}\n")
	names := func(axes Axes, subjects ...Subject) (out []string) {
		variants, _, err := Variants(subjects, axes)
		require.NoError(t, err)
		for _, w := range variants {
			out = append(out, w.Name)
		}
		return out
	}
	assert.Equal(t, []string{"least-connections", "ring, bound 1.25", "modulo"}, names(Axes{Algorithms: []string{"least-connections", "ring:1.25", "modulo"}}, s))
	assert.Equal(t, []string{"as configured", "random"}, names(Axes{Algorithms: []string{"random"}}, s), "what is configured is always among them")
	assert.Equal(t, []string{"a.hcl", "b.hcl"}, names(Axes{}, s, Subject{"b.hcl", s.Config, s.Scenario}))
	assert.Equal(t, []string{"1 backend, random", "5 backends, random"}, names(Axes{Algorithms: []string{"random"}, Pools: []int{1, 5}}, s))
	variants, left, err := Variants([]Subject{s}, Axes{Algorithms: []string{"first-fit"}, Pools: []int{1, 5}})
	require.NoError(t, err)
	require.Len(t, left, 1, "in a pool of one it is as good as any")
	assert.Equal(t, "5 backends, first-fit", left[0].Name)
	assert.Contains(t, left[0].Why, "a.auk has none")
	require.Len(t, variants, 1)
	assert.Equal(t, []string{`"auk's twin hangs" matches no backend in it`}, variants[0].Notes)

	variants, _, err = Variants([]Subject{s}, Axes{Pools: []int{5}})
	require.NoError(t, err)
	var pool []string
	for _, b := range variants[0].Config.Upstreams[0].Backends {
		pool = append(pool, b.Name)
	}
	assert.Equal(t, []string{"auk", "gannet", "auk-2", "auk-5", "gannet-2"}, pool, "no name is taken twice")
	assert.Equal(t, 3, variants[0].Scenario.Behaviour("a.auk-5").Workers, "a likeness behaves alike")
	assert.Equal(t, 16, variants[0].Scenario.Behaviour("a.gannet-2").Workers)
	assert.Len(t, s.Config.Upstreams[0].Backends, 3, "what was given is as it was")
	for _, x := range []struct {
		axes Axes
		want string
	}{
		{Axes{Algorithms: []string{"randon"}}, "did you mean random?"}, {Axes{Algorithms: []string{"hash"}}, "name the method of hash"},
		{Axes{Algorithms: []string{"ring:x"}}, "from 1.01 to 100"}, {Axes{Algorithms: []string{"modulo:2"}}, "belongs to the ring"},
		{Axes{Algorithms: []string{"random", "random"}}, "named twice"}, {Axes{Pools: []int{0}}, "from 1 to 1000"}, {Axes{Pools: []int{2, 2}}, "named twice"},
		{Axes{Upstreams: []string{"b"}}, `no upstream of a.hcl is called "b"`},
	} {
		_, _, err := Variants([]Subject{s}, x.axes)
		require.ErrorContains(t, err, x.want)
	}
	s.Config = &config.Config{}
	_, _, err = Variants([]Subject{s}, Axes{})
	require.EqualError(t, err, "a.hcl has no upstream, and so nothing to vary")
}

// TestWaysToKeepClients: each way with each loss, what is configured known again, and what is
// no way refused.
func TestWaysToKeepClients(t *testing.T) {
	s := subject(t, "a.hcl", strings.Replace(three, "algorithm =", "sticky {\n by = \"cookie\"\n name = \"seat\"\n ttl = \"1h\"\n }\n algorithm =", 1), "instances = 1\n")
	plain := subject(t, "b.hcl", three, "instances = 1\n")
	names := func(s Subject, sticky, loss string) (out []string) {
		variants, _, err := Variants([]Subject{s}, Axes{Sticky: strings.Fields(sticky), OnLoss: strings.Fields(loss)})
		require.NoError(t, err)
		for _, v := range variants {
			name := v.Name
			if v.Configured {
				name += " (now)"
			}
			out = append(out, name)
		}
		return out
	}
	assert.Equal(t, []string{"not sticky", "sticky by cookie (now)", "sticky by address", "sticky by header X-User"}, names(s, "none cookie address header:X-User", ""))
	assert.Equal(t, []string{"not sticky (now)", "sticky by header"}, names(plain, "none header", ""))
	assert.Equal(t, []string{"as configured (now)", "sticky by address"}, names(plain, "address", ""), "what is configured is always among them")
	assert.Equal(t, []string{"on loss move (now)", "on loss refuse"}, names(s, "", "move refuse"))
	assert.Equal(t, []string{"not sticky", "sticky by cookie, on loss move (now)", "sticky by cookie, on loss refuse"}, names(s, "none cookie", "move refuse"))
	variants, _, err := Variants([]Subject{s}, Axes{Sticky: []string{"cookie", "header"}, OnLoss: []string{"refuse"}})
	require.NoError(t, err)
	cookie, header := variants[1].Config.Upstreams[0].Sticky, variants[2].Config.Upstreams[0].Sticky
	assert.Equal(t, []string{"seat", "refuse", "X-Session", "refuse"}, []string{cookie.Name, cookie.OnLoss, header.Name, header.OnLoss})
	assert.Equal(t, time.Hour, header.TTL)
	assert.Equal(t, "move", s.Config.Upstreams[0].Sticky.OnLoss, "what was given is as it was")
	for _, x := range []struct {
		axes Axes
		want string
	}{
		{Axes{Sticky: []string{"cookies"}}, `-sticky has no value "cookies"; did you mean cookie?`}, {Axes{OnLoss: []string{"drop"}}, "known: move, refuse"},
		{Axes{Sticky: []string{"address:x"}}, "a name belongs to header and existing-cookie"}, {Axes{Sticky: []string{"none", "none"}}, "named twice"},
	} {
		_, _, err := Variants([]Subject{s}, x.axes)
		require.ErrorContains(t, err, x.want)
	}
	_, _, err = Variants([]Subject{plain}, Axes{OnLoss: []string{"move"}})
	require.ErrorContains(t, err, "no upstream is sticky")
}

// TestSideBySide: two slow backends and a fast one, of which least-connections
// knows and round-robin does not.
func TestSideBySide(t *testing.T) {
	s := subject(t, "a.hcl", three, `behaviour "a.*" {
  service = fixed("90ms")
  workers = 3
  backlog = 10
}
behaviour "a.gannet" {
  service = fixed("10ms")
}
load {
  rate     = "90/s"
  for      = "60s"
  arrivals = "even"
}
`)
	variants, left, err := Variants([]Subject{s}, Axes{Algorithms: Choices})
	require.NoError(t, err)
	require.Len(t, left, 1)
	c, err := SideBySide(context.Background(), variants, nil, nil, replay.Options{Seed: 1}, 0, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, 20, c.Seeds)
	run := func(name string) *Run {
		return &c.Runs[slices.IndexFunc(c.Runs, func(r Run) bool { return r.Name == name })]
	}
	rr, lc := run("round-robin"), run("least-connections")
	assert.True(t, lc.Configured)
	assert.EqualValues(t, 5400, rr.Result.Requests)
	assert.InDelta(t, 1, rr.Figures.Spread, 1e-9, "a third each, in turn")
	assert.Contains(t, rr.Best, "spread")
	assert.InDelta(t, 2.6, lc.Figures.Spread, 0.3, "of 90 a second about 80 go to the fast one")
	assert.InDelta(t, 0.011, lc.Figures.P50, 1e-3)
	assert.NotContains(t, rr.Best, "p50")
	assert.Zero(t, *run("rendezvous").Figures.MovedOnLeave)
	assert.Contains(t, run("rendezvous").Best, "moved_on_leave")
	assert.Greater(t, *run("modulo").Figures.MovedOnLeave, 0.3)
	for _, r := range c.Runs {
		assert.Equal(t, rr.Result.Requests, r.Result.Requests, "all meet the same requests")
		assert.NotContains(t, r.Best, "retried", "nothing was, in any of them")
	}
	alone, err := replay.Run(context.Background(), variants[0].Config, variants[0].Scenario, nil, replay.Options{Seed: 1})
	require.NoError(t, err)
	alone.Leave = c.Runs[0].Leave
	assert.Equal(t, alone, c.Runs[0].Result, "and each is as it would be alone")
	// Figures of one upstream are of nothing else.
	q := subject(t, "q.hcl", strings.Replace(quay, "probe \"tcp\" {", "retry {\n  }\n  probe \"tcp\" {", 1), "load {\n rate = \"60/s\"\n for = \"60s\"\n paths = [\"/=2\", \"/gate=1\"]\n}\nfault \"f\" {\n backend = \"a.auk\"\n kind = \"refuse\"\n at = \"10s\"\n}\n")
	ways2, _, err := Variants([]Subject{q}, Axes{Algorithms: []string{"random", "modulo"}, Upstreams: []string{"gate"}})
	require.NoError(t, err)
	for name, retried := range map[string]bool{"gate": false, "a": true} {
		c, err := SideBySide(context.Background(), ways2, []string{name}, nil, replay.Options{Seed: 1}, 1, nil, nil)
		require.NoError(t, err)
		r := c.Runs[0]
		assert.Positive(t, r.Result.Retried)
		assert.Equal(t, retried, r.Figures.Retried > 0, name)
		assert.EqualValues(t, r.Result.Upstreams[name].Retried, r.Figures.Retried)
		assert.Equal(t, r.Result.Retried, r.Result.Upstreams["a"].Retried+r.Result.Upstreams["gate"].Retried)
		assert.Equal(t, retried, len(r.Leave.Backends) > 0, "of the gate none leaves")
	}
	one, err := SideBySide(context.Background(), variants[:2], []string{"a"}, nil, replay.Options{Seed: 1}, 1, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, c.Runs[0].seeds[0].P99, one.Runs[0].Figures.P99, "of the only upstream they are those of all")
}
