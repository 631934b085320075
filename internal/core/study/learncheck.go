package study

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// LearnedRun is how requests fared, recorded or replayed. Times are seconds.
type LearnedRun struct {
	LearnedTimes
	InFlight float64 `json:"in_flight"` // on average, by Little's law
}

// mostReplayed bounds with how many of the recorded arrivals what was learned is replayed.
const mostReplayed = 300_000

// runOf returns how requests fared that came in the order of time.
func runOf(of []served) LearnedRun {
	took := make([]float64, len(of))
	for i := range of {
		took[i] = float64(of[i].took) / 1e9
	}
	slices.Sort(took)
	r := LearnedRun{LearnedTimes: timesOf(took)}
	if span := float64(of[len(of)-1].at-of[0].at) / 1e9; span > 0 {
		r.InFlight = r.Mean * float64(len(of)) / span
	}
	return r
}

// poolOfOne is what the recorded arrivals are replayed with: one backend with all workers.
const poolOfOne = `frontend "web" {
  listen = "127.0.0.1:80"
  route "all" {
    send_to = upstream.all
  }
}
upstream "all" {
  timeouts {
    answer = "24h"
  }
  backends = {
    all = "127.0.0.1:81"
  }
}
`

// replayed returns how the recorded arrivals fare in a replay with what was learned, beside how
// they fared when they were recorded.
func (s *LearnedService) replayed(of []served) (recorded, again LearnedRun, err error) {
	of = of[:min(len(of), mostReplayed)]
	recorded = runOf(of)
	c, _, err := config.Read([]config.File{{Name: "learned.hcl", Source: []byte(poolOfOne)}})
	if err != nil {
		return recorded, again, err
	}
	workers := s.Workers * s.Backends
	if !s.Queued {
		workers = max(workers, s.Open)
	}
	sc := scenario.None()
	sc.Behaviours = []scenario.Behaviour{{Pattern: "*", Service: s.Service(), Workers: workers, Backlog: 1 << 30}}
	paths := map[int][]byte{} // by class
	for i := range s.Paths {
		p := &s.Paths[i]
		name := fmt.Sprintf("/p%d", i)
		paths[p.class] = []byte(name)
		sc.Behaviours = append(sc.Behaviours, scenario.Behaviour{Pattern: "*", Paths: []string{name}, Service: p.Service()})
	}
	var text []byte
	rec := trace.Record{Method: []byte("GET"), Client: []byte("192.0.2.1"), Bytes: -1, Duration: -1}
	for i := range of {
		rec.Time, rec.Path = of[i].at, paths[s.classes.of(of[i].path)]
		if rec.Path == nil {
			rec.Path = []byte("/")
		}
		text = append(trace.AppendJSON(text, &rec), '\n')
	}
	source := ingest.Source{Name: "learned", Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }}
	res, err := replay.Run(context.Background(), c, sc, []ingest.Source{source}, replay.Options{Seed: 1, Spread: "none", Window: time.Second})
	if err != nil {
		return recorded, again, err
	}
	again = LearnedRun{LearnedTimes: LearnedTimes{res.Latency.Mean, res.Latency.P50, res.Latency.P95, res.Latency.P99}}
	if span := float64(of[len(of)-1].at-of[0].at) / 1e9; span > 0 {
		again.InFlight = again.Mean * float64(len(of)) / span
	}
	return recorded, again, nil
}
