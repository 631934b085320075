package cli

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/live/proxy"
)

// trialProbe is a probe that new writes.
type trialProbe struct {
	path   string // of an http probe; empty for one that only connects
	status string // that passes beside 200-299; empty for none
	note   string // what came of trying it, for the file
}

// triedPaths are the paths that new tries, in this order.
var triedPaths = []string{"/ready", "/health", "/healthz", "/"}

// trialTakes is how long new tries probes at most.
const trialTakes = 5 * time.Second

// findProbe tries probes at the backends and returns the one to write, with what came of each in lines. write returns the
// configuration with a probe.
func (w *wishes) findProbe(ctx context.Context, write func(trialProbe) (string, error)) (trialProbe, []string, error) {
	caller := ctx
	ctx, cancel := context.WithTimeout(ctx, trialTakes)
	defer cancel()
	paths := triedPaths
	switch {
	case w.tcp || w.probe == "tcp":
		paths = []string{""}
	case w.probe != "":
		paths = []string{w.probe}
	}
	var tried []string
	var last, best trialProbe // the last, and the one that passes at most backends
	passes := 0
	for _, path := range paths {
		p := trialProbe{path: path}
		text, err := write(p)
		if err != nil {
			return p, nil, err
		}
		t, err := tryProbe(ctx, text)
		if err != nil {
			return p, nil, err
		}
		if caller.Err() != nil {
			return p, nil, &exitError{interrupted, nil}
		}
		tried = append(tried, "probe "+p.words()+": "+t.String())
		switch {
		case t.connected == 0:
			p.note = "No backend was reachable when this file was written, so the probe is untested."
			if w.probe == "" && !w.tcp {
				p.path = "/"
			}
			return p, []string{"no backend is reachable (" + t.String() + "); the probe " + p.words() + " is untested"}, nil
		case t.passed == t.connected:
			p.note = fmt.Sprintf("Tried when this file was written: %s %s.", p.words(), t.String())
			return p, tried, nil
		}
		p.note = fmt.Sprintf("Tried when this file was written: %s %s.", p.words(), t.String())
		last, last.status = p, t.status
		if t.passed > passes {
			best, passes = p, t.passed
		}
	}
	switch {
	case passes > 0:
		return best, append(tried, "the probe "+best.words()+" passes at most backends"), nil
	case w.probe != "" || w.tcp:
		last.status = ""
		return last, append(tried, "the probe "+last.words()+" does not pass; it is written as -probe names it"), nil
	case last.status != "":
		last.note = fmt.Sprintf("Every backend answers %s with %s; better probe a path that checks the application.", last.path, last.status)
		return last, append(tried, "every backend answers "+last.path+" with "+last.status+"; this status passes"), nil
	}
	return trialProbe{note: "No backend answered an HTTP request when this file was written."}, append(tried, "the probe only connects, as no HTTP probe passes"), nil
}

// words names a probe.
func (p trialProbe) words() string {
	if p.path == "" {
		return "tcp"
	}
	return "GET " + p.path
}

// block writes the probe; tcp reports that the backends speak no HTTP.
func (p trialProbe) block(tcp bool) string {
	var b strings.Builder
	b.WriteString("\n")
	kind, own := "tcp", ""
	switch {
	case p.path != "":
		b.WriteString("  # Sends a request to the application. A path that checks what requests need, such\n  # as its database, detects most.\n")
		kind, own = "http", fmt.Sprintf("    path       = %q\n", p.path)
		if p.status != "" {
			own += fmt.Sprintf("    expect     = { status = [\"200-299\", %q] }\n", p.status)
		}
	case tcp:
		b.WriteString("  # Passes as long as the port is open. A backend that can report its state needs\n  # probe \"self-report\", which reads a line such as state=up share=100.\n")
	default:
		b.WriteString("  # Passes as long as the port is open, even if the application hangs.\n")
	}
	if p.note != "" {
		b.WriteString("  # " + wrapComment(p.note) + "\n")
	}
	if p.path == "/" {
		b.WriteString("  # kestrix: allow KX205 because no page for probes is known yet\n")
	}
	if p.path == "" && !tcp {
		b.WriteString("  # kestrix: allow KX203 because no HTTP probe is known for these backends\n")
	}
	fmt.Fprintf(&b, `  probe %q {
%s    every      = "3s"
    timeout    = "1s" # shorter than every, so that no probe is skipped
    down_after = 2    # a single failure may be chance
    up_after   = 3    # returning is slower than leaving
  }
`, kind, own)
	return b.String()
}

// wrapComment breaks a text into lines of a comment.
func wrapComment(text string) string {
	var b strings.Builder
	at := 4
	for i, word := range strings.Fields(text) {
		if i > 0 && at+1+len(word) > 84 {
			b.WriteString("\n  # ")
			at = 4
		} else if i > 0 {
			b.WriteByte(' ')
			at++
		}
		b.WriteString(word)
		at += len(word)
	}
	return b.String()
}

// trial is what came of a probe at all backends.
type trial struct {
	connected, passed int
	status            string   // with which all of those that did not pass answered; empty where they differ
	results           []string // of each backend, in their order
}

// String returns the results; equal ones are counted.
func (t *trial) String() string {
	var parts []string
	count := map[string]int{}
	for _, r := range t.results {
		if count[r]++; count[r] == 1 {
			parts = append(parts, r)
		}
	}
	for i, p := range parts {
		parts[i] = fmt.Sprintf("%s at %d of %s", p, count[p], plural(len(t.results), "backend"))
	}
	return strings.Join(parts, ", ")
}

// tryProbe runs the probe of a configuration once at each of its backends.
func tryProbe(ctx context.Context, text string) (*trial, error) {
	c, found, err := config.Read([]config.File{{Name: "new", Source: []byte(text)}})
	if err != nil || len(found) > 0 {
		return nil, unusable(fmt.Errorf("new: %v%v", err, found))
	}
	u, dry := c.Upstreams[0], proxy.NewDryRun(proxy.Options{})
	t := &trial{results: make([]string, len(u.Backends))}
	statuses := map[string]bool{}
	var mu sync.Mutex
	var all sync.WaitGroup
	for i, b := range u.Backends {
		t.results[i] = "no answer"
		all.Go(func() {
			a := dry.Backend(u, b)
			mu.Lock()
			defer mu.Unlock()
			if ctx.Err() != nil {
				return
			}
			switch {
			case a.Connecting != nil:
				t.results[i] = proxy.ConnectWord(a.Connecting)
				return
			case a.Probe == nil || a.Probe.Passed:
				t.results[i] = "passed"
				t.passed++
			default:
				t.results[i] = a.Probe.Why
				status, _ := strings.CutPrefix(a.Probe.Why, "status ")
				statuses[status] = true
			}
			t.connected++
		})
	}
	done := make(chan struct{})
	go func() { all.Wait(); close(done) }()
	select {
	case <-done:
	case <-ctx.Done():
	}
	mu.Lock()
	defer mu.Unlock()
	if len(statuses) == 1 && t.passed == 0 {
		for s := range statuses {
			if len(s) == 3 && s[0] >= '2' && s[0] <= '4' {
				t.status = s
			}
		}
	}
	return &trial{t.connected, t.passed, t.status, append([]string(nil), t.results...)}, nil
}
