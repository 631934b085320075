package study

import (
	"fmt"
	"math"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
)

// Held is one figure of a prediction beside that of the rehearsal. Absent moments are
// null.
type Held struct {
	What       string   `json:"what"`       // a key of the result, such as latency.p95
	Of         string   `json:"of"`         // UPSTREAM.BACKEND or a fault, where it is one's; else empty
	Unit       string   `json:"unit"`       // count, share or seconds
	Prediction *float64 `json:"prediction"` //
	Rehearsal  *float64 `json:"rehearsal"`  //
	Difference *float64 `json:"difference"` // rehearsal less prediction
	Chance     *float64 `json:"chance"`     // a difference that chance alone stays under in 95 of 100 cases
	Goal       float64  `json:"goal"`       // a difference that is taken for none, whatever chance says
	WithinGoal bool     `json:"holds"`
}

// Fidelity is a prediction held against what was rehearsed.
type Fidelity struct {
	Rows  []Held `json:"rows"`
	Off   int    `json:"off"`   // rows that do not hold
	Seeds int    `json:"seeds"` // of predictions, in all, that say what chance does
}

// What is taken for no difference.
const (
	goalShare   = 0.02 // of an upstream's requests
	goalCount   = 0.10 // of the prediction's count
	goalMiddle  = 0.15 // of p50 and p95
	goalExtreme = 0.30 // of p99, which few requests make
	goalLeast   = 5e-3 // seconds of any percentile: what a proxy, a handshake and a busy machine take
)

// HoldAgainst holds a prediction against a rehearsal. others are predictions with other
// seeds: how much they differ among each other says what chance does to each figure.
func HoldAgainst(c *config.Config, prediction, rehearsal *result.Replay, others []*result.Replay) Fidelity {
	h := holder{prediction: prediction, rehearsal: rehearsal, others: others}
	for _, f := range figuresOf(c, prediction, rehearsal) {
		h.add(f)
	}
	return h.done()
}

// figure is one by which two results of the same configuration are held against each other.
type figure struct {
	what, of, unit string // see Held
	value          func(*result.Replay) *float64
	goal           float64 // a difference that is taken for none
}

// figuresOf lists the figures of a result, those of causes and upstreams that it or another
// one has.
func figuresOf(c *config.Config, first, other *result.Replay) []figure {
	var out []figure
	add := func(what, of, unit string, value func(*result.Replay) *float64, goal float64) {
		out = append(out, figure{what, of, unit, value, goal})
	}
	count := func(what string, of func(*result.Replay) float64) {
		f := of(first)
		add(what, "", "count", func(r *result.Replay) *float64 { v := of(r); return &v }, math.Max(goalCount*f, 2*math.Sqrt(f)))
	}
	if first.Model.Again > 0 { // how many requests there are depends on how they fare
		count("requests", func(r *result.Replay) float64 { return float64(r.Requests) })
		count("asked_again", func(r *result.Replay) float64 { return float64(r.AskedAgain) })
	} else {
		add("requests", "", "count", func(r *result.Replay) *float64 { v := float64(r.Requests); return &v }, 0.5)
	}
	if first.Model.Patience != "" {
		count("client_left", func(r *result.Replay) float64 { return float64(r.ClientLeft) })
	}
	count("failed", func(r *result.Replay) float64 { return float64(r.Failed) })
	for i, e := range first.Errors.List() {
		if e.Requests > 0 || other.Errors.List()[i].Requests > 0 {
			count("errors."+e.Cause.String(), func(r *result.Replay) float64 { return float64(r.Errors.List()[i].Requests) })
		}
	}
	count("retried", func(r *result.Replay) float64 { return float64(r.Retried) })
	for _, q := range []struct {
		name string
		of   func(*result.Replay) float64
		goal float64
	}{
		{"latency.p50", func(r *result.Replay) float64 { return r.Latency.P50 }, goalMiddle},
		{"latency.p95", func(r *result.Replay) float64 { return r.Latency.P95 }, goalMiddle},
		{"latency.p99", func(r *result.Replay) float64 { return r.Latency.P99 }, goalExtreme},
		{"elapsed.p99", func(r *result.Replay) float64 { return r.Elapsed.P99 }, goalExtreme},
	} {
		add(q.name, "", "seconds", func(r *result.Replay) *float64 { v := q.of(r); return &v }, math.Max(q.goal*q.of(first), goalLeast))
	}
	for i := range first.Pages {
		add("pages.elapsed.p50", first.Pages[i].Path, "seconds", func(r *result.Replay) *float64 { return pageOf(r, i, 0.5) }, math.Max(goalMiddle*first.Pages[i].Elapsed.P50, goalLeast))
		add("pages.elapsed.p95", first.Pages[i].Path, "seconds", func(r *result.Replay) *float64 { return pageOf(r, i, 0.95) }, math.Max(goalMiddle*first.Pages[i].Elapsed.P95, goalLeast))
	}
	for _, u := range c.Upstreams {
		if first.Upstreams[u.Name] == nil || first.Upstreams[u.Name].Requests == 0 && other.Upstreams[u.Name].Requests == 0 {
			continue
		}
		for i := range u.Backends {
			name := u.Backends[i].Name
			add("share", u.Name+"."+name, "share", func(r *result.Replay) *float64 {
				if up := r.Upstreams[u.Name]; up != nil && up.Backends[name] != nil {
					return &up.Backends[name].Share
				}
				return nil
			}, goalShare)
		}
	}
	for i := range first.Faults {
		f := &first.Faults[i]
		if !f.Began {
			continue
		}
		goal := interval(c, f.Backends).Seconds()
		add("detected_after", f.Name, "seconds", func(r *result.Replay) *float64 { return faultOf(r, i).DetectedAfter }, goal)
		add("recovered_after", f.Name, "seconds", func(r *result.Replay) *float64 { return faultOf(r, i).RecoveredAfter }, goal)
		lost := float64(f.During.Failed)
		add("failed", f.Name, "count", func(r *result.Replay) *float64 { v := float64(faultOf(r, i).During.Failed); return &v }, math.Max(goalCount*lost, 2*math.Sqrt(lost)))
	}
	count("sessions.moved", func(r *result.Replay) float64 { return float64(r.Sessions.Moved) })
	count("sessions.misses", func(r *result.Replay) float64 { return float64(r.Sessions.Misses) })
	return out
}

