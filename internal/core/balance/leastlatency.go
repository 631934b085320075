package balance

import (
	"math"
	"time"

	"kestrix/internal/core/tick"
)

var leastLatency = Algorithm{
	Name:   "least-latency",
	Doc:    "the backend with the smallest product of recent latency and requests in flight, per weight",
	Why:    "the smallest product of recent latency and requests in flight, per weight",
	Wrong:  "some requests are slow and not some backend: the latest responses decide, to whichever requests",
	Counts: true,
	Random: true,
	New: func(o Options) Picker {
		return &leastLatencyPicker{twoChoicesPicker: *newTwoChoices(o)}
	},
}

// leastLatencyPicker keeps of each slot an average of latencies that follows a slower
// answer at once and forgets it with time (an exponentially weighted moving average,
// Roberts: Control Chart Tests Based on Geometric Moving Averages, Technometrics 1,
// 1959, sensitive to peaks). So a backend that has become slow is left alone soon,
// and tried again after a while. Up to fewSlots backends are all looked at; of more,
// two at random.
type leastLatencyPicker struct {
	twoChoicesPicker
	timings []timing
	members []int32   // the slots with a weight
	zero    tick.Time // averages are grown by the time since, see growth
	last    tick.Time // of the last end
}

// timing is what is known of the latency of a slot.
type timing struct {
	known bool    // a request to it has ended
	works bool    // one was answered: the average is not of failures alone
	level float64 // the average in seconds at its last end, times grown
	grown float64 // growth then
}

// fewSlots is up to how many backends are all looked at.
const fewSlots = 16

// forgets is the time in which an average falls to 1/e.
const forgets = 10 * time.Second

// failedTakes is the least latency that a failure counts as: failing fast is not fast.
const failedTakes = time.Second

// mostGrown bounds growth.
const mostGrown = 1e80

func (l *leastLatencyPicker) Set(slot int, name string, weight float64) {
	if len(l.timings) <= slot {
		l.timings = append(l.timings, make([]timing, slot+1-len(l.timings))...)
	}
	if slot >= len(l.weight) || l.weight[slot] == 0 {
		l.timings[slot] = timing{} // what it took before it was away is outdated
	}
	l.twoChoicesPicker.Set(slot, name, weight)
	l.members = l.members[:0]
	for i, w := range l.weight {
		if w > 0 {
			l.members = append(l.members, int32(i))
		}
	}
}

// growth returns by how much an average of a moment is grown: all averages are
// forgotten at the same pace, so that those of different moments can be compared as
// they are, without an exponential for each.
func (l *leastLatencyPicker) growth(now tick.Time) float64 {
	l.last = max(l.last, now) // an end that is reported late does not turn time back
	grown := math.Exp(float64(l.last-l.zero) / float64(forgets))
	if grown > mostGrown {
		for i := range l.timings {
			l.timings[i].grown /= grown
			l.timings[i].level /= grown
		}
		l.zero, grown = l.last, 1
	}
	return grown
}

// Ended counts the end of a request, and how long it took.
func (l *leastLatencyPicker) Ended(slot int, e End) {
	l.inFlight[slot]--
	t, took := &l.timings[slot], max(e.Took, 0)
	switch e.How {
	case Untimed:
		return
	case Failed:
		took = max(took, failedTakes)
	}
	t.works = t.works || e.How == Answered
	growth := l.growth(e.At)
	slower := took.Seconds() * growth
	if e.How == Abandoned && t.known && slower <= t.level {
		return // that it would have taken at least so long is nothing new
	}
	t.known = true
	t.level = max(slower, t.level+(growth-t.grown)*took.Seconds())
	t.grown = growth
}

// cost returns the product that is compared. One of which no request has ended yet gets a first
// request, and then counts as the mean of those that have answered.
func (l *leastLatencyPicker) cost(slot int) float64 {
	t, inFlight := &l.timings[slot], float64(l.inFlight[slot])
	switch {
	case t.known:
		return t.level * (inFlight + 1) / l.weight[slot]
	case inFlight == 0:
		return 0
	}
	return l.mean() * l.growth(l.last) * (inFlight + 1) / l.weight[slot]
}

// newcomerTakes is what a slot counts as while nobody has answered: far less than one that has
// failed, or all requests would go to those that fail until the first answer comes.
const newcomerTakes = time.Millisecond

// mean returns the mean of the averages of the slots that have answered, in seconds.
func (l *leastLatencyPicker) mean() float64 {
	sum, n := 0.0, 0
	for _, s := range l.members {
		if t := &l.timings[s]; t.works && t.grown > 0 {
			sum += t.level / t.grown
			n++
		}
	}
	if n == 0 {
		return newcomerTakes.Seconds()
	}
	return sum / float64(n)
}

func (l *leastLatencyPicker) Pick(q *Query) int {
	l.last = max(l.last, q.Now)
	if len(l.members) > fewSlots {
		a, b := l.two(q)
		if b >= 0 {
			if x, y := l.cost(a), l.cost(b); y < x || x == y && l.before(b, a) {
				return b
			}
		}
		return a
	}
	best, least := -1, 0.0
	for _, m := range l.members {
		s := int(m)
		if l.full[s] || q.tried(s) {
			continue
		}
		if c := l.cost(s); best < 0 || c < least || c == least && l.before(s, best) {
			best, least = s, c
		}
	}
	return best
}
