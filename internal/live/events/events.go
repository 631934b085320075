// Package events is what happens to a proxy besides requests: changes of state,
// listeners, reloads, orders. The proxy, its pools and control report to it; it writes to
// whoever runs the proxy and keeps the latest for operators who ask later. It must never
// let strangers fill a log.
package events

import (
	"fmt"
	"strconv"
	"sync"
	"time"

	"kestrix/internal/core/status"
)

// Kept is how many events are kept for operators who ask later.
const Kept = 256

// Log takes events. Its methods may be called from any goroutine.
type Log struct {
	tell  func(status.Event)
	limit limit

	mu    sync.Mutex // guards all below
	count uint64     // of all there were
	ring  [Kept]status.Event
}

// New returns a log that hands each event on as well; tell must be safe for concurrent
// use. It is nil for nobody.
func New(tell func(status.Event)) *Log {
	if tell == nil {
		tell = func(status.Event) {}
	}
	return &Log{tell: tell}
}

// Add takes an event, and numbers it.
func (l *Log) Add(e status.Event) {
	l.mu.Lock()
	l.count++
	e.N = l.count
	l.ring[l.count%Kept] = e
	l.mu.Unlock()
	l.tell(e)
}

// Addf is Add for an event of this moment.
func (l *Log) Addf(object string, kind status.EventKind, format string, args ...any) {
	l.Add(status.Event{At: time.Now(), Object: object, Kind: kind, Text: fmt.Sprintf(format, args...)})
}

// Last returns the events after a number, the newest first, at most so many.
func (l *Log) Last(after uint64, most int) []status.Event {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := []status.Event{}
	for n := l.count; n > after && len(out) < min(most, Kept) && l.ring[n%Kept].N == n; n-- {
		out = append(out, l.ring[n%Kept])
	}
	return out
}

// Thousands writes a number in groups of three digits, as events have them.
func Thousands(n int) string {
	s := strconv.Itoa(n)
	for at := len(s) - 3; at > 0; at -= 3 {
		s = s[:at] + "," + s[at:]
	}
	return s
}