// pageOf returns a percentile of how long a page took; nil of a result without pages.
func pageOf(r *result.Replay, i int, q float64) *float64 {
	switch {
	case i >= len(r.Pages):
		return nil
	case q == 0.5:
		return &r.Pages[i].Elapsed.P50
	}
	return &r.Pages[i].Elapsed.P95
}

// faultOf returns what came of a fault, of a result that may have none.
func faultOf(r *result.Replay, i int) *result.Fault {
	if i < len(r.Faults) {
		return &r.Faults[i]
	}
	return &result.Fault{}
}

// holder gathers rows.
type holder struct {
	prediction, rehearsal *result.Replay
	others                []*result.Replay
	out                   Fidelity
}

// add holds one figure.
func (h *holder) add(f figure) {
	row := Held{What: f.what, Of: f.of, Unit: f.unit, Prediction: f.value(h.prediction), Rehearsal: f.value(h.rehearsal), Goal: f.goal}
	if row.Prediction == nil && row.Rehearsal == nil {
		return // it never came, in either
	}
	if row.Prediction == nil || row.Rehearsal == nil {
		h.out.Rows = append(h.out.Rows, row)
		return
	}
	d := *row.Rehearsal - *row.Prediction
	row.Difference = &d
	values := []float64{*row.Prediction}
	for _, o := range h.others {
		if v := f.value(o); v != nil {
			values = append(values, *v)
		}
	}
	if n := len(values); n > 2 {
		// The rehearsal is one more draw of what the predictions are draws of.
		t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: float64(n - 1)}
		chance := t.Quantile(0.975) * stat.StdDev(values, nil) * math.Sqrt2
		row.Chance = &chance
	}
	row.WithinGoal = math.Abs(d) <= f.goal+1e-9 || row.Chance != nil && math.Abs(d) <= *row.Chance
	h.out.Rows = append(h.out.Rows, row)
}

func (h *holder) done() Fidelity {
	h.out.Seeds = len(h.others) + 1
	for _, r := range h.out.Rows {
		if !r.WithinGoal {
			h.out.Off++
		}
	}
	return h.out
}

// interval is the longest time between two probes of these backends; without any, a
// second.
func interval(c *config.Config, backends []string) (longest time.Duration) {
	for _, u := range c.Upstreams {
		for i := range u.Backends {
			if u.Probe != nil && slices.Contains(backends, u.Name+"."+u.Backends[i].Name) {
				longest = max(longest, u.Probe.Every, u.Probe.EveryDown)
			}
		}
	}
	if longest == 0 {
		longest = time.Second
	}
	return longest
}

// Verdict says in a sentence whether the prediction holds.
func (f *Fidelity) Verdict() string {
	if f.Off == 0 {
		return fmt.Sprintf("the prediction holds: all %d figures are as predicted, or within the range of chance", len(f.Rows))
	}
	if f.Off == 1 {
		return fmt.Sprintf("the prediction holds but for 1 of %d figures", len(f.Rows))
	}
	return fmt.Sprintf("the prediction does not hold in %d of %d figures", f.Off, len(f.Rows))
}
