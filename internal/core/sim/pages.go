package sim

import (
	"time"

	"kestrix/internal/core/histogram"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/result"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/trace"
)

// pages are those that clients load: a request, and when it was answered its parts, some at a
// time. An arrival that asks for a page comes with the arrivals of its parts right behind it.
type pages struct {
	of     []*trace.Page // of the load, by number less one
	seen   []pageCount   // likewise
	all    []page        // those that are being loaded, and free places
	spare  []int32       // numbers of free places, from 1
	whole  ingest.Arrival
	parts  int32 // how many are still to come of the page of whole
	number int32 // of that page among all
}

// pageCount is what came of a page so far.
type pageCount struct {
	loaded, failed int64
	elapsed        histogram.Histogram
}

// page is one that a client loads.
type page struct {
	cfg    *trace.Page
	began  tick.Time
	parts  []ingest.Arrival
	next   int // the part that is fetched next; -1 while the page itself has not been answered
	open   int // requests of it that have not ended
	failed bool
}

// at returns a page by its number, from 1.
func (p *pages) at(number int32) *page { return &p.all[number-1] }

// openPage returns the number of a page whose loading begins, without its parts.
func (e *Engine) openPage(cfg *trace.Page) int32 {
	p := &e.pages
	if len(p.spare) == 0 {
		p.all = append(p.all, page{})
		p.spare = append(p.spare, int32(len(p.all)))
	}
	n := p.spare[len(p.spare)-1]
	p.spare = p.spare[:len(p.spare)-1]
	x := p.at(n)
	*x = page{cfg: cfg, began: tick.Never, parts: x.parts[:0], next: -1, open: 1}
	return n
}

// gather keeps an arrival that asks for a page until its parts have come. It returns the arrival
// that is to be taken in, nil for none.
func (e *Engine) gather(a *ingest.Arrival) *ingest.Arrival {
	p := &e.pages
	switch {
	case e.only >= 0: // of one upstream: each comes by itself
		p.whole = *a
		p.whole.Page = 0
		return &p.whole
	case p.parts > 0:
		x := p.at(p.number)
		x.parts = append(x.parts, *a)
		if p.parts--; p.parts > 0 {
			return nil
		}
		return &p.whole
	case a.Page > 0:
		p.whole, p.parts = *a, int32(len(p.of[a.Page-1].Fetches))
		p.number = e.openPage(p.of[a.Page-1])
		if p.whole.Page = p.number; p.parts > 0 {
			return nil
		}
		return &p.whole
	}
	return a
}

// copyPage returns the number of a copy of a page for another session, whose parts are made those
// of another client where other is not 0. Of 0, no page, it is 0.
func (e *Engine) copyPage(number int32, session uint32, other uint64) int32 {
	if number == 0 {
		return 0
	}
	n := e.openPage(e.pages.at(number).cfg)
	x := e.pages.at(n)
	x.parts = append(x.parts, e.pages.at(number).parts...)
	for k := range x.parts {
		if x.parts[k].Session = session; other != 0 {
			e.disguise(&x.parts[k], other)
		}
	}
	return n
}

// closePage frees the place of a page.
func (p *pages) closePage(number int32) {
	if number > 0 {
		p.spare = append(p.spare, number)
	}
}

// begins notes when a page is first asked for.
func (p *pages) begins(number int32, now tick.Time) {
	if x := p.at(number); x.began == tick.Never {
		x.began = now
	}
}

// over is when a request has ended that its client does not repeat: the client fetches what
// comes next of its page, if it is of one, or goes on after a pause.
func (e *Engine) over(number, who int32, answered bool, pause time.Duration) {
	if number == 0 {
		e.askedAgain(who, pause)
		return
	}
	p := e.pages.at(number)
	p.open--
	p.failed = p.failed || !answered
	if p.next < 0 {
		if p.next = 0; !answered {
			p.next = len(p.parts) // there is nothing to fetch
		}
	}
	for ; p.next < len(p.parts) && p.open < p.cfg.AtOnce; p.next++ {
		a := p.parts[p.next]
		a.Page = number
		p.open++
		e.queue.Push(e.now, event{kind: another, req: e.keep(&a)})
	}
	if p.open > 0 {
		return
	}
	seen := &e.pages.seen[p.cfg.N-1]
	e.latencies.Add(&seen.elapsed, int64(e.now-p.began))
	if p.failed {
		seen.failed++
	} else {
		seen.loaded++
	}
	e.pages.closePage(number)
	e.askedAgain(who, pause)
}

// pageResults returns what came of the pages.
func (e *Engine) pageResults() []result.Page {
	out := []result.Page{}
	for i, p := range e.pages.of {
		seen := &e.pages.seen[i]
		out = append(out, result.Page{Path: p.Path, Loaded: seen.loaded, Failed: seen.failed, Elapsed: e.latencies.Latency(&seen.elapsed)})
	}
	return out
}
