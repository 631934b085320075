package sim

import (
	"kestrix/internal/core/queue"
	"kestrix/internal/core/result"
	"kestrix/internal/core/tick"
)

// sharing is the cores of a server that its work shares.
type sharing struct {
	queue.Shared[waiting]
	turn uint32 // goes up when something comes or goes: the event that was to end the first is void
}

// share begins work that shares the cores of a server.
func (e *Engine) share(s *server, w waiting) {
	s.shared.Add(e.now, w.takes, w)
	e.shareOn(s)
	if w.req >= 0 && e.requests[w.req].gen == w.gen {
		e.late(w.req) // what comes later may have it take longer than now seems
	}
}

// shareOn has the first of the work of a server end when it is done.
func (e *Engine) shareOn(s *server) {
	s.shared.turn++
	if at := s.shared.Next(); at != tick.Never {
		e.queue.Push(at, event{kind: sharedDone, server: s.index, gen: s.shared.turn})
	}
}

// sharedDone ends the first of the work of a server.
func (e *Engine) sharedDone(s *server, turn uint32) {
	if turn != s.shared.turn {
		return
	}
	w := s.shared.Take(e.now)
	e.shareOn(s)
	e.workDone(s, w.req, w.gen, w.paths)
}

// workedBy returns how long the workers of a server, or its cores where work shares them, were
// busy, all together.
func (s *server) workedBy(now tick.Time) tick.Time {
	if s.shared != nil {
		return s.shared.Served(now)
	}
	return s.worked
}

// capacity returns how many workers can be busy at once, or cores where work shares them.
func (s *server) capacity() float64 {
	if s.shared != nil {
		return min(s.behaves.Cores, float64(s.workers))
	}
	return float64(s.workers)
}

// restarts has the process of a server begin anew, which may make it slow at first.
func (e *Engine) restarts(s *server) {
	s.restarted = true
	if s.behaves.Cold.For > 0 {
		s.coldUntil = e.now.Add(s.behaves.Cold.For)
		e.queue.Push(s.coldUntil, event{kind: warmed})
	}
}

// coldSlows returns how many times as long work takes for a restart of the process.
func (s *server) coldSlows(from tick.Time) float64 {
	c := &s.behaves.Cold
	return c.Slows(c.For - s.coldUntil.Sub(from))
}

// assumedSharing says that work does not slow down other work where no scenario has it do so.
func (e *Engine) assumedSharing() *result.Assumption {
	for k := range e.servers {
		if s := &e.servers[k]; s.shared == nil && s.peak > 1 && s.workers > 1 {
			return &result.Assumption{What: result.Sharing, Value: "requests do not slow each other down", Because: "no scenario sets cores that they share", Instead: "behaviour \"*\" { sharing { cores = ... } }"}
		}
	}
	return nil
}

// assumedCold says that backends that restart are as fast as ever where no scenario says how
// slow they begin.
func (e *Engine) assumedCold() *result.Assumption {
	for k := range e.servers {
		if s := &e.servers[k]; s.restarted && s.behaves.Cold.For == 0 {
			return &result.Assumption{What: result.ColdStarts, Value: "restarted backends are fast at once", Because: "no scenario sets how slow they begin", Instead: "behaviour \"*\" { cold { ... } }"}
		}
	}
	return nil
}
