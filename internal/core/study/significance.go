package study

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// sumUp sets the medians and ranges of each run, tests which pairs can be told apart, and
// marks the best. own returns the figures of a run of which no seed came to its end.
func (c *Comparison) sumUp(own func(i int) Figures) {
	for i := range c.Runs {
		r := &c.Runs[i]
		if len(r.seeds) == 0 {
			r.seeds = []Figures{own(i)}
		}
		r.Figures, r.Low, r.High = r.seeds[0], r.seeds[0], r.seeds[0]
		for _, m := range Measures {
			var values []float64
			for k := range r.seeds {
				if v, ok := m.Of(&r.seeds[k]); ok {
					values = append(values, v)
				}
			}
			if len(values) > 0 {
				low, median, high := rangeOf(values)
				m.set(&r.Low, low)
				m.set(&r.Figures, median)
				m.set(&r.High, high)
			}
		}
	}
	if c.Seeds >= c.Needed && !c.Partial {
		c.tellApart()
		c.mark()
	}
}

// set sets the figure.
func (m *Measure) set(f *Figures, v float64) {
	switch m.Key {
	case "moved_on_leave":
		f.MovedOnLeave = &v
	case "pushed_on_leave":
		f.PushedOnLeave = &v
	default:
		*m.At(f) = v
	}
}

// alike is a difference between a figure and another that looks like none: it is in none of
// the digits that are printed.
func (m *Measure) alike(f *Figures) float64 {
	if m.Key == "spread" || m.Key == "moved_on_leave" || m.Key == "pushed_on_leave" {
		return 0.005
	}
	v, _ := m.Of(f)
	return math.Abs(v) * 0.001
}

// tellApart tests every pair of runs by every figure, on the differences between them with
// the same seed.
func (c *Comparison) tellApart() {
	type pair struct{ a, b, measure int }
	var pairs []pair
	for m := range Measures {
		if Measures[m].plain {
			continue
		}
		for a := range c.Runs {
			for b := range a {
				pairs = append(pairs, pair{b, a, m})
			}
		}
	}
	draws := max(20_000, int(math.Ceil(2/level*float64(len(pairs)))))
	p, means := make([]float64, len(pairs)), make([]float64, len(pairs))
	for i, x := range pairs {
		var differences []float64
		for k := range c.Seeds {
			va, has := Measures[x.measure].Of(&c.Runs[x.a].seeds[k])
			vb, too := Measures[x.measure].Of(&c.Runs[x.b].seeds[k])
			if has && too {
				differences = append(differences, va-vb)
			}
		}
		p[i] = 1
		if len(differences) == c.Seeds {
			p[i], means[i] = c.test(differences, draws), stat.Mean(differences, nil)
		}
	}
	holm(p)
	for i, x := range pairs {
		m := &Measures[x.measure]
		if p[i] > level || math.Abs(means[i]) <= m.alike(&c.Runs[x.a].Figures) {
			continue
		}
		better, worse := x.a, x.b
		if means[i] > 0 != m.More {
			better, worse = x.b, x.a
		}
		c.Apart = append(c.Apart, Apart{m.Key, c.Runs[better].Name, c.Runs[worse].Name, p[i]})
	}
}

// test returns the p value of the differences between two runs, one for each seed.
func (c *Comparison) test(differences []float64, draws int) float64 {
	p := signFlip(differences, draws)
	if !c.Resampled || p > level {
		return p
	}
	// Seeds that draw the clients of one trace scatter around what that trace happens to
	// have, so that with enough of them any difference is beyond doubt that another trace
	// need not have. How far they scatter is how sure the difference itself is.
	mean, deviation := stat.MeanStdDev(differences, nil)
	if deviation == 0 {
		return p
	}
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: float64(len(differences) - 1)}
	return max(p, 2*t.CDF(-math.Abs(mean)/deviation))
}

// BetterBeyondChance reports whether one run is better than another by a figure, by more than
// chance explains.
func (c *Comparison) BetterBeyondChance(figure string, better, worse *Run) bool {
	return slices.ContainsFunc(c.Apart, func(x Apart) bool {
		return x.Figure == figure && x.Better == better.Name && x.Worse == worse.Name
	})
}

// mark notes by each figure that tells some runs apart those that no other can be told to
// be better than.
func (c *Comparison) mark() {
	for _, m := range Measures {
		if !slices.ContainsFunc(c.Apart, func(x Apart) bool { return x.Figure == m.Key }) {
			continue
		}
		for i := range c.Runs {
			r := &c.Runs[i]
			beaten := slices.ContainsFunc(c.Apart, func(x Apart) bool { return x.Figure == m.Key && x.Worse == r.Name })
			if _, ok := m.Of(&r.Figures); ok && !beaten {
				r.Best = append(r.Best, m.Key)
			}
		}
	}
}
