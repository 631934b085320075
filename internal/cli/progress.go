package cli

import (
	"fmt"
	"strings"
	"time"

	"kestrix/internal/core/scenario"
	"kestrix/internal/report"
)

// progress is a line on stderr that tells how far long work has come, where
// stderr is a terminal.
type progress struct {
	env   *Env
	what  string
	on    bool
	began time.Time
	last  time.Time
	shown bool
	limit time.Duration // of the whole; 0 for none
}

func newProgress(env *Env, what string) *progress {
	return &progress{env: env, what: what, on: terminal(env.Stderr), began: time.Now(), last: time.Now()}
}

// show prints at most five times a second. total is the size of all files, 0
// if it is not known.
func (p *progress) show(done, bytes, total int64) {
	if !p.on || time.Since(p.last) < 200*time.Millisecond {
		return
	}
	p.last = time.Now()
	p.shown = true
	line := fmt.Sprintf("%s: %s records, %.1f s", p.what, report.Count(done), time.Since(p.began).Seconds())
	if total > 0 && bytes > 0 && bytes <= total {
		share := float64(bytes) / float64(total)
		left := time.Since(p.began).Seconds() * (1 - share) / share
		const wide = 24
		bar := strings.Repeat("#", int(share*wide)) + strings.Repeat(".", wide-int(share*wide))
		line = fmt.Sprintf("%s: [%s] %3.0f %%, %s records, %s left", p.what, bar, share*100, report.Count(done), report.Span(left))
	}
	fmt.Fprintf(p.env.Stderr, "\r\x1b[K%s", line)
}

// clear takes the line away.
func (p *progress) clear() {
	if p.shown {
		fmt.Fprint(p.env.Stderr, "\r\x1b[K")
	}
}

// of returns the function that a replay of traces, or of a scenario's load, reports its progress to.
func (p *progress) of(sc *scenario.Scenario, traces []string) func(bytes, requests int64) {
	total := sizes(traces)
	return func(bytes, requests int64) {
		if l := sc.Load; l != nil {
			bytes, total = requests, int64(l.Requests)
			if !l.Closed {
				total = int64(l.Spec.Rate * l.Spec.For.Seconds())
			}
		}
		p.show(requests, bytes, total)
	}
}

// steps returns how many of several things of much the same length are done.
func (p *progress) steps(done, of int) {
	if !p.on {
		return
	}
	p.shown, p.last = true, time.Now()
	left := time.Since(p.began).Seconds() * float64(max(of-done, 0)) / float64(max(done, 1))
	fmt.Fprintf(p.env.Stderr, "\r\x1b[K%s: %d of %d replays, %s left", p.what, min(done, of), of, report.Span(left))
}
