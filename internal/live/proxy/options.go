package proxy

import (
	"context"
	"net"
	"net/netip"
	"time"

	"kestrix/internal/core/status"
	"kestrix/internal/live/accesslog"
	"kestrix/internal/live/control"
	"kestrix/internal/live/journal"
)

// Options are what a proxy is given from outside. Zero values have a meaning each.
type Options struct {
	Version string        // of the program, for the status
	Commit  string        // likewise; may be empty
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
	// Lookup returns the addresses of a name; nil for the system's resolver.
	Lookup func(ctx context.Context, host string) ([]netip.Addr, error)
	// ReadFile reads certificates and keys; nil for os.ReadFile.
	ReadFile func(name string) ([]byte, error)
	// Earlier are events of the processes before, the oldest first, for operators who ask.
	Earlier []status.Event
	// Event takes what happens besides requests: changes of state,
	// listeners, reloads. It must be safe for concurrent use.
	Event func(status.Event)
	// Probe is told of each probe: of which backend, how long it took and what
	// came of it. It must be safe for concurrent use; nil for nobody.
	Probe func(who string, took time.Duration, what string)
	// Journal takes what the cores of upstreams are told and say; nil for nobody.
	// It must be safe for concurrent use, and what it takes is of one upstream in
	// the order in which it happened.
	Journal func(journal.Entry)
	// Held are orders of operators that the proxy before was given, and Keep keeps those in
	// force for the one after; nil for nobody.
	Held []status.Held
	Keep func([]status.Held) error
	// LostLines returns how many lines of logs were lost; nil for nobody who counts them.
	LostLines func() uint64
	// Access takes a finished request. It must be safe for concurrent use.
	Access func(*accesslog.Line)
}
