package study

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/balance"
	"kestrix/internal/core/config"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// CauseKind is a cause that Diagnose looks for. Each is told from its likes by replays with
// one thing changed.
type CauseKind struct {
	Word string
	Doc  string // what it is, for the reference
	// try adds the replays that it is told by, where it can be the cause at all.
	try func(p *patient)
	// found returns the comparison that supports it, what happened, and what was changed; ok
	// if it does.
	found func(p *patient) (x contrast, says, change string, ok bool)
}

// Which part of the failures a change has to save to tell of a cause: most of them, many
// where others can have the same cause, and some where the change does not end the cause, but
// only shows what it does. soon is to which part the time has to fall within which 99 % of
// the requests end.
const (
	most = 0.5
	many = 0.4
	some = 0.3
	soon = 0.6
)

// Names of trials that several causes are told by.
const (
	withoutFaults   = "without faults"
	withWorkers     = "twice the workers"
	withManyWorkers = "four times the workers"
	withOneMore     = "one more backend"
	withSpread      = "spread"
	withoutRetry    = "no retry"
	withoutProbe    = "no probe"
	withSuspension  = "suspend"
)

// Causes are all that are looked for, in the order of their documentation.
var Causes = []CauseKind{
	{
		"overload", "requests exceed the capacity of the workers, with or without a fault",
		func(p *patient) { p.tryFaultless(); p.tryWorkers() },
		func(p *patient) (contrast, string, string, bool) {
			x, change := p.trial(withWorkers), withWorkers
			if !x.fewer(most) && !x.sooner(soon) {
				x, change = p.trial(withManyWorkers), withManyWorkers
			}
			ok := !p.byFaults() && !p.uneven() && !p.flapping() && !p.byTurns() && (x.fewer(most) || x.sooner(soon))
			return x, "requests exceed the capacity of its workers", change + " at each of its backends", ok
		},
	},
	{
		"hot_keys", "a few keys or sessions exceed the capacity of the backend they belong to",
		func(p *patient) { p.tryFaultless(); p.trySpread() },
		func(p *patient) (contrast, string, string, bool) {
			what := "keys"
			if p.upstream.Sticky != nil {
				what = "sessions"
			}
			return p.trial(withSpread), "a few " + what + " exceed the capacity of the backend they belong to", p.spreads(), !p.byFaults() && p.uneven()
		},
	},
	{
		"flapping", "probes time out behind waiting requests and remove working backends",
		func(p *patient) {
			if p.upstream.Probe == nil {
				return
			}
			p.tryFaultless()
			p.with(withoutProbe, func(u *config.Upstream) { u.Probe = nil }, nil)
			p.with("patient probe", patiently, nil)
		},
		func(p *patient) (contrast, string, string, bool) {
			y := *p.upstream
			patiently(&y)
			x, change := p.trial("patient probe"), probeText(y.Probe)
			if !x.fewer(most) {
				x, change = p.trial(withoutProbe), withoutProbe
			}
			return x, "no backend failed; probes timed out behind waiting requests and removed working backends", change, p.flapping()
		},
	},
	{
		"retry_storm", "retries sustain an overload after the fault that began it has ended",
		func(p *patient) {
			if r := p.upstream.Retry; r != nil && p.upstream.Retry.Attempts > 1 {
				p.tryFaultless()
				p.with(withoutRetry, func(u *config.Upstream) { u.Retry = nil }, nil)
				p.with("budget", func(u *config.Upstream) { y := *r; y.Budget = 0.2; u.Retry = &y }, nil)
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			x, change := p.trialAfter("budget"), `retry { budget = "20%" }`
			if !x.fewer(most) {
				x, change = p.trialAfter(withoutRetry), "no retry"
			}
			ok := x.before.Requests >= 50 && x.before.Share() >= 0.1 && x.fewer(most) && p.byFaults()
			return x, "retries sustain the overload after the fault has ended", change, ok
		},
	},
	{
		"too_little_left", "the remaining backends are over capacity while one is unavailable",
		func(p *patient) {
			if len(p.faulty()) > 0 {
				p.tryFaultless()
				p.tryOneMore()
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			x := p.trial(withOneMore)
			ok := p.byFaults() && x.fewer(most) && p.exposed(p.base)*2 < x.before.Failed && !p.bySticking() && len(p.zones()) == 0
			return x, "the remaining backends were over capacity while one was unavailable", "one backend more", ok
		},
	},
	{
		"zone", "all backends of a zone fail together, and the remaining ones are over capacity",
		func(p *patient) {
			if len(p.zones()) > 0 {
				p.tryFaultless()
				p.with("only one of them", nil, p.onlyOneOf)
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			x := p.trial("only one of them")
			return x, fmt.Sprintf("all backends of zone %s fail together, and the remaining ones are over capacity", firstOf(p.zones())), "a fault of only one of its backends", p.byFaults() && x.fewer(most) && p.exposed(p.base)*2 < x.before.Failed
		},
	},
	{
		"slow_backend", "one backend is slower than the others, and the algorithm sends it an equal share",
		func(p *patient) {
			if a := balance.Lookup(p.upstream.Algorithm, method(p.upstream)); a != nil && !a.Counts && p.upstream.Hash == nil && len(p.upstream.Backends) > 1 {
				p.with("by load", func(u *config.Upstream) { u.Algorithm = "least-connections" }, nil)
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			return p.trial("by load"), "one backend is slower than the others, and " + p.upstream.Algorithm + " sends it an equal share", `algorithm = "least-connections"`, p.byTurns()
		},
	},
	{
		"fails_fast", "a backend that fails fast appears idle and attracts requests",
		func(p *patient) {
			a := balance.Lookup(p.upstream.Algorithm, method(p.upstream))
			if a == nil || !a.Counts || !slices.ContainsFunc(p.faulty(), failsFast) {
				return
			}
			p.with("by turns", func(u *config.Upstream) { u.Algorithm, u.Hash = "round-robin", nil }, nil)
			if p.upstream.Suspend == nil {
				p.with(withSuspension, func(u *config.Upstream) { u.Suspend = usual().Suspend }, nil)
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			turns, x := p.trial("by turns"), p.trial(withSuspension)
			says := "a backend fails fast, appears idle and attracts requests"
			if x.fewer(most) {
				return x, says, "suspend { }", turns.fewer(some)
			}
			return turns, says, `algorithm = "round-robin"`, turns.fewer(some)
		},
	},
	{
		"crowd_on_return", "a backend that returns gets its full share at once, over its capacity",
		func(p *patient) {
			if p.upstream.Ramp == 0 && len(p.faulty()) > 0 {
				p.with("slow start", func(u *config.Upstream) { u.Ramp = 20 * time.Second }, nil)
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			x := p.trial("slow start")
			return x, "a backend got its full share at once when it returned, over its capacity", `slow_start = "20s"`, x.fewer(most)
		},
	},
	{
		"keep", "`keep` leaves failing backends in rotation",
		func(p *patient) {
			if s := p.upstream.Suspend; s != nil && s.Keep > 0 {
				p.with("keep none", func(u *config.Upstream) { y := *s; y.Keep = 0; u.Suspend = &y }, nil)
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			x := p.trial("keep none")
			return x, "keep leaves failing backends in rotation", `suspend { keep = "0%" }`, x.fewer(many)
		},
	},
	{
		"slow_detection", "most requests fail before the failure of a backend is detected",
		func(p *patient) {
			if len(p.faulty()) > 0 {
				p.with("quick probe", quickly, nil)
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			x := p.trial("quick probe")
			y := *p.upstream
			quickly(&y)
			says := "requests went to a failed backend until its probe detected the failure"
			if p.upstream.Probe == nil {
				says = "requests went to a failed backend, and no probe detected the failure"
			}
			return x, says, probeText(y.Probe), x.fewer(most) && p.exposed(p.base)*2 >= x.before.Failed && p.unnoticed() >= slowDetection
		},
	},
	{
		"sticky_survivor", "sessions move from an unavailable backend to another, stay there, and exceed its capacity",
		func(p *patient) {
			if p.upstream.Sticky != nil && len(p.faulty()) > 0 {
				p.tryFaultless()
				p.with("not sticky", func(u *config.Upstream) { u.Sticky = nil }, nil)
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			return p.trial("not sticky"), "moved sessions stay with their new backend and exceed its capacity", "no sticky", p.byFaults() && p.bySticking()
		},
	},
	{
		"queue_delays", "requests wait in the queue and fail anyway",
		func(p *patient) {
			if p.upstream.Queue != nil {
				p.with("short queue", shortly, nil)
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			x := p.trial("short queue")
			ok := x.ok && x.before.Failed >= worthDiagnosing && float64(x.with.Failed) <= 1.25*float64(x.before.Failed) && x.with.ElapsedP99 <= 0.5*x.before.ElapsedP99
			y := *p.upstream
			change := ""
			if shortly(&y); y.Queue != nil {
				change = fmt.Sprintf("queue { timeout = %q }", config.FormatDuration(y.Queue.Timeout))
			}
			return x, "requests wait in the queue and fail anyway", change, ok
		},
	},
	{
		"budget", "the retry budget is used up",
		func(p *patient) {
			if r := p.upstream.Retry; r != nil && r.Budget > 0 {
				p.with("no budget", func(u *config.Upstream) { y := *r; y.Budget = 0; u.Retry = &y }, nil)
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			x := p.trial("no budget")
			return x, "the retry budget was used up", "retry without budget", x.fewer(many)
		},
	},
	{
		"not_repeatable", "requests fail that a retry must not repeat, because of their method",
		func(p *patient) {
			if r := p.upstream.Retry; r != nil && len(p.faulty()) > 0 {
				p.add("all repeatable", replay.Case{Config: p.config, Scenario: p.scenario, RepeatAll: true})
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			x := p.trial("all repeatable")
			return x, "requests failed that a retry must not repeat, such as POST", "a retry of every method", x.fewer(most)
		},
	},
	{
		"nothing_repeated", "without a retry, requests fail that another backend would answer",
		func(p *patient) {
			if p.upstream.Retry == nil && len(p.upstream.Backends) > 1 && len(p.faulty()) > 0 {
				p.with("retry", func(u *config.Upstream) { u.Retry = usual().Retry }, nil)
			}
		},
		func(p *patient) (contrast, string, string, bool) {
			x := p.trial("retry")
			return x, "requests failed that another backend would have answered, and no retry is configured", "retry { }", x.fewer(many)
		},
	},
}

// hypothetical are the causes whose change only shows them: it cannot be had, or it would do harm elsewhere.
var hypothetical = []string{"zone", "not_repeatable", "sticky_survivor", "budget"}

// try adds all trials.
func (p *patient) try() {
	for _, c := range Causes {
		c.try(p)
	}
}

// conclude returns the causes that the trials support.
func (p *patient) conclude() (out []result.Diagnosed) {
	for _, c := range Causes {
		if x, says, change, ok := c.found(p); ok {
			out = append(out, result.Diagnosed{Cause: c.Word, Upstream: p.upstream.Name, Says: says, Change: change, Hypothetical: change == withoutProbe || slices.Contains(hypothetical, c.Word), Before: x.before, With: x.with})
		}
	}
	return out
}

// once adds a trial that several causes may want.
func (p *patient) once(name string, add func()) {
	if _, ok := p.tried[name]; !ok {
		add()
	}
}

func (p *patient) tryFaultless() {
	if len(p.scenario.Faults) > 0 {
		p.once(withoutFaults, func() { p.with(withoutFaults, nil, func(s *scenario.Scenario) { s.Faults = nil }) })
	}
}

func (p *patient) tryWorkers() {
	for _, x := range []struct {
		name  string
		times int
	}{{withWorkers, 2}, {withManyWorkers, 4}} {
		p.once(x.name, func() {
			p.with(x.name, func(u *config.Upstream) {
				u.Backends = slices.Clone(u.Backends)
				for i := range u.Backends {
					u.Backends[i].MaxInFlight *= x.times // else it would hold back what they can do
				}
			}, func(s *scenario.Scenario) {
				p.behaviours(s, func(b *scenario.Behaviour) { b.Workers, b.Cores = b.Workers*x.times, b.Cores*float64(x.times) })
			})
		})
	}
}

// tryOneMore tries it with a likeness of the first backend beside the others.
func (p *patient) tryOneMore() {
	p.once(withOneMore, func() {
		a := Axes{Upstreams: []string{p.upstream.Name}}
		w := a.resize(Variant{Config: p.config, Scenario: p.scenario}, len(p.upstream.Backends)+1)
		p.add(withOneMore, replay.Case{Config: w.Config, Scenario: w.Scenario})
	})
}

// trySpread tries it where any backend may answer anybody.
func (p *patient) trySpread() {
	if p.upstream.Sticky != nil || p.upstream.Hash != nil {
		p.once(withSpread, func() {
			p.with(withSpread, func(u *config.Upstream) { u.Sticky, u.Hash, u.Algorithm = nil, nil, "least-connections" }, nil)
		})
	}
}

// byFaults reports whether most failures, or the waiting, are not there without faults.
func (p *patient) byFaults() bool {
	x := p.trial(withoutFaults)
	return x.fewer(most) || x.sooner(soon)
}

// uneven reports whether most failures are not there where any backend may answer anybody.
func (p *patient) uneven() bool {
	x := p.trial(withSpread)
	return x.fewer(most) || x.sooner(soon)
}

// flapping reports whether probes take out backends that work.
func (p *patient) flapping() bool {
	out := slices.ContainsFunc(p.base.Health, func(h result.HealthChange) bool { return h.Upstream == p.upstream.Name && h.To == "down" })
	return out && !p.byFaults() && p.trial("no probe").fewer(most)
}

// bySticking reports whether most failures are not there without sessions that stay.
func (p *patient) bySticking() bool { return p.trial("not sticky").fewer(most) }

// spreads is the change of trySpread.
func (p *patient) spreads() string {
	if p.upstream.Sticky != nil {
		return `no sticky, algorithm = "least-connections"`
	}
	return `algorithm = "least-connections"`
}

// byTurns reports whether most failures, or the waiting, are not there where the algorithm
// goes by load.
func (p *patient) byTurns() bool {
	x := p.trial("by load")
	return x.fewer(most) || x.sooner(soon)
}

// slowDetection is from how many seconds on it takes long to notice a fault.
const slowDetection = 3

// unnoticed returns how many seconds faults of the upstream's backends were not noticed, at
// most; those that never were count as lasting.
func (p *patient) unnoticed() (longest float64) {
	for _, f := range p.base.Faults {
		if !f.Began || !slices.ContainsFunc(f.Backends, func(b string) bool { return strings.HasPrefix(b, p.upstream.Name+".") }) {
			continue
		}
		switch {
		case f.DetectedAfter != nil:
			longest = max(longest, *f.DetectedAfter)
		case f.Until != nil:
			longest = max(longest, *f.Until-f.At)
		default:
			longest = max(longest, p.base.Duration-f.At)
		}
	}
	return longest
}

// failsFast reports whether a fault of a kind is answered at once.
func failsFast(kind string) bool { return kind == "errors" || kind == "probe-lies" || kind == "refuse" }

// patiently makes a probe that waits longer and wants more failures.
func patiently(u *config.Upstream) {
	if u.Probe == nil {
		return
	}
	y := *u.Probe
	y.Timeout, y.DownAfter = y.Timeout*4, y.DownAfter*2
	y.Every = max(y.Every, y.Timeout)
	u.Probe = &y
}

// quickly makes a probe that notices four times as fast; where there is none, one.
func quickly(u *config.Upstream) {
	if u.Probe == nil {
		u.Probe = usual().Probe
		return
	}
	y := *u.Probe
	y.Every, y.Timeout = max(y.Every/4, 100*time.Millisecond), max(y.Timeout/4, 50*time.Millisecond)
	y.EveryDown = min(y.EveryDown, y.Every)
	u.Probe = &y
}

// shortly makes a queue in which requests wait a tenth of the time.
func shortly(u *config.Upstream) {
	if u.Queue != nil {
		y := *u.Queue
		y.Timeout /= 10
		u.Queue = &y
	}
}

// probeText writes the keys of a probe that a trial changes.
func probeText(p *config.Probe) string {
	if p == nil {
		return ""
	}
	return fmt.Sprintf("probe %q { every = %q timeout = %q down_after = %d }", p.Kind, config.FormatDuration(p.Every), config.FormatDuration(p.Timeout), p.DownAfter)
}

func firstOf(all []string) string {
	if len(all) == 0 {
		return ""
	}
	return all[0]
}

// method returns the method of an upstream's hash; empty without one.
func method(u *config.Upstream) string {
	if u.Hash == nil {
		return ""
	}
	return u.Hash.Method
}

// usual is an upstream with the blocks that trials add, as they are by default.
var usual = sync.OnceValue(func() *config.Upstream {
	const text = "frontend \"f\" {\n listen = \"127.0.0.1:1\"\n route \"all\" {\n send_to = upstream.u\n }\n}\nupstream \"u\" {\n backends = {\n a = \"127.0.0.1:2\"\n }\n" +
		"probe \"http\" {\n every = \"1s\"\n timeout = \"500ms\"\n}\nsuspend {\n}\nretry {\n}\n}\n"
	c, found, err := config.Read([]config.File{{Name: "usual.hcl", Source: []byte(text)}})
	if err != nil || len(found) > 0 {
		panic(fmt.Sprintf("the blocks that trials add cannot be read: %v %v", err, found))
	}
	return c.Upstreams[0]
})
