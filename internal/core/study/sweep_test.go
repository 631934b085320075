package study

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/replay"
)

// quay is three backends that each do ten requests a second, of which two stand in
// one zone, and one that nothing can stand in for.
const quay = `zone = "afar"
frontend "web" {
  listen = "127.0.0.1:80"
  route "gate" {
    when {
      path = "/gate"
    }
    send_to = upstream.gate
  }
  route "all" {
    send_to = upstream.a
  }
}
upstream "a" {
  backends = {
    auk    = { address = "127.0.0.1:1", zone = "north" }
    gannet = { address = "127.0.0.1:2", zone = "north" }
    petrel = { address = "127.0.0.1:3", zone = "east" }
  }
  failover {
    prefer = "zone"
  }
  probe "tcp" {
    every = "1s"
    down_after = 1
    up_after = 1
  }
}
upstream "gate" {
  backends = {
    fulmar = { address = "127.0.0.1:4", zone = "south" }
  }
  failover {
    prefer = "zone"
  }
}
`

const ferry = `behaviour "*" {
  service = fixed("100ms")
  workers = 1
  backlog = 20
}
load {
  rate  = "15/s"
  for   = "4m"
  shape = "spike"
  paths = ["/=2", "/gate=1"]
}
`

func sweep(t *testing.T, o SweepOptions) *Sweep {
	s := subject(t, "a.hcl", quay, ferry)
	o.Kinds, o.TooMuch, o.Names = append(o.Kinds, "refuse"), 0.01, []string{"a.hcl"}
	o.Replay.Seed = 3
	w, err := RunSweep(context.Background(), s.Config, s.Scenario, nil, o)
	require.NoError(t, err)
	return w
}

func TestSweep(t *testing.T) {
	told, last := 0, 0
	w := sweep(t, SweepOptions{Pairs: true, For: 20 * time.Second, Progress: func(done, of int) { told++; last = done }})
	require.Len(t, w.Cases, 3+3+6, "auk and gannet are equal by design")
	assert.Positive(t, told)
	assert.Greater(t, last, 12)
	assert.InDelta(t, 120, w.Of.At, 12, "the spike is in the middle")
	assert.InDelta(t, 20, w.Of.Until-w.Of.At, 1e-9)
	assert.Greater(t, w.Of.Rate, 20.0)
	assert.InDelta(t, 300, w.Of.Repeated, 1.5)
	assert.Contains(t, w.Notes[0], "the last 1m of the arrivals are repeated for 1m")
	names := map[string]SweepCase{}
	for i, c := range w.Cases {
		names[c.Name] = c
		if i > 0 {
			assert.LessOrEqual(t, c.More, w.Cases[i-1].More, "the worst first")
		}
		assert.LessOrEqual(t, c.MoreLow, c.More)
		assert.LessOrEqual(t, c.More, c.MoreHigh)
		assert.Len(t, c.MoreBySeed, c.Seeds)
		assert.LessOrEqual(t, c.Until-c.At, 20.0)
		assert.Equal(t, 10, c.Seeds, c.Name)
		assert.InDelta(t, c.Otherwise.Requests, c.During.Requests, 0.3*float64(c.Otherwise.Requests), "about as many come at that time")
	}
	assert.Equal(t, 10, w.Worst.Seeds, "what is known best")
	assert.Equal(t, []string{"a.auk", "a.gannet"}, names["zone north"].Failed)
	assert.Equal(t, []string{"a.gannet"}, names["a.auk"].Alike)
	assert.Empty(t, names["zone north"].LeftWithout, "petrel is left")
	require.Len(t, w.Single, 2)
	assert.Equal(t, []string{"gate.fulmar", "zone south"}, []string{w.Single[0].Name, w.Single[1].Name})
	assert.Equal(t, []string{"gate"}, names["gate.fulmar"].LeftWithout)
	require.NotNil(t, names["a.auk"].DetectedAfter)
	assert.InDelta(t, 0.5, *names["a.auk"].DetectedAfter, 0.6)
	same := names["zone south"]
	assert.Equal(t, names["gate.fulmar"].More, same.More, "the same one fails")
}

