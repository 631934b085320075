package proxy

import (
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// eventLimit bounds how many events strangers can cause: of each kind it lets some
// through in a minute, and counts the rest for one event at the end of the minute.
// The zero value is ready.
type eventLimit struct {
	mu    sync.Mutex // guards all below
	kinds map[eventKind]*limitedKind
}

// eventKind is what is counted together.
type eventKind struct{ who, what, several string }

// limitedKind counts the events of a kind.
type limitedKind struct {
	until  time.Time // end of the minute at hand
	passed int       // in it
	more   int       // that were not let through since the last event on them
}

const (
	eventsPerPeriod = 5
	eventPeriod     = time.Minute
)

// eventLimited is event for what strangers can cause. several names the kind in the
// plural, such as "refused PROXY headers".
func (p *Proxy) eventLimited(who, what, several, format string, args ...any) {
	kind := eventKind{who, what, several}
	l := &p.eventLimit
	l.mu.Lock()
	now := time.Now()
	k := l.kinds[kind]
	if k == nil {
		if l.kinds == nil {
			l.kinds = map[eventKind]*limitedKind{}
		}
		k = &limitedKind{}
		l.kinds[kind] = k
	}
	if !now.Before(k.until) {
		*k = limitedKind{until: now.Add(eventPeriod), more: k.more}
	}
	if k.passed++; k.passed <= eventsPerPeriod {
		l.mu.Unlock()
		p.event(who, what, format, args...)
		return
	}
	if k.more++; k.more == 1 {
		time.AfterFunc(k.until.Sub(now), func() { p.reportEventCount(kind) })
	}
	l.mu.Unlock()
}

// reportEventCount writes the event on those of a kind that were not let through.
func (p *Proxy) reportEventCount(kind eventKind) {
	l := &p.eventLimit
	l.mu.Lock()
	k := l.kinds[kind]
	n := k.more
	k.more = 0
	l.mu.Unlock()
	if n > 0 {
		p.event(kind.who, kind.what, "%s more %s in the last minute", thousands(n), kind.several)
	}
}

// reportEventCounts is reportEventCount for every kind.
func (p *Proxy) reportEventCounts() {
	p.eventLimit.mu.Lock()
	kinds := slices.Collect(maps.Keys(p.eventLimit.kinds))
	p.eventLimit.mu.Unlock()
	slices.SortFunc(kinds, func(a, b eventKind) int { return strings.Compare(a.who+a.several, b.who+b.several) })
	for _, k := range kinds {
		p.reportEventCount(k)
	}
}

// thousands writes a number in groups of three digits.
func thousands(n int) string {
	s := strconv.Itoa(n)
	for at := len(s) - 3; at > 0; at -= 3 {
		s = s[:at] + "," + s[at:]
	}
	return s
}
