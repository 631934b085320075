package standin

import (
	"sync"
	"time"

	"kestrix/internal/core/queue"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/tick"
)

// Behave has a stand-in take as long as a scenario says, with as many workers. It must be
// called before Start.
func (s *StandIn) Behave(b scenario.Behaviour, ofPaths []scenario.PathService) {
	s.Service, s.OfPaths, s.Workers, s.Backlog, s.Cold = b.Service, ofPaths, b.Workers, b.Backlog, b.Cold
	if b.Cores > 0 {
		s.cores = &cores{began: time.Now(), shared: queue.NewShared[chan struct{}](b.Cores)}
	}
}

// cores are what the work of a stand-in shares.
type cores struct {
	mu     sync.Mutex
	began  time.Time
	shared queue.Shared[chan struct{}] // closed when the work is done
	timer  *time.Timer
}

// do returns a channel that is closed when some work is done. Nobody can call it off: a backend
// does not notice that its client left.
func (c *cores) do(work time.Duration) <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	done := make(chan struct{})
	c.shared.Add(c.now(), tick.Time(work), done)
	c.wait()
	return done
}

func (c *cores) now() tick.Time { return tick.Time(time.Since(c.began)) }

// wait has what is done next end in time. c.mu is held.
func (c *cores) wait() {
	at := c.shared.Next()
	if c.timer != nil {
		c.timer.Stop() // one that has fired finds nothing that is due
	}
	if at != tick.Never {
		c.timer = time.AfterFunc(at.Sub(c.now()), c.due)
	}
}

// due ends what is done.
func (c *cores) due() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for now := c.now(); c.shared.Next() <= now; {
		close(c.shared.Take(now))
	}
	c.wait()
}

// slowed returns how long work takes that begins now, for a recent restart.
func (s *StandIn) slowed(work time.Duration) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.restarted.IsZero() {
		return work
	}
	return time.Duration(float64(work) * s.Cold.Slows(time.Since(s.restarted)))
}

// restarts notes that a fault keeps the stand-in from listening, or that none does any more:
// its process begins anew then. s.mu is held.
func (s *StandIn) restarts(refuses bool) {
	if s.refused && !refuses {
		s.restarted = time.Now()
	}
	s.refused = refuses
}
