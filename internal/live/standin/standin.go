// Package standin is the small simulated backend that ships with Kestrix: it
// answers with its name and with what it received, so that one sees where a
// request went and how.
package standin

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/config"
)

// StandIn is one simulated backend.
type StandIn struct {
	Name    string // UPSTREAM.BACKEND
	Address config.Address
	Delay   time.Duration // before an answer; not of /ready

	http     *http.Server
	listener net.Listener
}

// Start listens and answers until Stop.
func (s *StandIn) Start() error {
	network, addr := "tcp", net.JoinHostPort(s.Address.Host, strconv.Itoa(s.Address.Port))
	if s.Address.Unix != "" {
		network, addr = "unix", s.Address.Unix
		_ = os.Remove(addr) // of an earlier run; listening says if it is in use
	}
	l, err := net.Listen(network, addr)
	if err != nil {
		return fmt.Errorf("the stand-in %s cannot listen on %s: %w", s.Name, s.Address, err)
	}
	s.listener = l
	s.http = &http.Server{Handler: http.HandlerFunc(s.answer), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = s.http.Serve(l) }() // ends with Stop
	return nil
}

// Stop ends it like a process that is killed: open connections break.
func (s *StandIn) Stop() { _ = s.http.Close() }

// answer says who it is and what it received.
func (s *StandIn) answer(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/ready" {
		fmt.Fprintln(w, "ready")
		return
	}
	if !sleep(r.Context(), s.Delay) {
		return
	}
	n, _ := io.Copy(io.Discard, r.Body) // a body cut short is told by its size
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Stand-In", s.Name)
	var b strings.Builder
	_, short, _ := strings.Cut(s.Name, ".")
	fmt.Fprintf(&b, "%s answers, as %s at %s\n\n", short, s.Name, s.Address)
	fmt.Fprintf(&b, "%s %s %s\nHost: %s\n", r.Method, r.URL.RequestURI(), r.Proto, r.Host)
	names := make([]string, 0, len(r.Header))
	for name := range r.Header {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		for _, v := range r.Header[name] {
			fmt.Fprintf(&b, "%s: %s\n", name, v)
		}
	}
	if n > 0 {
		fmt.Fprintf(&b, "\na body of %d bytes\n", n)
	}
	_, _ = io.WriteString(w, b.String()) // a client that left is no concern of ours
}

// sleep waits, and says whether the client is still there.
func sleep(ctx context.Context, d time.Duration) bool {
	if d <= 0 {
		return true
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}
