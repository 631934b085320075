package study

import (
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
)

// TestSignFlip holds the test against the definition: every way to give the differences
// other signs, one after the other.
func TestSignFlip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		observed, hits := 0.0, 0
		var d []float64
		for _, x := range rapid.SliceOfN(rapid.IntRange(-5, 5), 0, 10).Draw(t, "differences") {
			d = append(d, float64(x))
			observed += float64(x)
		}
		for signs := range 1 << len(d) {
			sum := 0.0
			for i, x := range d {
				sum += float64(signs>>i&1*2-1) * x
			}
			if math.Abs(sum) >= math.Abs(observed)-1e-9 {
				hits++
			}
		}
		assert.InDelta(t, float64(hits)/float64(uint64(1)<<len(d)), signFlip(d, 0), 1e-12)
	})
	assert.EqualValues(t, 1, signFlip(make([]float64, 12), 0), "no difference at all")
	many := make([]float64, 30)
	for i := range many {
		many[i] = 1
	}
	assert.Equal(t, 1.0/20_001, signFlip(many, 20_000), "what was observed counts as one of the draws")
	for i := range many {
		many[i] = float64(i%2*2 - 1)
	}
	assert.EqualValues(t, 1, signFlip(many, 1000))
	assert.InDelta(t, signFlip([]float64{3, -1, 2, 2, -1, 4, 1, -2, 3, 1, 1, -1, 2, 1, -1, 2, 1, 2}, 0), signFlip([]float64{3, -1, 2, 2, -1, 4, 1, -2, 3, 1, 1, -1, 2, 1, -1, 2, 1, 2, 1e-12}, 50_000), 3e-3, "drawn as tried")
	p := []float64{0.01, 0.04, 0.03, 0.005}
	holm(p)
	assert.InDeltaSlice(t, []float64{0.03, 0.06, 0.06, 0.02}, p, 1e-12, "as Holm's own rule has it")
	for tests, want := range map[int]int{1: 10, 12: 10, 36 * 12: 15} {
		n := fewestSeeds(tests)
		assert.Equal(t, want, n)
		assert.LessOrEqual(t, float64(tests)*math.Pow(2, float64(1-n)), level, "the least p there can be is below the level")
	}
}

// pool is a configuration of four backends, of which the names and the order are given.
func pool(names ...string) string {
	var b strings.Builder
	b.WriteString("frontend \"web\" {\n  listen = \"127.0.0.1:80\"\n  route \"all\" {\n    send_to = upstream.a\n  }\n}\nupstream \"a\" {\n  algorithm = \"ALGORITHM\"\n  backends = {\n")
	for i, n := range names {
		fmt.Fprintf(&b, "    %s = \"127.0.0.1:%d\"\n", n, i+1)
	}
	return b.String() + "  }\n}\n"
}

// TestEqualsAreNotToldApart compares variants that are equal in law: the backends have
// other names and another order. By chance alone one of 20 comparisons may tell them apart.
func TestEqualsAreNotToldApart(t *testing.T) {
	if testing.Short() {
		t.Skip("thousands of replays")
	}
	const load = "behaviour \"a.*\" {\n  workers = 2\n  backlog = 1\n}\nload {\n  rate = \"150/s\"\n  for = \"5s\"\n}\n"
	told, comparisons := 0, 0
	for _, algorithm := range []string{"random", "least-connections", "two-choices", "round-robin"} {
		one := strings.Replace(pool("auk", "gannet", "petrel", "skua"), "ALGORITHM", algorithm, 1)
		two := strings.Replace(pool("tern", "shag", "auk", "knot"), "ALGORITHM", algorithm, 1)
		variants, _, err := Variants([]Subject{subject(t, "one", one, load), subject(t, "two", two, load)}, Axes{})
		require.NoError(t, err)
		for seed := range uint64(50) {
			c, err := SideBySide(context.Background(), variants, nil, nil, replay.Options{Seed: seed*100 + 1}, 10, nil, nil)
			require.NoError(t, err)
			require.Equal(t, 10, c.Needed)
			if comparisons++; len(c.Apart) > 0 {
				told++
			}
		}
	}
	assert.LessOrEqual(t, told, comparisons/20, "of %d comparisons", comparisons)
}

