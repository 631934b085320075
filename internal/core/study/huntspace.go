package study

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/units"
)

// element is a kind of fault and what it strikes.
type element struct {
	kind     string
	name     string // of what it strikes
	backends []string
	depends  string        // a dependency, in place of backends
	proxy    int           // in place of backends; 0 for none
	before   int           // position of the element that is equal to it by design and comes first; -1 for none
	busiest  time.Duration // when a fault as long as may be meets most of its upstream's requests
}

// mostElements is how many kinds and targets a hunt takes: each is tried several times.
const mostElements = 20_000

// addElements lists all kinds of faults of all backends, zones, dependencies and proxies, and
// returns how many targets there are, and how many backends are equal to one of them.
func (h *hunting) addElements() (targets, equal int, err error) {
	sweep := SweepOptions{Upstreams: h.o.Upstreams}
	all, err := sweep.targets(h.config, h.scenario)
	if err != nil {
		return 0, 0, err
	}
	backend := func(k *scenario.FaultKind) bool { return !k.Proxy }
	for _, kind := range h.o.Kinds {
		k := scenario.FaultKindOf(kind)
		for _, t := range all {
			if !backend(k) {
				continue
			}
			first := len(h.elements)
			h.elements = append(h.elements, element{kind: kind, name: t.name, backends: t.backends, before: -1})
			for i, a := range t.alike {
				before := first
				if i > 0 {
					before = first + i
				}
				h.elements = append(h.elements, element{kind: kind, name: a, backends: []string{a}, before: before})
			}
		}
		for _, d := range h.scenario.Dependencies {
			if scenario.OfDependency(k) && len(h.o.Upstreams) == 0 {
				h.elements = append(h.elements, element{kind: kind, name: "dependency " + d.Name, depends: d.Name, before: -1})
			}
		}
		for p := range h.instances() {
			if k.Proxy && h.instances() > 1 {
				h.elements = append(h.elements, element{kind: kind, name: fmt.Sprintf("proxy %d", p+1), proxy: p + 1, before: -1})
			}
		}
	}
	names := map[string]bool{}
	for i := range h.elements {
		if names[h.elements[i].name] {
			continue
		}
		if names[h.elements[i].name] = true; h.elements[i].before >= 0 {
			equal++
		} else {
			targets++
		}
	}
	for i := range h.elements {
		e := &h.elements[i]
		t := &target{backends: e.backends}
		if len(e.backends) == 0 {
			t = nil
		}
		e.busiest = min(sweep.at(h.base, begun(h.base, t), h.longest, peak), max(h.end-h.longest, 0))
	}
	if len(h.elements) > mostElements {
		return 0, 0, fmt.Errorf("there are %s kinds and targets, and at most %s are searched; give fewer -kinds, or -upstream", units.Count(int64(len(h.elements))), units.Count(mostElements))
	}
	return targets, equal, nil
}

// instances returns how many proxies are replayed.
func (h *hunting) instances() int {
	return max(cmp.Or(h.o.Replay.Instances, h.scenario.Instances, 1), 1)
}

// huntFault is one fault of a trial.
type huntFault struct {
	kind     string
	backends []string
	depends  string
	proxy    int
	at, long time.Duration
	rate     float64 // of errors and probe-lies
	factor   float64 // of slow
	fails    time.Duration
	works    time.Duration
}

// trial is a failure that is tried: some faults, and a load.
type trial struct {
	faults []huntFault
	load   float64
	// What came of it, with the seeds that it was tried with.
	tries, broken int
	past          float64 // the most of all seeds
	damage        float64 // of the last seed
	judged        bool    // by fresh seeds
	chance        bool    // which did not break it
}

// parts returns of how many failures it is made; a load factor counts as one.
func (t *trial) parts() int {
	if t.load > 1 {
		return len(t.faults) + 1
	}
	return len(t.faults)
}

// lasts returns how long its faults last together.
func (t *trial) lasts() (sum time.Duration) {
	for i := range t.faults {
		sum += t.faults[i].long
	}
	return sum
}

// severity returns how bad a fault is while it lasts, from 0 to 1.
func (f *huntFault) severity() float64 {
	switch f.kind {
	case "errors", "probe-lies":
		return f.rate
	case "slow":
		return 1 - 1/f.factor
	case "flap":
		return f.fails.Seconds() / (f.fails + f.works).Seconds()
	}
	return 1
}

