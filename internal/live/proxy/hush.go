package proxy

import (
	"maps"
	"slices"
	"strconv"
	"sync"
	"time"
)

// hush keeps what strangers can cause at will from filling the event log: of each
// kind of event some are told, and further ones are summed up once a minute. The
// zero value is ready.
type hush struct {
	mu    sync.Mutex // guards all below
	kinds map[hushKind]*hushed
}

// hushKind is what is summed up together.
type hushKind struct{ who, what, several string }

// hushed is how much of a kind there was lately.
type hushed struct {
	until time.Time // the end of the minute at hand
	told  int
	more  int
}

const (
	hushAfter  = 5
	hushPeriod = time.Minute
)

// seldom tells of something that strangers can cause; several names it where it
// is summed up, as "refused PROXY headers".
func (p *Proxy) seldom(who, what, several, format string, args ...any) {
	kind := hushKind{who, what, several}
	h := &p.hush
	h.mu.Lock()
	now := time.Now()
	k := h.kinds[kind]
	if k == nil {
		if h.kinds == nil {
			h.kinds = map[hushKind]*hushed{}
		}
		k = &hushed{}
		h.kinds[kind] = k
	}
	if !now.Before(k.until) {
		*k = hushed{until: now.Add(hushPeriod), more: k.more}
	}
	if k.told++; k.told <= hushAfter {
		h.mu.Unlock()
		p.event(who, what, format, args...)
		return
	}
	if k.more++; k.more == 1 {
		time.AfterFunc(k.until.Sub(now), func() { p.sumUp(kind) })
	}
	h.mu.Unlock()
}

// sumUp tells of how much was not told.
func (p *Proxy) sumUp(kind hushKind) {
	h := &p.hush
	h.mu.Lock()
	k := h.kinds[kind]
	n := k.more
	k.more = 0
	h.mu.Unlock()
	if n > 0 {
		p.event(kind.who, kind.what, "%s more %s in the last minute", thousands(n), kind.several)
	}
}

// sumUpAll tells of all that was not told.
func (p *Proxy) sumUpAll() {
	p.hush.mu.Lock()
	kinds := slices.Collect(maps.Keys(p.hush.kinds))
	p.hush.mu.Unlock()
	for _, k := range kinds {
		p.sumUp(k)
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
