package proxy

import (
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"
)

// A listener that is to be closed goes on accepting for acceptFor: what waits in its queue
// then would be reset. One that gives way to another that it contains does for
// acceptWiderFor: handshakes that began before the other was open end here.
const (
	acceptFor      = 50 * time.Millisecond
	acceptWiderFor = time.Second
)

// shutdown closes the listener and waits for what is open, up to a time; what
// is left is cut off. It goes on accepting for a while before. The error says of how many
// connections. It may be called again.
func (s *server) shutdown(grace, accept time.Duration) error {
	began := time.Now()
	s.ending.Store(true)
	s.mu.Lock()
	s.closing = true
	s.mu.Unlock()
	if l, ok := s.listener.(interface{ SetDeadline(time.Time) error }); !ok || l.SetDeadline(began.Add(min(accept, grace))) != nil {
		s.listener.Close()
	}
	select {
	case <-s.accepted:
	case <-time.After(min(accept+acceptFor, grace)): // it accepts nothing yet, or waits for descriptors
	}
	s.listener.Close()
	s.free.Do(func() { close(s.unbound) })
	for s.arrivingNow() > 0 && time.Since(began) < min(quietFor, grace) {
		time.Sleep(endEvery / 2)
	}
	s.mu.Lock()
	s.closed = true
	fronts := slices.Clone(s.retired)
	if s.front != nil {
		fronts = append(fronts, s.front)
	}
	s.mu.Unlock()
	s.endHandshakes()
	cuts := make([]int, len(fronts))
	left := max(grace-time.Since(began), 0)
	var wg sync.WaitGroup
	for i, f := range fronts {
		wg.Go(func() { cuts[i] = f.shutdown(left) })
	}
	ended := make(chan struct{})
	go func() {
		s.open.Wait()
		close(ended)
	}()
	timer := time.NewTimer(left)
	defer timer.Stop()
	cut := 0
	select {
	case <-ended:
	case <-timer.C:
		s.cut()
		s.mu.Lock()
		cut = len(s.streams)
		for c := range s.streams {
			c.Close()
		}
		s.mu.Unlock()
		<-ended
	}
	wg.Wait()
	s.cut()
	for _, n := range cuts {
		cut += n
	}
	switch cut {
	case 0:
		return nil
	case 1:
		return errors.New("1 connection was cut off")
	}
	return fmt.Errorf("%d connections were cut off", cut)
}

// arrivingNow returns how many connections are accepted and not yet in anybody's hands.
func (s *server) arrivingNow() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.arriving
}

// Of connections that are to end, those on which nothing has been asked for quietFor are
// closed; others end with their next answer. retireFor is time for a client of HTTP/2 to
// learn that no further stream is welcome.
const (
	quietFor  = time.Second
	retireFor = 100 * time.Millisecond
	endEvery  = 10 * time.Millisecond // how often is looked
)

// shutdown ends an http server within a time, without losing a request: the library's own
// way closes kept connections at once, also those on which a request is on its way. It
// returns how many connections were cut off while something was being asked on them.
func (f *httpFront) shutdown(grace time.Duration) (cut int) {
	began := time.Now()
	f.conns.Close()
	retired, ended := map[net.Conn]bool{}, map[net.Conn]bool{}
	for {
		pending := f.pending.Load() // before the others: one that is handed over is among either
		left := f.connections()
		over := time.Since(began)
		for _, c := range left {
			x, ok := c.(*guardedConn)
			if !ok || ended[c] {
				continue
			}
			if !retired[c] { // it may begin to speak HTTP/2 only now
				retired[c] = x.Retire()
			}
			if idle := x.Idle(); over >= retireFor && !idle.IsZero() && time.Since(idle) >= quietFor {
				ended[c] = true
				x.EndIdle()
			}
		}
		if len(left) == 0 && pending == 0 {
			f.http.Close()
			return 0
		}
		if over >= grace {
			for _, c := range left {
				if x, ok := c.(*guardedConn); ok && x.Idle().IsZero() {
					cut++
				}
			}
			f.http.Close()
			return cut
		}
		time.Sleep(min(endEvery, grace-over))
	}
}
