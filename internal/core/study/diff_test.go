package study

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/trace"
)

const before = `frontend "web" {
  listen = "127.0.0.1:80"
  route "live" {
    when {
      path = "/live/**"
    }
    send_to = upstream.b
  }
  route "rest" {
    send_to = upstream.a
  }
}
upstream "a" {
  algorithm = "hash"
  backends = {
    auk    = "127.0.0.1:1"
    gannet = "127.0.0.1:2"
    petrel = "127.0.0.1:3"
    skua   = "127.0.0.1:4"
  }
}
upstream "b" {
  backends = {
    auk    = { address = "127.0.0.1:1", weight = 3 }
    gannet = "127.0.0.1:2"
  }
  sticky {
    by = "address"
  }
}
`

func compared(t *testing.T, replace ...string) *Diff {
	parse := func(text string) *config.Config {
		c, found, err := config.Read([]config.File{{Name: "d.hcl", Source: []byte(text)}})
		require.NoError(t, err)
		for _, f := range found {
			require.Fail(t, f.Message)
		}
		return c
	}
	now := strings.NewReplacer(replace...).Replace(before)
	if len(replace) > 0 {
		require.NotEqual(t, before, now)
	}
	return Compare(parse(before), parse(now))
}

func TestWhatAChangeDoes(t *testing.T) {
	assert.False(t, compared(t).Changed())
	assert.False(t, compared(t, `"rest"`, `"others"`).Changed(), "a route that is only called otherwise changes nothing")

	d := compared(t, `"/live/**"`, `["/live/**", "/seats/**"]`)
	moves := func(d *Diff) (out []string) {
		for _, m := range d.Requests {
			out = append(out, strings.Join([]string{m.Frontend, m.OldRoute + ": " + m.Old, m.NewRoute + ": " + m.New, m.Request, m.Where}, " | "))
		}
		assert.Empty(t, d.Undecided)
		return out
	}
	assert.Equal(t, []string{`web | rest: upstream a | live: upstream b | GET http://tern.example/seats | path /live/** or /seats/**, not path /live/** before`,
		`web | rest: upstream a | : refused: 400, servers read its path in several ways, which lead to several routes | GET http://tern.example//seats | a path that servers read in several ways (//, %2F, %5C, ;), which lead to several routes on one side`}, moves(d))
	assert.Equal(t, &ClientMove{"a", "no hash gives them a backend any more", 0.75}, d.Requests[0].Clients, "1/4*3/4+1/4*1/4 meet the same server")
	assert.Nil(t, d.Requests[1].Clients)
	d = compared(t, `"/live/**"`, `"/seats/**"`)
	assert.Equal(t, &ClientMove{"b", `their seats by address belong to the upstream "b" and mean nothing to "a"`, 0.75}, d.Requests[0].Clients)
	assert.Equal(t, []string{
		`web | live: upstream b | rest: upstream a | GET http://tern.example/live | path /live/**, no longer path /seats/**`,
		`web | rest: upstream a | live: upstream b | GET http://tern.example/seats | path /seats/**, not path /live/** before`,
		`web | : refused: 400, servers read its path in several ways, which lead to several routes | rest: upstream a | GET http://tern.example//live | a path that servers read in several ways (//, %2F, %5C, ;), which lead to several routes on one side`,
	}, moves(d))
	d = compared(t, "    send_to = upstream.b", "    redirect {\n to = \"/x\"\n }")
	assert.Equal(t, []string{`web | live: upstream b | live: redirect 308 to /x | GET http://tern.example/live | path /live/**`}, moves(d))
	d = compared(t, "  route \"rest\" {\n    send_to = upstream.a\n  }\n", "")
	assert.Equal(t, "no route: 404", d.Requests[0].New)
	d = compared(t, "127.0.0.1:80", "127.0.0.1:81", `"web"`, `"web"`)
	assert.Equal(t, []Change{{"frontend web", "127.0.0.1:80", "127.0.0.1:81"}}, d.Listeners)
	d = compared(t, `"web"`, `"front"`)
	assert.Equal(t, []Change{{"frontend", "web", "front"}}, d.Renamed)
	assert.False(t, d.Changed())
	d = compared(t, `upstream "b"`, `upstream "c"`, "upstream.b", "upstream.c")
	assert.Equal(t, []Change{{"upstream", "b", "c"}}, d.Renamed)
	assert.Equal(t, []ClientMove{{"b", `their seats by address belong to the upstream "b" and mean nothing to "c"`, 0.375}}, d.Clients, "requests go the same way, and seats do not")
	d = compared(t, `upstream "a"`, `upstream "c"`, "upstream.a", "upstream.c")
	assert.Equal(t, []Change{{"upstream", "a", "c"}}, d.Renamed)
	assert.False(t, d.Changed(), "a hash goes by the names of backends")
	d = compared(t, `upstream "b"`, `upstream "c"`, "upstream.b", "upstream.c", "weight = 3", "weight = 4")
	assert.Empty(t, d.Renamed)
	assert.Equal(t, []string{`web | live: upstream b | live: upstream c | GET http://tern.example/live | path /live/**`}, moves(d))

	d = compared(t, "    skua   = \"127.0.0.1:4\"\n", "")
	assert.Equal(t, []Change{{"a.skua", "127.0.0.1:4", ""}}, d.Backends)
	require.Len(t, d.Clients, 1)
	assert.InDelta(t, 0.25, d.Clients[0].Share, 0.05, "one of four leaves")
	d = compared(t, "    skua   = \"127.0.0.1:4\"\n", "    skua   = \"127.0.0.1:4\"\n    shag = \"127.0.0.1:5\"\n")
	assert.InDelta(t, 0.2, d.Clients[0].Share, 0.05, "one of five comes")
	d = compared(t, "    auk    = { address = \"127.0.0.1:1\", weight = 3 }\n", "")
	assert.Equal(t, []ClientMove{{"b", "their seats by address are on a backend that leaves", 0.75}}, d.Clients)
	d = compared(t, "weight = 3", "weight = 3, tier = 2", "  sticky {\n    by = \"address\"", "  failover {\n  }\n  sticky {\n    by = \"address\"")
	assert.Equal(t, []Change{{"b.auk", "tier 1", "tier 2"}}, d.Backends)
	d = compared(t, "    auk    = \"127.0.0.1:1\"\n    gannet = \"127.0.0.1:2\"\n", "    gannet = \"127.0.0.1:2\"\n    auk    = \"127.0.0.1:1\"\n")
	assert.False(t, d.Changed(), "the order of backends counts for first-fit alone")
	d = compared(t, "weight = 3", "weight = 2")
	assert.Equal(t, []Change{{"b.auk", "weight 3", "weight 2"}}, d.Backends)
	assert.Empty(t, d.Clients, "seats are kept")
	d = compared(t, `algorithm = "hash"`, `algorithm = "random"`)
	assert.Equal(t, []ClientMove{{"a", "no hash gives them a backend any more", 0.75}}, d.Clients)
	d = compared(t, `algorithm = "hash"`, "algorithm = \"hash\"\n  hash {\n    key = \"path\"\n  }")
	assert.Equal(t, []ClientMove{{"a", "the hash goes by something else", 0.75}}, d.Clients)
	d = compared(t, `by = "address"`, `by = "cookie"`)
	assert.InDelta(t, 0.375, d.Clients[0].Share, 1e-9, "of two weights 3 and 1 (3*3+1*1)/16 meet the same")
	assert.Equal(t, Change{"b.sticky.by", "address", "cookie"}, d.Settings[0])
	d = compared(t, `algorithm = "hash"`, "algorithm = \"random\"\n  probe \"http\" {\n  }\n  retry {\n    on = [\"503\", \"connect\"]\n  }\n  timeouts {\n    answer = \"5s\"\n  }")
	assert.Equal(t, []Change{
		{"a.algorithm", "hash", "random"}, {"a.timeouts.answer", "30s", "5s"},
		{"a.probe", "", "kind http, path /, method GET, expect.status 200-299, every 5s, jitter 0%, timeout 2s, down_after 2, up_after 2"},
		{"a.retry", "", "attempts 2, on 503, connect"},
	}, d.Settings)
}

