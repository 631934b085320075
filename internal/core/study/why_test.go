package study

import (
	"context"
	"fmt"
	"math"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/units"
	"kestrix/internal/core/upstream"
)

const two = `frontend "web" {
  listen = "127.0.0.1:8080"
  route "seats" {
    when {
      path = "/seats/**"
    }
    send_to = upstream.app
  }
}
frontend "admin" {
  listen = "127.0.0.1:8081"
  route "all" {
    send_to = upstream.spare
  }
}
upstream "app" {
  algorithm = "hash"
  backends = {
    auk    = { address = "127.0.0.1:9001", weight = 0 }
    gannet = "127.0.0.1:9002"
    petrel = "127.0.0.1:9003"
  }
}
upstream "spare" {
  backends = { skua = { address = "127.0.0.1:9004", weight = 0 } }
}
`

func TestWhy(t *testing.T) {
	c, found, err := config.Read([]config.File{{Name: "w.hcl", Source: []byte(two)}})
	require.NoError(t, err)
	require.Empty(t, found)
	ask := func(q Question) (*Answer, error) {
		q.Method, q.Host, q.Path = "GET", "Tickets.Tern.example:8080", "/seats/3"
		if q.Client == "" {
			q.Client = "203.0.113.9"
		}
		return Why(c, q)
	}
	a, err := ask(Question{Port: 8080, Times: 4})
	require.NoError(t, err)
	assert.Equal(t, []string{"web", "seats", "app"}, []string{a.Frontend, a.Route, a.Upstream})
	assert.Regexp(t, `^the client.s address \(hash [0-9a-f]{16}\): the next point of the ring after the key`, a.Reason)
	for _, p := range a.Series {
		assert.Equal(t, a.Backend, p.Backend, "the same client, the same backend")
	}
	assert.Equal(t, "its weight is 0: it gets no new requests", a.Considered[0].Why)
	same, err := ask(Question{Port: 8080, Client: "[::ffff:203.0.113.9]:99"})
	require.NoError(t, err)
	assert.Equal(t, a.Backend, same.Backend)

	a, err = ask(Question{Frontend: "admin"})
	require.NoError(t, err)
	assert.Empty(t, a.Backend)
	assert.Equal(t, "no backend is in rotation; the answer is 503", a.Reason)

	_, err = ask(Question{Port: 80})
	assert.ErrorContains(t, err, "several frontends could take it; say which with -frontend: web, admin")
	_, err = ask(Question{Frontend: "x"})
	assert.ErrorContains(t, err, `no frontend is called "x"`)
	_, err = ask(Question{Port: 8080, Client: "kim"})
	assert.ErrorContains(t, err, "is not an IP address")
}

// TestWhyAPrefixIsRedirected: the proxy answers that by itself.
func TestWhyAPrefixIsRedirected(t *testing.T) {
	c, found, err := config.Read([]config.File{{Name: "w.hcl", Source: []byte("frontend \"web\" {\n listen = \"127.0.0.1:80\"\n route \"a\" {\n when {\n path = \"/app/**\"\n }\n rewrite {\n drop_prefix = \"/app\"\n }\n send_to = upstream.u\n }\n}\nupstream \"u\" {\n backends = { b = \"127.0.0.1:81\" }\n}\n")}})
	require.NoError(t, err)
	require.Empty(t, found)
	a, err := Why(c, Question{Port: 80, Method: "GET", Host: "h", Path: "/%61pp", Client: "203.0.113.9"})
	require.NoError(t, err)
	assert.Equal(t, []string{"", "", "the proxy answers by itself: redirect 308 to /app/ (bare_prefix)"}, []string{a.Upstream, a.Backend, a.Reason})
	a, err = Why(c, Question{Port: 80, Method: "GET", Host: "h", Path: "/app/x", Client: "203.0.113.9"})
	require.NoError(t, err)
	assert.Equal(t, "b /x", a.Backend+" "+a.Passed.Path)
	assert.Contains(t, a.Passed.Own, "X-Forwarded-Prefix: /app")
}