// size returns by what trials are compared, the most important first: failures, backends struck,
// seconds, severity, and how early the first begins.
func (t *trial) size() [5]float64 {
	var backends, seconds, severe float64
	early := math.Inf(1)
	for i := range t.faults {
		f := &t.faults[i]
		backends += float64(max(len(f.backends), 1))
		seconds += f.long.Seconds()
		severe += f.severity()
		early = min(early, f.at.Seconds())
	}
	return [5]float64{float64(t.parts()), backends, seconds, severe + t.load - 1, -early}
}

// smaller orders trials, the smaller first.
func smaller(a, b *trial) int {
	x, y := a.size(), b.size()
	return slices.Compare(x[:], y[:])
}

// clone returns a copy on which nothing was tried.
func (t *trial) clone() *trial { return &trial{faults: slices.Clone(t.faults), load: t.load} }

// key tells trials apart.
func (t *trial) key() string { return fmt.Sprintf("%v %v", t.faults, t.load) }

// kinds returns the kinds of its parts, sorted.
func (t *trial) kinds() (out []string) {
	if t.load > 1 {
		out = append(out, "load")
	}
	for _, f := range t.faults {
		out = append(out, f.kind)
	}
	slices.Sort(out)
	return out
}

// family tells of which kinds and targets a trial is.
func (t *trial) family() string {
	out := []string{}
	if t.load > 1 {
		out = append(out, "load")
	}
	for _, f := range t.faults {
		out = append(out, f.kind+" "+f.target())
	}
	slices.Sort(out)
	return strings.Join(out, "; ")
}

// target names what a fault strikes.
func (f *huntFault) target() string { return strings.Join(f.targets(), ", ") }

func (f *huntFault) targets() []string {
	switch {
	case f.proxy > 0:
		return []string{fmt.Sprintf("proxy %d", f.proxy)}
	case f.depends != "":
		return []string{f.depends}
	}
	return f.backends
}

// failure describes a trial.
func (t *trial) failure() Failure {
	out := Failure{Faults: []HuntFault{}, LoadFactor: t.load}
	for i := range t.faults {
		x := &t.faults[i]
		out.Faults = append(out.Faults, HuntFault{
			Kind: x.kind, Targets: x.targets(), At: x.at.Seconds(), Until: (x.at + x.long).Seconds(), Rate: x.rate, Factor: x.factor, FailsFor: x.fails.Seconds(), WorksFor: x.works.Seconds(),
		})
	}
	return out
}

// scenarioOf returns the scenario with a trial's faults and load.
func (h *hunting) scenarioOf(t *trial) *scenario.Scenario {
	s := *h.scenario
	s.Faults = append(slices.Clone(s.Faults), h.faultsOf(t)...)
	if t.load > 1 {
		s.LoadFactor = t.load
	}
	return &s
}

// faultsOf returns the faults of a trial as a scenario has them, with titles that it does not have
// yet.
func (h *hunting) faultsOf(t *trial) (out []scenario.Fault) {
	n := 0
	for _, f := range t.faults {
		var name string
		for name == "" || slices.ContainsFunc(h.scenario.Faults, func(x scenario.Fault) bool { return x.Name == name }) {
			n++
			name = fmt.Sprintf("found %d", n)
		}
		x := scenario.Named(name, f.kind, f.at, f.at+f.long)
		for _, b := range f.backends {
			x.Backends = append(x.Backends, config.Placed[string]{Value: b})
		}
		if f.depends != "" {
			x.Dependencies = []string{f.depends}
		}
		if x.Proxy = f.proxy; f.proxy > 0 {
			x.GivenMoves = true
		}
		if f.rate > 0 {
			x.Rate = f.rate
		}
		if f.factor > 0 {
			x.Factor = f.factor
		}
		if f.fails > 0 {
			x.FailsFor, x.WorksFor = f.fails, f.works
		}
		out = append(out, x)
	}
	return out
}

// unit returns the next random number from 0 to 1.
func (h *hunting) unit() float64 {
	h.draws++
	return rng.Unit(rng.Bits(h.o.Replay.Seed, h.draws, 0, rng.Hunt))
}

// below returns a random number below n.
func (h *hunting) below(n int) int {
	h.draws++
	return rng.Below(rng.Bits(h.o.Replay.Seed, h.draws, 0, rng.Hunt), n)
}

// between returns a random number whose logarithm is spread evenly.
func (h *hunting) between(low, high float64) float64 {
	return low * math.Pow(high/low, h.unit())
}

// rounded returns a duration with two digits, and no finer than a hundredth of a second.
func rounded(d time.Duration) time.Duration {
	unit := 10 * time.Millisecond
	for d >= 100*unit {
		unit *= 10
	}
	return max(d.Round(unit), 10*time.Millisecond)
}

