package events

import (
	"slices"
	"sync"
	"time"

	"kestrix/internal/core/status"
	"kestrix/internal/core/units"
)

// limit bounds how many events strangers can cause: of each kind it lets some through in
// a minute, and counts the rest for one event at the end of the minute. The zero value is
// ready.
type limit struct {
	mu    sync.Mutex // guards all below
	kinds map[counting]*counted
}

// counting is what is counted together.
type counting struct {
	object  string
	kind    status.EventKind
	several string
}

// counted counts the events of a kind.
type counted struct {
	until  time.Time // end of the minute at hand
	passed int       // in it
	more   int       // that were not let through since the last event on them
}

const (
	mostPassed = 5
	period     = time.Minute
)

// Limited is Addf for what strangers can cause. several names the kind in the plural, such
// as "refused PROXY headers".
func (l *Log) Limited(object string, kind status.EventKind, several, format string, args ...any) {
	key := counting{object, kind, several}
	x := &l.limit
	x.mu.Lock()
	now := time.Now()
	k := x.kinds[key]
	if k == nil {
		if x.kinds == nil {
			x.kinds = map[counting]*counted{}
		}
		k = &counted{}
		x.kinds[key] = k
	}
	if !now.Before(k.until) {
		*k = counted{until: now.Add(period), more: k.more}
	}
	if k.passed++; k.passed <= mostPassed {
		x.mu.Unlock()
		l.Addf(object, kind, format, args...)
		return
	}
	if k.more++; k.more == 1 {
		time.AfterFunc(k.until.Sub(now), func() { l.addCount(key) })
	}
	x.mu.Unlock()
}

// addCount adds the event on those of a kind that were not let through.
func (l *Log) addCount(key counting) {
	l.limit.mu.Lock()
	k := l.limit.kinds[key]
	n := k.more
	k.more = 0
	l.limit.mu.Unlock()
	if n > 0 {
		l.Addf(key.object, key.kind, "%s more %s in the last minute", units.Count(int64(n)), key.several)
	}
}

// Flush adds the events on what was not let through without waiting for the minute's end.
func (l *Log) Flush() {
	l.limit.mu.Lock()
	by := map[string]counting{}
	var names []string
	for k := range l.limit.kinds {
		name := k.object + k.several + string(k.kind)
		by[name], names = k, append(names, name)
	}
	l.limit.mu.Unlock()
	slices.Sort(names)
	for _, name := range names {
		l.addCount(by[name])
	}
}