// TestWhatAProxyShowsIsTheSame compares a configuration with what a proxy that has it shows.
func TestWhatAProxyShowsIsTheSame(t *testing.T) {
	text := strings.Replace(strings.Replace(before, "by = \"address\"", "by = \"cookie\"\n    secret = env(\"SEAL\")", 1), "auk    = \"127.0.0.1:1\"", "auk    = env(\"AUK\", \"127.0.0.1:1\")", 1)
	read := func(seal string) *config.Config {
		c, found, err := config.ReadIn([]config.File{{Name: "d.hcl", Source: []byte(text)}}, config.World{Env: func(name string) (string, bool) { return seal, name == "SEAL" }})
		require.NoError(t, err)
		require.Empty(t, found)
		return c
	}
	c := read("a seal of sixteen and more")
	shown, found, err := config.ReadIn(c.Resolved(), config.World{Hidden: true})
	require.NoError(t, err)
	require.Empty(t, found)
	d := Compare(shown, c)
	assert.False(t, d.Changed(), "%+v", d)
	d = Compare(shown, read("another seal of sixteen and more"))
	assert.Len(t, d.Settings, 1)
	assert.Equal(t, "their seats by cookie are not known any more: another secret seals them", d.Clients[0].Why)
}

// TestWhatAReloadTells words changes, by upstream and frontend.
func TestWhatAReloadTells(t *testing.T) {
	const old = `frontend "web" {
  listen = "127.0.0.1:1"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    a = "127.0.0.1:11"
    b = "127.0.0.1:12"
  }
}
upstream "other" {
  backends = { c = "127.0.0.1:13" }
}
`
	read := func(text string) *config.Config {
		c, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(text)}})
		require.NoError(t, err)
		require.Empty(t, found, text)
		return c
	}
	now := "zone = \"north\"\n" + strings.NewReplacer(
		"upstream \"app\" {", "upstream \"app\" {\n algorithm = \"least-connections\"\n retry {\n }", "b = \"127.0.0.1:12\"", "d = \"127.0.0.1:14\"\n e = \"127.0.0.1:15\"", "a = \"127.0.0.1:11\"", "a = { address = \"127.0.0.1:11\", weight = 2 }",
		"upstream \"other\"", "upstream \"new\"", "127.0.0.1:1\"", "127.0.0.1:2\"", "upstream.app", "upstream.new",
	).Replace(old)
	assert.Equal(t, []ChangeOf{
		{"new", "was called other"},
		{"web", "listeners 127.0.0.1:2, was 127.0.0.1:1; GET http://tern.example/: upstream new, was upstream app"},
		{"app", "algorithm least-connections, was round-robin; retry added: attempts 2, on 502, 503, connect, reset, timeout; backend a weight 2, was weight 1; 2 backends added: d, e; 1 backend removed: b"},
		{"", "zone north, was none"},
	}, Changed(read(old), read(now)))
	assert.Empty(t, Changed(read(old), read("# a line more\n"+old)))
}

