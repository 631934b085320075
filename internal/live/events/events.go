// Package events is what happens to a proxy besides requests: changes of state,
// listeners, reloads, orders. The proxy, its pools and control report to it; it writes to
// whoever runs the proxy and keeps the latest for operators who ask later. It must never
// let strangers fill a log.
package events

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/route"
	"kestrix/internal/core/status"
)

// Kept is how many events are kept for operators who ask later.
const Kept = 2048

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
	e.N, e.Severity = l.count, status.SeverityOf(e.Kind)
	l.ring[l.count%Kept] = e
	l.mu.Unlock()
	l.tell(e)
}

// Addf is Add for an event of this moment.
func (l *Log) Addf(object string, kind status.EventKind, format string, args ...any) {
	l.Add(status.Event{At: time.Now(), Object: object, Kind: kind, Text: fmt.Sprintf(format, args...)})
}

// Query selects events. A zero field selects all.
type Query struct {
	After    uint64    // those with a higher number
	Since    time.Time // those at or after it
	Until    time.Time // those at or before it
	Objects  []string  // patterns with *, of which one must match the object, its upstream or its backend
	Kinds    []status.EventKind
	Severity status.Severity // at least this grave
	Most     int             // so many of the newest
}

// matches reports whether an event is selected; objects are the patterns of Objects.
func (q *Query) matches(e *status.Event, objects []route.Pattern) bool {
	switch {
	case e.N <= q.After, e.At.Before(q.Since), !q.Until.IsZero() && e.At.After(q.Until):
		return false
	case q.Severity != "" && e.Severity.Priority() > q.Severity.Priority():
		return false
	case len(q.Kinds) > 0 && !slices.Contains(q.Kinds, e.Kind):
		return false
	}
	up, backend, _ := strings.Cut(e.Object, ".")
	return len(objects) == 0 || slices.ContainsFunc(objects, func(p route.Pattern) bool {
		return p.Match(e.Object) || p.Match(up) || backend != "" && p.Match(backend)
	})
}

// Find returns the events that a query selects, the newest first. New events wait no longer
// than a copy of all takes.
func (l *Log) Find(q Query) []status.Event {
	l.mu.Lock()
	all := make([]status.Event, 0, min(l.count, Kept))
	for n := l.count; n > q.After && l.ring[n%Kept].N == n && len(all) < Kept; n-- {
		all = append(all, l.ring[n%Kept])
	}
	l.mu.Unlock()
	var objects []route.Pattern
	for _, p := range q.Objects {
		objects = append(objects, route.Plain(p))
	}
	out := []status.Event{}
	for i := range all {
		if q.matches(&all[i], objects) {
			if out = append(out, all[i]); len(out) == q.Most {
				break
			}
		}
	}
	return out
}

// Restore takes the events of an earlier process, the oldest first, before any other one. The
// numbers go on from the last of them.
func (l *Log) Restore(earlier []status.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, e := range earlier[max(len(earlier)-Kept, 0):] {
		l.count++
		e.N = l.count
		l.ring[l.count%Kept] = e
	}
}
