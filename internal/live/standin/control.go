package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
)

// Order is what stand-ins are told to do.
type Order struct {
	Backend string // pattern of UPSTREAM.BACKEND, or the backend's own name
	Fault   string // a kind, or Fixed
}

// Fixed is the order to end what was told before.
const Fixed = "fixed"

// byHand is the title of the fault that somebody asks for.
const byHand = "by hand"

// Obey does what an order says, and returns the names of those it was for. The error
// says that nobody is called so, or that there is no such fault.
func Obey(all []*StandIn, o Order) ([]string, error) {
	var done, known []string
	for _, s := range all {
		known = append(append(known, s.Name), s.Also...)
		_, short, _ := strings.Cut(s.Name, ".")
		if !s.Called(o.Backend) && o.Backend != short {
			continue
		}
		var err error
		if o.Fault == Fixed {
			err = s.Fix(byHand)
		} else if err = s.Fail(byHand, Once(o.Fault)); err != nil {
			err = fmt.Errorf("%w; known: %s, %s", err, strings.Join(Faults, ", "), Fixed)
		}
		if err != nil {
			return nil, err
		}
		done = append(done, s.Name)
	}
	if len(done) == 0 {
		return nil, fmt.Errorf("no stand-in is called %q; %s", o.Backend, config.DidYouMean(o.Backend, known))
	}
	return done, nil
}

// Listen takes orders at a unix socket that only its owner can use, until ctx ends.
// news is told of what was ordered. An error says that the socket is in use.
func Listen(ctx context.Context, path string, all []*StandIn, tell func(object string, kind status.EventKind, text string)) error {
	if conn, err := net.DialTimeout("unix", path, time.Second); err == nil {
		conn.Close()
		return fmt.Errorf("other stand-ins take orders at %s; give these another with -control", path)
	}
	_ = os.Remove(path) // of an earlier run
	l, err := net.Listen("unix", path)
	if err != nil {
		return fmt.Errorf("orders cannot be taken at %s: %w", path, err)
	}
	if err := os.Chmod(path, 0o600); err != nil {
		l.Close()
		return err
	}
	server := &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var o Order
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4096)).Decode(&o); err != nil {
			http.Error(w, "no order: "+err.Error(), http.StatusBadRequest)
			return
		}
		done, err := Obey(all, o)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		for _, name := range done {
			tell(name, status.EventFault, said(o.Fault))
		}
		fmt.Fprintf(w, "%s: %s\n", strings.Join(done, ", "), said(o.Fault))
	})}
	go func() { _ = server.Serve(l) }() // ends with ctx
	context.AfterFunc(ctx, func() { _ = server.Close() })
	return nil
}

// said words a fault.
func said(kind string) string {
	if kind == Fixed {
		return "works again"
	}
	return scenario.FaultDoc(kind)
}

// Tell sends an order to the stand-ins that take orders at a socket, and returns their
// answer. The error is their refusal, or says that nobody listens.
func Tell(ctx context.Context, path string, o Order) (string, error) {
	text, err := json.Marshal(o)
	if err != nil {
		return "", err
	}
	client := &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "unix", path)
	}}}
	defer client.CloseIdleConnections()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://standin/", bytes.NewReader(text))
	if err != nil {
		return "", err
	}
	res, err := client.Do(r)
	if err != nil {
		return "", fmt.Errorf("no stand-in takes orders at %s; start some with kestrix standin", path)
	}
	defer res.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	if err == nil && res.StatusCode != http.StatusOK {
		err = errors.New(strings.TrimSpace(string(answer)))
	}
	return string(answer), err
}
