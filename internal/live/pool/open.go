package pool

import (
	"errors"

	"kestrix/internal/core/health"
	"kestrix/internal/core/status"
	"kestrix/internal/core/upstream"
)

// ErrTakenOut ends what is open with a backend that is down, or that an operator has it
// end.
var ErrTakenOut = errors.New("the backend was taken out")

// Open is a request, stream or connection that is open with a backend.
type Open interface {
	// TakenOut ends it for ErrTakenOut. It is called from any goroutine.
	TakenOut()
}

// OpenKind is what is open with a backend.
type OpenKind uint8

// The kinds of what is open.
const (
	OpenRequest OpenKind = iota
	OpenStream           // of http: it goes on and on
	OpenTCP              // a connection of a tcp frontend
)

// Opened notes what is open with the backend, or of what kind it has become.
func (b *Backend) Opened(o Open, kind OpenKind) {
	b.openMu.Lock()
	defer b.openMu.Unlock()
	if b.open == nil {
		b.open = map[Open]OpenKind{}
	}
	b.open[o] = kind
}

// Over notes that it is no longer open.
func (b *Backend) Over(o Open) {
	b.openMu.Lock()
	defer b.openMu.Unlock()
	delete(b.open, o)
}

// end ends what is open, and returns how much that was; nil wants all of it.
func (b *Backend) end(wanted func(OpenKind) bool) (n int) {
	b.openMu.Lock()
	var all []Open
	for o, kind := range b.open {
		if wanted == nil || wanted(kind) {
			all = append(all, o)
		}
	}
	b.openMu.Unlock()
	for _, o := range all {
		go o.TakenOut() // with TLS it may have to wait for the other side
	}
	return len(all)
}

// closeLocked ends what on_down wants ended with a backend that has gone down or was
// parked. l.mu is held.
func (l *Pool) closeLocked(c *upstream.Change) {
	if c.From == c.To || c.To != health.Down && c.To != health.Parked || int(c.Backend) >= len(l.backends) || l.backends[c.Backend] == nil {
		return
	}
	b := l.backends[c.Backend]
	n := b.end(func(kind OpenKind) bool {
		return kind != OpenRequest && l.cfg.ClosesOnDown(kind == OpenTCP)
	})
	if n > 0 {
		l.set.o.Event(l.Name+"."+b.Name, status.EventClosed, "open connections and streams, %d: on_down", n)
	}
}