// TestRealDifferencesAreFound compares variants of which one fails a fifth more, at the
// number of failures that docs/replay.md names: 100 of each seed.
func TestRealDifferencesAreFound(t *testing.T) {
	if testing.Short() {
		t.Skip("thousands of replays")
	}
	const sc = "behaviour \"a.*\" {\n  workers = 100\n}\nload {\n  rate = \"200/s\"\n  for = \"10s\"\n}\nfault \"bad\" {\n  backend = \"a.auk\"\n  kind = \"errors\"\n  at = \"0s\"\n}\n"
	weighted := func(weight int) string {
		text := strings.Replace(pool("auk", "gannet"), "ALGORITHM", "random", 1)
		for i, w := range []int{weight, 1000 - weight} {
			text = strings.Replace(text, fmt.Sprintf("\"127.0.0.1:%d\"", i+1), fmt.Sprintf("{ address = \"127.0.0.1:%d\", weight = %d }", i+1, w), 1)
		}
		return text
	}
	variants, _, err := Variants([]Subject{subject(t, "a twentieth", weighted(50), sc), subject(t, "a fifth more", weighted(60), sc)}, Axes{})
	require.NoError(t, err)
	const comparisons = 60
	found := 0
	for seed := range uint64(comparisons) {
		c, err := SideBySide(context.Background(), variants, nil, nil, replay.Options{Seed: seed*100 + 1}, 0, nil, nil)
		require.NoError(t, err)
		require.Equal(t, 20, c.Seeds)
		assert.InDelta(t, 100, c.Runs[0].Figures.Failed, 10)
		if c.BetterBeyondChance("failed", &c.Runs[0], &c.Runs[1]) {
			found++
		}
	}
	assert.GreaterOrEqual(t, found, comparisons*95/100)
}

// TestResampledEqualsAreNotToldApart: of one trace a hash by client sends more requests to
// some backend by chance, with all seeds alike. Where the clients are resampled that is no
// difference that another trace would have.
func TestResampledEqualsAreNotToldApart(t *testing.T) {
	if testing.Short() {
		t.Skip("thousands of replays")
	}
	hashed := func(names ...string) Subject {
		return subject(t, names[0], strings.Replace(pool(names...), "algorithm = \"ALGORITHM\"", "algorithm = \"hash\"\n  hash {\n    key = \"client\"\n    method = \"rendezvous\"\n  }", 1), "instances = 1\n")
	}
	variants, _, err := Variants([]Subject{hashed("auk", "gannet", "petrel"), hashed("tern", "shag", "knot")}, Axes{})
	require.NoError(t, err)
	told, certain := 0, 0
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 2))
		var b strings.Builder
		for i := range 1500 {
			fmt.Fprintf(&b, "{\"time\": %d.%03d, \"client\": \"192.0.2.%d\", \"path\": \"/\", \"duration\": 0.02}\n", 1_700_000_000+i/50, i%50*20, r.IntN(60))
		}
		sources := []ingest.Source{{Name: "t.jsonl", Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(b.String())), nil }}}
		for _, resample := range []bool{false, true} {
			c, err := SideBySide(context.Background(), variants, nil, sources, replay.Options{Seed: seed*1000 + 1, Resample: resample}, 20, nil, nil)
			require.NoError(t, err)
			require.Equal(t, resample, c.Resampled)
			if resample && len(c.Apart) > 0 {
				told++
			} else if len(c.Apart) > 0 {
				certain++
			}
			if resample {
				assert.Less(t, c.Runs[0].Low.Spread, c.Runs[0].High.Spread)
				assert.Equal(t, int64(1500), c.Runs[0].Result.Requests, "the trace as it is")
			}
		}
	}
	assert.Greater(t, certain, 15, "for exactly these arrivals they differ")
	assert.LessOrEqual(t, told, 1)
}
