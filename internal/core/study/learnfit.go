package study

import (
	"math"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"kestrix/internal/core/config"
)

// LearnedFit is a distribution of how long a worker takes, and how well it fits.
type LearnedFit struct {
	Kind     string       `json:"kind"` // fixed, exponential or lognormal
	Mean     float64      `json:"mean"` // seconds a worker takes
	CV       float64      `json:"cv"`
	Distance float64      `json:"distance"` // largest between the shares of requests that took at most as long, of the fit and recorded (Kolmogorov, Smirnov)
	Worked   LearnedTimes `json:"worked"`   // recorded, without waiting for a worker
	Fitted   LearnedTimes `json:"fitted"`   // by the fit
	Curve    []LearnedAt  `json:"-"`        // for drawing
}

// LearnedTimes are a mean and percentiles in seconds.
type LearnedTimes struct {
	Mean float64 `json:"mean"`
	P50  float64 `json:"p50"`
	P95  float64 `json:"p95"`
	P99  float64 `json:"p99"`
}

// LearnedAt is a point of two curves: which share took at most so many seconds.
type LearnedAt struct{ Seconds, Recorded, Fitted float64 }

// timesOf returns those of sorted seconds.
func timesOf(took []float64) LearnedTimes {
	return LearnedTimes{stat.Mean(took, nil), at(took, 0.5), at(took, 0.95), at(took, 0.99)}
}

// Off returns how far mean and p99 are from those that were recorded, as shares.
func (t *LearnedTimes) Off(recorded *LearnedTimes) (mean, p99 float64) {
	off := func(was, is float64) float64 {
		if was == 0 {
			return 0
		}
		return math.Abs(is/was - 1)
	}
	return off(recorded.Mean, t.Mean), off(recorded.P99, t.P99)
}

// at returns the value at a share of sorted ones, by the nearest rank.
func at(sorted []float64, share float64) float64 {
	return sorted[min(max(int(math.Ceil(share*float64(len(sorted))))-1, 0), len(sorted)-1)]
}

// fitOf chooses a distribution for sorted seconds, by the least distance.
func fitOf(took []float64) (s LearnedFit) {
	if len(took) == 0 {
		s.Kind = "fixed"
		return s
	}
	logs := make([]float64, len(took))
	for i, v := range took {
		logs[i] = math.Log(v)
	}
	n := float64(len(took))
	s.Worked = timesOf(took)
	mean, deviation := stat.PopMeanStdDev(took, nil)
	mu, sigma := stat.PopMeanStdDev(logs, nil)
	type candidate struct {
		kind     string
		mean, cv float64
		share    func(float64) float64
		quantile func(float64) float64
	}
	exponential := distuv.Exponential{Rate: 1 / mean}
	candidates := []candidate{{"exponential", mean, 1, exponential.CDF, exponential.Quantile}}
	if sigma > 1e-6 {
		// Of the likelihood, and of the percentiles that people look at: a few wild values do
		// not count.
		middle := math.Log(at(took, 0.5))
		for _, x := range []distuv.LogNormal{{Mu: mu, Sigma: sigma}, {Mu: middle, Sigma: math.Max((math.Log(at(took, 0.95))-middle)/distuv.UnitNormal.Quantile(0.95), 1e-6)}} {
			candidates = append(candidates, candidate{"lognormal", x.Mean(), x.StdDev() / x.Mean(), x.CDF, x.Quantile})
		}
	}
	if deviation < 0.05*mean {
		candidates = []candidate{{"fixed", mean, 0, func(v float64) float64 {
			if v >= mean {
				return 1
			}
			return 0
		}, func(float64) float64 { return mean }}}
	}
	s.Distance = math.Inf(1)
	for _, c := range candidates {
		d := distance(took, c.share)
		if c.kind == "fixed" { // no two are quite the same
			low, _ := slices.BinarySearch(took, 0.9*mean)
			high, _ := slices.BinarySearch(took, 1.1*mean)
			d = 1 - float64(high-low)/n
		}
		if d < s.Distance {
			s.Kind, s.Mean, s.CV, s.Distance = c.kind, c.mean, c.cv, d
			s.Fitted = LearnedTimes{c.mean, c.quantile(0.5), c.quantile(0.95), c.quantile(0.99)}
			s.Curve = curve(took, c.share)
		}
	}
	return s
}

// distance is Kolmogorov's and Smirnov's, of sorted values from a distribution.
func distance(took []float64, share func(float64) float64) float64 {
	d, n := 0.0, float64(len(took))
	for i, v := range took {
		f := share(v)
		d = math.Max(d, math.Max(f-float64(i)/n, float64(i+1)/n-f))
	}
	return d
}

// curve puts both beside each other at some hundred places.
func curve(took []float64, share func(float64) float64) []LearnedAt {
	var out []LearnedAt
	for i := range 101 {
		v := at(took, float64(i)/100)
		k, _ := slices.BinarySearch(took, math.Nextafter(v, math.Inf(1)))
		out = append(out, LearnedAt{v, float64(k) / float64(len(took)), share(v)})
	}
	return out
}

// Service returns the distribution of a fit as a scenario has it.
func (s *LearnedFit) Service() config.Distribution {
	return config.Distribution{Kind: s.Kind, Mean: roundTime(time.Duration(s.Mean * 1e9)), CV: math.Round(s.CV*1000) / 1000}
}

// roundTime keeps three digits of a duration.
func roundTime(d time.Duration) time.Duration {
	unit := time.Duration(1)
	for d/unit >= 10000 {
		unit *= 10
	}
	return d.Round(unit)
}
