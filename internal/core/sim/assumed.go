package sim

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/units"
)

// nearWorkers is the part of an upstream's workers from which on the concurrency that was
// recorded says that requests waited then, so that their durations contain it.
const nearWorkers = 0.8

// fewAssumed is the share of requests below which an assumption on them moves no
// percentile that is printed.
const fewAssumed = 0.01

// muchWaiting is the part of all time at backends from which on waiting for workers moves
// what is printed of times.
const muchWaiting = 0.05

// assumed lists what of the model is neither from the trace nor from the scenario, and what
// of the trace may mislead.
func (e *Engine) assumed() result.Assumptions {
	out := result.Assumptions{}
	if e.res.Requests == 0 {
		return out
	}
	for _, a := range []*result.Assumption{e.assumedService(), e.unnamedField(), e.waitingTwice(), e.assumedBackends(), e.assumedSharing(), e.assumedCold(), e.assumedDependencies(), e.assumedProxies(), e.assumedArrivals(), e.assumedCopies(), e.assumedPatience(), e.assumedRepeats()} {
		if a != nil {
			out = append(out, *a)
		}
	}
	return out
}

// assumedService says of service times what neither scenario nor trace say.
func (e *Engine) assumedService() *result.Assumption {
	var d durations
	var asked int64
	for _, u := range e.ups {
		if u.requests == 0 || !u.fromTrace() {
			continue
		}
		asked += u.requests
		d.own, d.failed, d.missing, d.said = d.own+u.durations.own, d.failed+u.durations.failed, d.missing+u.durations.missing, d.said+u.durations.said
	}
	a := result.Assumption{What: result.ServiceTimes, Times: true}
	without := d.failed + d.missing - d.said
	switch {
	case without == 0:
		return nil
	case d.own == 0:
		a.Value = fmt.Sprintf("lognormal, mean %s, CV %g", millis(scenario.UnknownService.Mean), scenario.UnknownService.CV)
		switch {
		case e.scenario.Load != nil:
			a.Because, a.Instead = "the scenario has no service time", "behaviour \"*\" { service = ... } sets it"
		case d.failed > 0 && d.missing == 0:
			a.Because, a.Instead = "all requests with a duration failed when they were recorded", "-recorded-failures repeats the failures"
		default:
			a.Because, a.Instead = "the trace has no durations", "-fields or -map name them, or behaviour in a scenario sets them"
		}
	default:
		var why []string
		if d.failed > 0 {
			why = append(why, units.Count(d.failed)+" failed in the trace")
		}
		if d.missing > 0 {
			why = append(why, units.Count(d.missing)+" have no duration")
		}
		a.Value = fmt.Sprintf("%s of %s requests take as long as the last answered one before them", units.Count(without), units.Count(asked))
		a.Because, a.Instead = strings.Join(why, ", "), "behaviour in a scenario sets service times"
		if d.failed > 0 {
			a.Instead = "-recorded-failures repeats the failures"
		}
		a.Times = float64(without) >= fewAssumed*float64(asked)
	}
	return &a
}

// unnamedField points out a field of log lines that may be the duration that is missing.
func (e *Engine) unnamedField() *result.Assumption {
	u := e.res.Trace.Unnamed
	if u == nil || e.res.Trace.Durations.Recorded > 0 {
		return nil
	}
	return &result.Assumption{
		What: result.LastField, Value: fmt.Sprintf("log lines end with an unnamed number, such as %s", u.Example),
		Because: "it may be a duration", Instead: "-fields " + u.Fields + " reads microseconds; /ms is milliseconds, without a unit seconds",
	}
}

// fromTrace reports whether a backend takes as long as the trace says, for some requests.
func (u *up) fromTrace() bool { return slices.Contains(u.said, false) }

// waitingTwice says where recorded durations contain waiting for workers, for which
// requests wait again in the replay.
func (e *Engine) waitingTwice() *result.Assumption {
	a := result.Assumption{
		What: result.Waiting, Because: "recorded durations include the waiting at that time, so waiting may be counted twice",
		Instead: "kestrix trace learn separates work from waiting",
	}
	var values []string
	for _, u := range e.ups {
		if u.durations.own == 0 || !u.fromTrace() {
			continue
		}
		var workers, lined int64
		var waited, worked float64
		for k := range u.servers {
			s := &u.servers[k]
			workers, lined, waited, worked = workers+int64(s.workers), lined+s.lined, waited+s.linedFor.Seconds(), worked+s.workedBy(e.now).Seconds()
		}
		if u.durations.most < nearWorkers*float64(workers) {
			continue
		}
		text := fmt.Sprintf("%s: up to %.0f requests in flight in the trace, %d workers in the replay", u.cfg.Name, u.durations.most, workers)
		if lined > 0 {
			a.Times = a.Times || waited >= muchWaiting*(waited+worked)
			text += fmt.Sprintf("; %s requests wait, %.1f %% of the time at backends", units.Count(lined), 100*waited/(waited+worked))
		}
		values = append(values, text)
	}
	if values == nil {
		return nil
	}
	a.Value = strings.Join(values, "; ")
	return &a
}

// assumedBackends says of workers, backlogs and connecting what the scenario does not.
func (e *Engine) assumedBackends() *result.Assumption {
	usual := scenario.Default()
	workers, backlog, connect, handshake, waited, worked := 0, 0, 0, 0, 0.0, 0.0
	for k := range e.servers {
		s := &e.servers[k]
		b := &s.behaves
		if !b.GivenWorkers {
			workers, waited, worked = workers+1, waited+s.linedFor.Seconds(), worked+s.workedBy(e.now).Seconds()
		}
		if !b.GivenBacklog {
			backlog++
		}
		if !b.GivenConnect {
			connect++
		}
		handshake += one(!b.GivenHandshake && s.up.cfg.TLS != nil)
	}
	var parts []string
	part := func(n int, text string) {
		if n > 0 && n < len(e.servers) {
			text += fmt.Sprintf(" (%d of %d)", n, len(e.servers))
		}
		if n > 0 {
			parts = append(parts, text)
		}
	}
	part(workers, fmt.Sprintf("%d workers", usual.Workers))
	part(backlog, fmt.Sprintf("a backlog of %d", usual.Backlog))
	part(connect, fmt.Sprintf("%s to connect", millis(usual.Connect)))
	part(handshake, "as long for a TLS handshake")
	if parts == nil {
		return nil
	}
	return &result.Assumption{
		What: result.Backends, Value: strings.Join(parts, ", ") + " for each backend", Because: "no scenario sets them",
		Instead: "behaviour \"*\" { workers = ... }", Times: waited > 0 && waited >= muchWaiting*(waited+worked),
	}
}

// assumedArrivals says how stamps of whole seconds were taken.
func (e *Engine) assumedArrivals() *result.Assumption {
	if e.res.Trace.Shifted == 0 {
		return nil
	}
	return &result.Assumption{What: result.Arrivals, Value: "time stamps are spread evenly within their second", Because: "the trace has time stamps of whole seconds", Instead: "-spread none keeps them"}
}

// assumedPatience says that clients wait for ever where nothing says how long.
func (e *Engine) assumedPatience() *result.Assumption {
	if e.scenario.Patience != nil {
		return nil
	}
	return &result.Assumption{What: result.Patience, Value: "clients wait indefinitely", Because: "no scenario sets their patience", Instead: "clients { patience = ... }"}
}

// millis writes a time in milliseconds.
func millis(d time.Duration) string { return fmt.Sprintf("%g ms", d.Seconds()*1000) }
