package ingest

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/config"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// pool returns a configuration of three backends, with more routes and keys of their
// upstream.
func pool3(t testing.TB, routes, more string) *config.Config {
	text := "frontend \"web\" {\n listen = \"127.0.0.1:8080\"\n" + routes + " route \"all\" {\n send_to = upstream.app\n }\n}\n" +
		"upstream \"app\" {\n backends = {\n a = \"127.0.0.1:1\"\n b = \"127.0.0.1:2\"\n c = \"127.0.0.1:3\"\n}\n" + more + "}\n"
	c, found, err := config.Read([]config.File{{Name: "pool.hcl", Source: []byte(text)}})
	require.NoError(t, err)
	require.Empty(t, found)
	return c
}

// TestPlansThatShareASequence: one reading serves all configurations that need the same of
// a trace.
func TestPlansThatShareASequence(t *testing.T) {
	c, other := pool3(t, "", "sticky {\n by = \"address\"\n}\n"), pool3(t, "", "")
	streams, found, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte("streams {\n path = [\"/live\"]\n}\n")}, c)
	require.NoError(t, err)
	require.Empty(t, found)
	type made struct {
		c    *config.Config
		s    *scenario.Scenario
		seed uint64
	}
	plain := made{c: c, s: scenario.None()}
	hash := func(key, name string) made {
		up := *c.Upstreams[0]
		up.Algorithm, up.Hash = "hash", &config.Hash{Key: key, Name: name, Method: "ring"}
		own := *c
		own.Upstreams = []*config.Upstream{&up}
		return made{c: &own, s: scenario.None()}
	}
	for title, x := range map[string]struct {
		plans     []made
		sequences int
	}{
		"algorithms":              {[]made{plain, plain, hash("client", "")}, 1},
		"one hashes by something": {[]made{plain, hash("path", ""), plain}, 1},
		"and one by clients":      {[]made{plain, hash("path", ""), hash("client", "")}, 2},
		"two by different things": {[]made{hash("path", ""), hash("header", "x"), hash("header", "y")}, 3},
		"streams":                 {[]made{plain, {c: c, s: streams}, {c: c, s: streams}}, 2},
		"another configuration":   {[]made{plain, {c: other, s: scenario.None()}}, 2},
		"another seed":            {[]made{{c, scenario.None(), 3}, {c, scenario.None(), 4}, {c, scenario.None(), 3}}, 2},
	} {
		var plans []*Plan
		for _, m := range x.plans {
			p, err := NewPlan(m.c, m.s, Options{Seed: m.seed})
			require.NoError(t, err)
			plans = append(plans, p)
		}
		f, sequences := New(scenario.None(), nil, Options{}, plans...)
		assert.Len(t, f.sequences, x.sequences, title)
		assert.Len(t, sequences, len(plans), title)
		for _, p := range plans {
			again := map[*config.Hash]bool{nil: true}
			for _, r := range p.Routes {
				again[r.hash] = true
			}
			assert.LessOrEqual(t, len(again), 2, "%s: a case's own plan is not changed", title)
		}
	}
}

// TestClientsWithPorts: a port behind a client's address makes no new client.
func TestClientsWithPorts(t *testing.T) {
	var f Pipeline
	for i := range 1000 {
		var w clientRef
		for _, client := range []string{"203.0.113.9:", "kiosk.tern.example:request-", "k:"} {
			f.newRecordReader().who(&trace.Record{Client: fmt.Append(nil, client, i)}, &w)
			f.number(&Arrival{}, &w)
		}
	}
	assert.Len(t, f.ids.hashes, 3, "ports take no room")
}

func TestTheInternerGivesEachHashOneNumber(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var in interner
		seen := map[uint64]uint32{}
		shift := rapid.IntRange(-1, 50).Draw(t, "shift") // hashes that differ in few bits
		for _, k := range rapid.SliceOfN(rapid.Uint64Range(0, 3000), 1, 4000).Draw(t, "keys") {
			hash := rng.Bits(1, k, 0, rng.Who)
			if shift >= 0 {
				hash = k << shift
			}
			want, known := seen[hash]
			if !known {
				want = uint32(len(seen))
				seen[hash] = want
			}
			if got, fresh := in.number(hash); got != want || fresh == known {
				t.Fatalf("%d is number %d, want %d", k, got, want)
			}
		}
	})
	var zero interner
	n, fresh := zero.number(0)
	assert.True(t, fresh)
	again, fresh := zero.number(0)
	assert.False(t, fresh)
	assert.Equal(t, n, again, "a hash of 0 is a hash like any other")
}
