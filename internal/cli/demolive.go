package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/proxy"
	"kestrix/internal/live/standin"
	"kestrix/internal/report"
)

// demoLive starts stand-ins and the proxy, sends requests, kills a backend and
// starts it again. Ports that are taken end it with a word, not with an error.
func demoLive(ctx context.Context, env *Env, style report.Style) error {
	s, err := usable(env, "harbour.hcl", nil)
	if err != nil {
		return err
	}
	all, err := choose(s.config, nil, nil)
	if err != nil {
		return err
	}
	fmt.Fprint(env.Stdout, style.Command([]string{"standin", "harbour.hcl", "&"}))
	var auk *standin.StandIn
	for i, x := range all {
		if err := x.Start(); err != nil {
			for _, y := range all[:i] {
				y.Stop()
			}
			fmt.Fprintf(env.Stdout, "left out: %v\n", err)
			return nil
		}
		defer x.Stop()
		if x.Name == "booking.auk" {
			auk = x
		}
	}
	fmt.Fprint(env.Stdout, style.Command([]string{"serve", "harbour.hcl", "&"}))
	l := &lockedWriter{w: env.Stdout}
	n := &eventLog{w: l, style: style}
	seen := make(chan string, 64)
	log := accesslog.New(l, config.AccessLog{}, func(int, error) {})
	p := proxy.New(proxy.Options{Seed: 7, Grace: time.Second, Access: log.Add, Event: func(e status.Event) {
		n.event(e)
		if e.Who == "booking.auk" {
			seen <- e.What
		}
	}})
	if err := p.Apply(s.config); err != nil {
		log.Close()
		fmt.Fprintf(env.Stdout, "left out: %v\n", err)
		return nil
	}
	defer log.Close()
	defer func() { _ = p.Stop() }() // what is cut off is the demo's own
	listen := s.config.Frontends[0].Listen[0].Value
	ask := func(times int) {
		for range times {
			time.Sleep(60 * time.Millisecond) // so that access lines stand with their request
			fmt.Fprintf(l, "$ curl http://%s/seats\n", listen)
			fmt.Fprintf(l, "%s\n", firstLine(ctx, fmt.Sprintf("http://%s/seats", listen)))
		}
		time.Sleep(60 * time.Millisecond)
	}
	ask(3)
	time.Sleep(time.Second) // every backend has been probed once
	fmt.Fprintln(l, "\n(the stand-in auk is killed)")
	auk.Stop()
	ask(3)
	waitFor(ctx, seen, "down")
	fmt.Fprintln(l, "\n(and started again)")
	if err := auk.Start(); err != nil {
		fmt.Fprintf(l, "%v\n", err)
		return nil
	}
	waitFor(ctx, seen, "up")
	ask(3)
	return nil
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

// firstLine asks like a client without cookies and returns the first line of the
// answer.
func firstLine(ctx context.Context, url string) string {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return err.Error()
	}
	req.Header.Set("User-Agent", "demo")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err.Error()
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 4096))
	if err != nil {
		return err.Error()
	}
	line, _, _ := strings.Cut(string(text), "\n")
	return line
}