// twoDigits returns a number with two digits.
func twoDigits(x float64) float64 {
	if x <= 0 {
		return 0
	}
	scale := math.Pow(10, 1-math.Floor(math.Log10(x)))
	return math.Round(x*scale) / scale
}

// The range of what is drawn of a fault.
const (
	shortestFault  = 100 * time.Millisecond
	leastRate      = 0.03
	leastSlowdown  = 1.5
	mostSlowdown   = 100
	leastFlapping  = 200 * time.Millisecond
	mostFlapping   = 20 * time.Second
	leastLoadMore  = 0.05 // of the load
	startPrecision = 10 * time.Millisecond
)

// worst returns a fault of an element as long and as severe as it may be, in the busiest time.
func (h *hunting) worst(e *element) huntFault {
	f := huntFault{kind: e.kind, backends: e.backends, depends: e.depends, proxy: e.proxy, at: e.busiest, long: h.longest}
	switch e.kind {
	case "errors", "probe-lies":
		f.rate = 1
	case "slow":
		f.factor = 20
	case "flap":
		f.fails, f.works = 5*time.Second, 15*time.Second
	}
	return f
}

// drawn returns a fault of an element at random.
func (h *hunting) drawn(e *element) huntFault {
	f := h.worst(e)
	if h.unit() < 0.75 {
		f.long = rounded(time.Duration(h.between(float64(shortestFault*5), float64(h.longest))))
	}
	if h.unit() < 0.75 {
		f.at = time.Duration(h.unit() * float64(h.end-f.long))
	} else { // in the busiest time, in another phase of the probe
		f.at += time.Duration(h.unit() * float64(interval(h.config, e.backends)))
	}
	h.severity(&f)
	h.placed(&f)
	return f
}

// severity draws how bad a fault is while it lasts. A backend that flaps often does so in step with
// its probe, which then sees only one side of it.
func (h *hunting) severity(f *huntFault) {
	flapping := func() time.Duration {
		if h.unit() < 0.5 {
			return rounded(time.Duration(h.between(0.25, 2) * float64(interval(h.config, f.backends))))
		}
		return rounded(time.Duration(h.between(float64(leastFlapping), float64(mostFlapping))))
	}
	switch f.kind {
	case "errors", "probe-lies":
		f.rate = twoDigits(h.between(leastRate, 1))
	case "slow":
		f.factor = twoDigits(h.between(leastSlowdown, mostSlowdown))
	case "flap":
		f.fails, f.works = flapping(), flapping()
	}
}

// placed keeps a fault within the replay.
func (h *hunting) placed(f *huntFault) {
	f.long = rounded(min(max(f.long, shortestFault), h.longest))
	f.at = min(max(f.at, 0), max(h.end-f.long, 0)).Round(startPrecision)
}

// changed returns a trial near another one: one property of it is different.
func (h *hunting) changed(t *trial) *trial {
	c := t.clone()
	n := len(c.faults)
	if c.load > 1 {
		n++
	}
	i := h.below(n)
	if i == len(c.faults) {
		c.load = h.loadNear(c.load)
		return c
	}
	f := &c.faults[i]
	severe := f.rate > 0 || f.factor > 0 || f.fails > 0
	switch k := h.below(4); {
	case k == 0:
		f.long = rounded(time.Duration(float64(f.long) * h.between(0.5, 1.6)))
	case k == 1 && severe:
		h.severer(f, h.between(0.5, 2))
	case k == 2:
		f.at += time.Duration((2*h.unit() - 1) * float64(interval(h.config, f.backends)))
	default:
		f.at += time.Duration((2*h.unit() - 1) * float64(f.long))
	}
	h.placed(f)
	return c
}

// severer multiplies the severity of a fault, if it has one.
func (h *hunting) severer(f *huntFault, by float64) {
	switch {
	case f.rate > 0:
		f.rate = twoDigits(min(max(f.rate*by, leastRate/3), 1))
	case f.factor > 0:
		f.factor = max(twoDigits(min(1+(f.factor-1)*by, mostSlowdown)), 1.1)
	case f.fails > 0:
		f.fails = rounded(time.Duration(float64(f.fails) * by))
	}
}

// loadNear returns a load factor near another.
func (h *hunting) loadNear(load float64) float64 {
	return h.loadOf((load - 1) * h.between(0.6, 1.5))
}

// loadOf returns a load factor by how much more comes, within its bounds.
func (h *hunting) loadOf(more float64) float64 {
	return math.Round((1+min(max(more, leastLoadMore/2), h.o.MostLoad-1))*1000) / 1000
}