func TestDraw(t *testing.T) {
	c, found, err := config.Read([]config.File{{Name: "w.hcl", Source: []byte(two)}})
	require.NoError(t, err)
	require.Empty(t, found)
	p := Draw(c)
	require.Len(t, p.Frontends, 2)
	assert.Equal(t, MapRoute{"seats", "path /seats/**", "app", ""}, p.Frontends[0].Routes[0])
	assert.Equal(t, MapRoute{"all", "everything", "spare", ""}, p.Frontends[1].Routes[0])
	assert.Equal(t, []string{"no probe"}, p.Upstreams[0].Settings)
	assert.Equal(t, MapBackend{"gannet", "127.0.0.1:9002", 1, 0.5, 0, ""}, p.Upstreams[0].Backends[1])
	assert.Zero(t, p.Upstreams[1].Backends[0].Share, "a weight of 0, and no division by it")
}

// TestTheWorkedExampleOfFailover holds the table of docs/failover.md to the
// program.
func TestTheWorkedExampleOfFailover(t *testing.T) {
	src, err := os.ReadFile("../../../examples/harbour/quays.hcl")
	require.NoError(t, err)
	c, found, err := config.Read([]config.File{{Name: "quays.hcl", Source: src}})
	require.NoError(t, err)
	require.Empty(t, found)
	page, err := os.ReadFile("../../../docs/failover.md")
	require.NoError(t, err)
	rows := 0
	for _, line := range strings.Split(string(page), "\n") {
		cells := strings.Split(line, "|")
		if len(cells) != 8 || !strings.Contains(cells[4], "%") {
			continue
		}
		rows++
		core := upstream.New(0, c.Upstreams[0], 1)
		if out := strings.TrimSpace(cells[1]); out != "none" {
			for name := range strings.SplitSeq(out, ",") {
				id, ok := core.Lookup(strings.TrimSpace(name))
				require.True(t, ok, name)
				core.Operate(0, id, upstream.Park, 0)
			}
		}
		var shares []string
		for _, g := range core.Shares() {
			shares = append(shares, fmt.Sprintf("%.1f %%", 100*g.Share))
		}
		var want []string
		for _, cell := range cells[4:7] {
			want = append(want, strings.TrimSpace(cell))
		}
		assert.Equal(t, want, shares, line)
	}
	assert.Equal(t, 5, rows)
}

// TestNightAndNoonOfFailover holds the second table of docs/failover.md to replays.
func TestNightAndNoonOfFailover(t *testing.T) {
	read := func(name string) string {
		text, err := os.ReadFile("../../../" + name)
		require.NoError(t, err)
		return string(text)
	}
	rows := 0
	for line := range strings.Lines(read("docs/failover.md")) {
		cells := strings.Split(line, "|")
		if len(cells) != 9 || !strings.Contains(cells[7], " ms") {
			continue
		}
		rows++
		for i := range cells {
			cells[i] = strings.TrimSpace(cells[i])
		}
		src := read("examples/harbour/quays.hcl")
		if at, room, _ := strings.Cut(cells[2], ", "); at == "spill_at" {
			src = strings.Replace(src, "spill_below", "spill_at", 1)
			src = regexp.MustCompile(`(address = "[^}]*) }`).ReplaceAllString(src, "$1, "+room+" }")
		}
		c, found, err := config.Read([]config.File{{Name: "quays.hcl", Source: []byte(src)}})
		require.NoError(t, err)
		require.Empty(t, found)
		s, found, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte(read("examples/harbour/" + cells[1] + ".scenario.hcl"))}, c)
		require.NoError(t, err)
		require.Empty(t, found)
		r, err := replay.Run(context.Background(), c, s, nil, replay.Options{Seed: s.Seed})
		require.NoError(t, err)
		total, zones := int64(0), map[string]int64{}
		for _, b := range c.Upstreams[0].Backends {
			n := r.Upstreams["booking"].Backends[b.Name].Requests
			total, zones[b.Zone] = total+n, zones[b.Zone]+n
		}
		share := func(zone string) string { return fmt.Sprintf("%.1f %%", 100*float64(zones[zone])/float64(total)) }
		during := r.Faults[0].During
		assert.Equal(t, cells[3:8], []string{share("north-quay"), share("south-quay"), share("boat-shed"), fmt.Sprint(during.Failed), units.Count(int64(math.Round(1000*during.Elapsed.P99))) + " ms"}, line)
	}
	assert.Equal(t, 6, rows)
}
