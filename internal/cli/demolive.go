package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/status"
	"kestrix/internal/live/proxy"
	"kestrix/internal/live/standin"
)

// live starts stand-ins and the proxy, sends requests, kills a backend and starts it again. Ports that are in use end it
// with a line, not with an error.
func (d *demo) live(ctx context.Context) error {
	s, err := usable(d.env, "harbour.hcl", nil)
	if err != nil {
		return err
	}
	all, err := choose(s.config, nil, nil)
	if err != nil {
		return err
	}
	fmt.Fprint(d.env.Stdout, d.style.Command([]string{"standin", "harbour.hcl", "&"}))
	var auk *standin.StandIn
	for i, x := range all {
		if err := x.Start(); err != nil {
			for _, y := range all[:i] {
				y.Stop()
			}
			fmt.Fprintf(d.env.Stdout, "  skipped: %v\n", err)
			return nil
		}
		defer x.Stop()
		if x.Name == "booking.auk" {
			auk = x
		}
	}
	fmt.Fprint(d.env.Stdout, d.style.Command([]string{"serve", "harbour.hcl", "&"}))
	l := &lockedWriter{w: d.env.Stdout}
	seen := make(chan string, 64)
	p := proxy.New(proxy.Options{Seed: 7, Grace: time.Second, Event: func(e status.Event) {
		if e.Object == "booking.auk" {
			seen <- string(e.Kind)
			e.Object = "auk"
			fmt.Fprintf(l, "  %s", d.style.Event(e))
		}
	}})
	if err := p.Apply(s.config); err != nil {
		fmt.Fprintf(d.env.Stdout, "  skipped: %v\n", err)
		return nil
	}
	defer func() { _ = p.Stop() }() // requests in flight are the demo's own
	url := fmt.Sprintf("http://%s/seats", s.config.Frontends[0].Listen[0].Value)
	ask := func() { fmt.Fprintf(l, "  %s\n", asked(ctx, url, 30)) }
	time.Sleep(time.Second) // every backend has been probed once
	ask()
	fmt.Fprintln(l, "  (auk is killed)")
	auk.Stop()
	ask()
	waitFor(ctx, seen, "down")
	fmt.Fprintln(l, "  (auk is started again)")
	if err := auk.Start(); err != nil {
		fmt.Fprintf(l, "  %v\n", err)
		return nil
	}
	waitFor(ctx, seen, "up")
	ask()
	return nil
}

// asked sends requests one after the other, as clients without cookies, and returns how many each backend answered.
func asked(ctx context.Context, url string, times int) string {
	by := map[string]int{}
	failed := 0
	for range times {
		if name, ok := askOnce(ctx, url); ok {
			by[name]++
		} else {
			failed++
		}
	}
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(by)) {
		parts = append(parts, fmt.Sprintf("%s %d", name, by[name]))
	}
	return fmt.Sprintf("%d requests to %s: %s; %d failed", times, url, strings.Join(parts, ", "), failed)
}

// askOnce sends a request and returns the name of the stand-in that answered; ok reports a status below 500.
func askOnce(ctx context.Context, url string) (name string, ok bool) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return "", false
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", false
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 1<<16)) // so that the connection is kept
	return strings.TrimPrefix(res.Header.Get("Stand-In"), "booking."), res.StatusCode < 500
}

// lockedWriter lets events, access lines and the story share a stream.
type lockedWriter struct {
	mu sync.Mutex
	w  io.Writer
}

func (l *lockedWriter) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.w.Write(p)
}

// waitFor waits, for ten seconds at most, until auk has come to a state.
func waitFor(ctx context.Context, seen <-chan string, state string) {
	limit := time.After(10 * time.Second)
	for {
		select {
		case s := <-seen:
			if s == state {
				return
			}
		case <-limit:
			return
		case <-ctx.Done():
			return
		}
	}
}