// TestTheAftermathCounts: a backlog that outlives its fault is part of what it does.
func TestTheAftermathCounts(t *testing.T) {
	s := readSituation(t, "testdata/diagnosis/retry_storm.txtar")
	s.config = strings.NewReplacer("    b1 = \"127.0.0.1:9001\"\n", "", "    b2 = \"127.0.0.1:9002\"\n", "").Replace(s.config)
	c, sc := s.read(t, map[string]string{"seed": "7", "rate": "60"})
	sc.Faults = nil
	w, err := RunSweep(context.Background(), c, sc, nil, SweepOptions{Kinds: []string{"slow"}, TooMuch: 0.01, Replay: replay.Options{Seed: 1}})
	require.NoError(t, err)
	x := w.Worst
	assert.Greater(t, x.Aftermath.Failed, x.During.Failed, "more fails afterwards")
	assert.Greater(t, x.More, 1.5*float64(x.During.Failed))
	assert.Positive(t, x.Unrecovered)
}

// TestHowMuchIsTooMuch: without one of three backends that do ten a second each, a
// steady load of ten a second can be twice as high.
func TestHowMuchIsTooMuch(t *testing.T) {
	s := subject(t, "a.hcl", quay, "behaviour \"*\" {\n service = fixed(\"100ms\")\n workers = 1\n backlog = 20\n}\nload {\n rate = \"10/s\"\n for = \"5m\"\n arrivals = \"even\"\n}\n")
	w, err := RunSweep(context.Background(), s.Config, s.Scenario, nil, SweepOptions{Kinds: []string{"refuse"}, TooMuch: 0.01})
	require.NoError(t, err)
	require.Len(t, w.Limits, 1, "of the gate nothing is left, so that there is no limit to find")
	l := w.Limits[0]
	assert.Equal(t, "a.auk", l.Backend)
	assert.InDelta(t, 1.85, l.Load, 0.2)
	require.NotNil(t, l.TooMuch)
	assert.InDelta(t, 2, *l.TooMuch, 0.2)
	assert.Equal(t, limitSeeds, l.Seeds)
	assert.InDelta(t, 10*l.Load, l.Rate, 0.5)
	assert.Zero(t, l.Undisturbed.Failed)
}

// TestShardsAreAsTheWhole: however it is dealt out, the same bytes come of it.
func TestShardsAreAsTheWhole(t *testing.T) {
	text := func(w *Sweep) string {
		b, err := json.Marshal(w)
		require.NoError(t, err)
		return string(b)
	}
	whole := text(sweep(t, SweepOptions{Pairs: true}))
	for _, of := range []int{1, 3, 20} {
		var parts []*Sweep
		var names []string
		for n := of; n >= 1; n-- {
			p := sweep(t, SweepOptions{Pairs: true, Shard: &Shard{n, of}})
			again := new(Sweep)
			require.NoError(t, json.Unmarshal([]byte(text(p)), again))
			parts, names = append(parts, again), append(names, fmt.Sprintf("%d.json", n))
		}
		joined, err := Merge(names, parts)
		require.NoError(t, err)
		assert.Equal(t, whole, text(joined), "of %d", of)
		if of != 3 {
			continue
		}
		_, err = Merge(names[:2], parts[:2])
		require.EqualError(t, err, "part 1 of 3 is missing")
		_, err = Merge([]string{"a", "b", "c"}, []*Sweep{parts[0], parts[1], parts[1]})
		require.EqualError(t, err, "part 2 is there twice: b and c")
		_, err = Merge([]string{"a", "b"}, []*Sweep{parts[0], sweep(t, SweepOptions{Shard: &Shard{1, 3}})})
		require.ErrorContains(t, err, "a and b are of different runs")
		_, err = Merge([]string{"a", "b"}, []*Sweep{parts[0], joined})
		require.EqualError(t, err, "b is no part but a whole sweep")
	}
}

func TestWhatCannotBeSwept(t *testing.T) {
	s := subject(t, "a.hcl", quay, ferry)
	_, err := RunSweep(context.Background(), s.Config, s.Scenario, nil, SweepOptions{Kinds: []string{"refuse"}, Upstreams: []string{"b"}})
	require.EqualError(t, err, `no upstream is called "b"`)
	ctx, stop := context.WithCancel(context.Background())
	runs := 0
	w, err := RunSweep(ctx, s.Config, s.Scenario, nil, SweepOptions{Kinds: []string{"refuse", "hang"}, Progress: func(done, of int) {
		if runs++; done > 8 {
			stop()
		}
	}})
	require.NoError(t, err)
	assert.True(t, w.Partial)
	assert.Len(t, w.Cases, 8, "what was done is told")
	closed := subject(t, "a.hcl", quay, "load {\n requests = 2000\n concurrency = 5\n}\n")
	w, err = RunSweep(context.Background(), closed.Config, closed.Scenario, nil, SweepOptions{Kinds: []string{"refuse"}, Replay: replay.Options{Seed: 1}})
	require.NoError(t, err)
	assert.Len(t, w.Notes, 2)
	assert.Empty(t, w.Limits)
}
