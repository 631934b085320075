package proxy

import (
	"context"
	"net"
	"time"

	"kestrix/internal/core/status"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/control"
	"kestrix/internal/live/journal"
	"kestrix/internal/live/names"
)

// Options are what a proxy is given from outside. Zero values have a meaning each.
type Options struct {
	Version string        // of the program, for the status
	Commit  string        // likewise; may be empty
	Name    string        // in logs, where the configuration gives none
	Seed    uint64        // keys ties and draws of the core; 0 takes a random one
	Began   time.Time     // beginning of the core's time; zero for now
	Grace   time.Duration // time for requests in flight to end after Stop
	Files   int           // files that the process may have open; 0: no limit
	// Dial and Listen open connections and listeners; nil for the network.
	Dial   func(ctx context.Context, network, address string) (net.Conn, error)
	Listen func(network, address string) (net.Listener, error)
	// Reload reloads the configuration for an operator, and returns the result in words, or
	// the reason for a refusal; nil refuses.
	Reload func() (string, error)
	// Pages makes the pages of control; nil for none.
	Pages control.Pages
	// Given returns a listener that the service manager has opened, nil for none; nil if there
	// is no service manager.
	Given func(network, address string) net.Listener
	// Names looks up the names of backends; nil for the system's resolver.
	Names names.Resolver
	// Path returns the path of a folder that the configuration names; nil: it is the name.
	Path func(name string) string
	// ReadFile reads certificates and keys; nil for os.ReadFile.
	ReadFile func(name string) ([]byte, error)
	// Earlier are events of the processes before, the oldest first, for operators who ask.
	Earlier []status.Event
	// Event takes what happens besides requests: changes of state,
	// listeners, reloads. It must be safe for concurrent use.
	Event func(status.Event)
	// Probe takes each probe: UPSTREAM.BACKEND, its duration, and its result in words. It must
	// be safe for concurrent use; nil discards them.
	Probe func(who string, took time.Duration, what string)
	// Journal takes the inputs and decisions of the cores; nil discards them. It must be safe
	// for concurrent use. The entries of one upstream come in their order.
	Journal func(journal.Entry)
	// Held are the orders of operators from the earlier process. Keep stores those in force for
	// the next one; nil stores none.
	Held []status.Held
	Keep func([]status.Held) error
	// LostLines returns the number of lost lines of logs; nil if they are not counted.
	LostLines func() uint64
	// Access takes a finished request. It must be safe for concurrent use.
	Access func(*accesslog.Line)
}
