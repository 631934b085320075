package study

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// bruteKinds are the faults that a sweep tries by default.
var bruteKinds = []string{"refuse", "hang", "blackhole", "errors", "slow", "reset", "flap"}

// TestNoFaultIsMuchWorse holds the worst that a sweep finds against the worst of so many
// random faults of the same kinds and lengths, both judged by the median of nine fresh
// seeds: it may be 5 % worse. KESTRIX_FAULTS says how many;
// .ci/long tries 2,000 on each.
func TestNoFaultIsMuchWorse(t *testing.T) {
	if testing.Short() {
		t.Skip("some hundred replays of each situation")
	}
	faults := 60
	if n := os.Getenv("KESTRIX_FAULTS"); n != "" {
		_, err := fmt.Sscan(n, &faults)
		require.NoError(t, err)
	}
	for name, load := range bruteSituations(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o := SweepOptions{Kinds: bruteKinds, TooMuch: 0.01, Replay: replay.Options{Seed: 1}, Seeds: 10}
			w, err := RunSweep(context.Background(), load.config, load.scenario, load.sources, o)
			require.NoError(t, err)
			r := &sweeping{ctx: context.Background(), o: &o, config: load.scenario.Expand(load.config), scenario: load.scenario, sources: load.sources, quiet: o.Replay, bases: map[int]*result.Replay{}}
			base, err := replay.Run(r.ctx, r.config, r.scenario, r.sources, o.Replay)
			require.NoError(t, err)
			r.base, r.length = base, o.length(base)
			r.extend()
			targets, err := o.targets(r.config, r.scenario)
			require.NoError(t, err)
			random := rand.New(rand.NewPCG(7, uint64(len(name))))
			var found []*candidate
			owner := map[*candidate]*target{}
			for from := 0; from < faults; from += atATime {
				var jobs []job
				for range min(atATime, faults-from) {
					length := time.Duration((0.25 + 0.75*random.Float64()) * float64(r.length))
					at := time.Duration(random.Float64() * (base.Duration*1e9 - float64(length))).Truncate(time.Millisecond)
					c := &candidate{kind: bruteKinds[random.IntN(len(bruteKinds))], at: at, until: at + length}
					owner[c] = &targets[random.IntN(len(targets))]
					jobs, found = append(jobs, job{c, owner[c], 0}), append(found, c)
				}
				require.NoError(t, r.run(jobs))
			}
			slices.SortStableFunc(found, worse)
			r.bases = map[int]*result.Replay{0: r.bases[0]}
			judged := func(c *candidate, of *target) float64 {
				fresh := &candidate{kind: c.kind, at: c.at, until: c.until}
				for seed := 100; seed < 109; seed++ {
					require.NoError(t, r.run([]job{{fresh, of, seed}}))
				}
				return fresh.median(func(o *outcome) float64 { return o.more })
			}
			named := &candidate{kind: w.Worst.Kind, at: time.Duration(w.Worst.At * 1e9), until: time.Duration(w.Worst.Until * 1e9)}
			of := slices.IndexFunc(targets, func(x target) bool { return x.name == w.Worst.Name })
			ours := judged(named, &targets[of])
			theirs, which := 0.0, found[0]
			for _, c := range found[:min(25, len(found))] {
				if m := judged(c, owner[c]); m > theirs {
					theirs, which = m, c
				}
			}
			t.Logf("%s: sweep's %s %s at %v for %v fails %v after %d replays; of %d random faults the worst, %s %s at %v for %v, %v", name,
				w.Worst.Name, w.Worst.Kind, named.at, named.until-named.at, ours, w.Replays, faults, owner[which].name, which.kind, which.at, which.until-which.at, theirs)
			assert.LessOrEqual(t, theirs, ours*1.05)
			assert.LessOrEqual(t, w.Replays, 200)
		})
	}
}

// bruteSituation is what is swept.
type bruteSituation struct {
	config   *config.Config
	scenario *scenario.Scenario
	sources  []ingest.Source
}

// bruteSituations returns the harbour example with its log, and situations of the catalogue of
// diagnoses without their faults.
func bruteSituations(t *testing.T) map[string]bruteSituation {
	out := map[string]bruteSituation{}
	text, err := os.ReadFile("../../../examples/harbour/harbour.hcl")
	require.NoError(t, err)
	c, found, err := config.Read([]config.File{{Name: "harbour.hcl", Source: text}})
	require.NoError(t, err)
	require.Empty(t, found)
	out["harbour"] = bruteSituation{c, scenario.None(), []ingest.Source{{Name: "morning.log", Open: func() (io.ReadCloser, error) { return os.Open("../../../examples/harbour/morning.log") }}}}
	for _, name := range []string{"slow_detection", "retry_storm", "zone", "crowd_on_return", "fails_fast"} {
		s := readSituation(t, "testdata/diagnosis/"+name+".txtar")
		values := map[string]string{"seed": "7"}
		r := rand.New(rand.NewPCG(3, uint64(len(name))))
		for _, x := range s.ranges {
			values[x[0]] = draw(t, r, x)
		}
		c, sc := s.read(t, values)
		sc.Faults = nil
		out[name] = bruteSituation{c, sc, nil}
	}
	return out
}