// TestPlacesAreNoChange: a line more above changes where everything stands, and nothing
// of what it says.
func TestPlacesAreNoChange(t *testing.T) {
	const more = `control {
  listen = "127.0.0.1:9900"
}
record = "today.jsonl.zst"
access_log {
  to = "syslog"
}
syslog {
  transport = "udp"
  address   = "127.0.0.1:514"
}
trusted_proxies = ["192.0.2.0/24"]
frontend "gate" {
  listen   = ["127.0.0.1:7000", "127.0.0.1:7001"]
  protocol = "tcp"
  route "all" {
    send_to = upstream.b
  }
}
`
	read := func(text string) *config.Config {
		c, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(text)}})
		require.NoError(t, err)
		for _, f := range found {
			require.Fail(t, f.Message, f.Hint)
		}
		return c
	}
	d := Compare(read(before+more), read("# moved\n\n"+before+more))
	assert.False(t, d.Changed(), "%+v", d)
	d = Compare(read(before+more), read(before+strings.Replace(more, "9900", "9901", 1)))
	assert.Equal(t, []Change{{"control.listen", "127.0.0.1:9900", "127.0.0.1:9901"}}, d.Settings)
}

func TestMoverCountsWhatGoesElsewhere(t *testing.T) {
	old, found, err := config.Read([]config.File{{Name: "old.hcl", Source: []byte(before)}})
	require.NoError(t, err)
	require.Empty(t, found)
	// The route goes, and a condition asks for a host that some records lack.
	text := strings.Replace(before, `path = "/live/**"`, `host = "live.tern.example"`, 1)
	now, found, err := config.Read([]config.File{{Name: "new.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	require.Empty(t, found)

	m, err := NewMover(old, now, "", "")
	require.NoError(t, err)
	for i, r := range []struct{ path, host string }{
		{"/live/a", ""}, {"/live/b", "live.tern.example:80"}, {"/x", "LIVE.tern.example"}, {"/live/c", ""}, {"/y", "tern.example"},
	} {
		rec := trace.Record{Method: []byte("GET"), Path: []byte(r.path), Line: int64(i + 1), Client: fmt.Append(nil, "192.0.2.", i)}
		if r.host != "" {
			rec.Host = []byte(r.host)
		}
		require.NoError(t, m.Add(&rec))
	}
	got := m.Moves()
	assert.EqualValues(t, 5, got.Requests)
	assert.EqualValues(t, 3, got.Different)
	assert.EqualValues(t, 2, got.Unknown)
	assert.Equal(t, []TraceMove{
		{"web", "live", "rest", "upstream b", "upstream a", 2, 2, "GET /live/a", 1},
		{"web", "rest", "live", "upstream a", "upstream b", 1, 1, "GET /x", 3},
	}, got.Moves)
	assert.ErrorContains(t, m.Add(&trace.Record{Frontend: []byte("quay")}), `names the frontend "quay"`)
	_, err = NewMover(old, now, "quay", "")
	assert.ErrorContains(t, err, `no frontend is called "quay"`)

	two, found, err := config.Read([]config.File{{Name: "two.hcl", Source: []byte(before + "frontend \"quay\" {\n  listen = \"127.0.0.1:81\"\n  route \"all\" {\n    send_to = upstream.a\n  }\n}\n")}})
	require.NoError(t, err)
	require.Empty(t, found)
	m, err = NewMover(old, two, "", "")
	require.NoError(t, err)
	assert.ErrorContains(t, m.Add(&trace.Record{}), "say which with -frontend")
	require.NoError(t, m.Add(&trace.Record{Frontend: []byte("quay"), Path: []byte("/"), Line: 9}))
	assert.Equal(t, []TraceMove{{"quay", "", "all", "no listener", "upstream a", 1, 0, "? /", 9}}, m.Moves().Moves)
}

// TestMoverFollowsRenames: a trace must not contradict what is proved.
func TestMoverFollowsRenames(t *testing.T) {
	read := func(replace ...string) *config.Config {
		c, found, err := config.Read([]config.File{{Name: "d.hcl", Source: []byte(strings.NewReplacer(replace...).Replace(before))}})
		require.NoError(t, err)
		require.Empty(t, found)
		return c
	}
	for _, name := range []string{"web", "front"} {
		m, err := NewMover(read(), read(`frontend "web"`, `frontend "front"`, `upstream "a"`, `upstream "c"`, "upstream.a", "upstream.c"), "", "")
		require.NoError(t, err)
		require.NoError(t, m.Add(&trace.Record{Frontend: []byte(name), Path: []byte("/x")}))
		require.NoError(t, m.Add(&trace.Record{Path: []byte("/live")}))
		assert.Empty(t, m.Moves().Moves)
		assert.EqualValues(t, 2, m.Moves().Requests)
	}
}

func TestCompareSeesEveryPartOfARoute(t *testing.T) {
	long := strings.Repeat("s", 60)
	text := `frontend "web" {
  listen = "127.0.0.1:80"
  route "go" {
    when {
      path = "/go/**"
    }
    redirect {
      to     = "https://tern.example{path}"
      status = 308
    }
  }
  route "soon" {
    when {
      path = "/soon"
    }
    reply {
      status       = 503
      body         = "` + long + `t"
      content_type = "text/plain"
    }
  }
  route "rest" {
    rewrite {
      prepend = "/v1"
      host    = "in.tern.example"
    }
    headers {
      request {
        set = { "X-Quay" = "1" }
        add = { "X-Tide" = "2" }
      }
      answer {
        remove = ["Server"]
      }
    }
    send_to = upstream.a
  }
}
upstream "a" {
  backends = { auk = "127.0.0.1:1" }
}
`
	read := func(text string) *config.Config {
		c, found, err := config.Read([]config.File{{Name: "a.hcl", Source: []byte(text)}})
		require.NoError(t, err)
		require.Empty(t, found)
		return c
	}
	assert.False(t, Compare(read(text), read(text)).Changed())
	assert.False(t, Compare(read(text), read(strings.Replace(text, `"rest"`, `"all"`, 1))).Changed(), "a name changes nothing")
	for _, one := range [][2]string{
		{"308", "302"}, {"https://tern", "https://quay"}, {"503", "504"}, {long + "t", long + "u"}, {"text/plain", "text/html"}, {"/v1", "/v2"},
		{"in.tern", "in.quay"}, {`"X-Quay" = "1"`, `"X-Quay" = "2"`}, {"X-Tide", "X-Ebb"}, {`"Server"`, `"Via"`},
	} {
		d := Compare(read(text), read(strings.Replace(text, one[0], one[1], 1)))
		require.Len(t, d.Requests, 1, "%s becomes %s", one[0], one[1])
		assert.NotEqual(t, d.Requests[0].Old, d.Requests[0].New)
	}
}
