package pool

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/socket"
	"kestrix/internal/live/wire"
)

// Backend is the way to one server.
type Backend struct {
	set     *Set
	Name    string
	Address config.Address
	Where   string        // Address as text
	within  time.Duration // in which a connection comes to stand
	kept    time.Duration // how long one that is not used is kept
	age     time.Duration // how long one serves further requests; 0: for ever
	local   netip.Addr    // from which it is connected to; not valid: any
	header  string        // version of the PROXY protocol; empty for none
	tls     *tls.Config
	from    *tls.Config // that of the upstream, without the backend's name
	HTTP2   bool        // HTTP/2 is spoken
	dial    dialFunc
	idle    idleConns
	counts  *counts // guarded by the pool's mu

	openMu sync.Mutex
	open   map[Open]OpenKind // guarded by openMu

	mu         sync.Mutex
	transports map[time.Duration]*agingTransport // by how long an answer is waited for
}

// dialFunc connects to one backend, on its own port or, for probes, on another
// one; 0 is its own.
type dialFunc func(ctx context.Context, port int) (net.Conn, error)

// serves reports whether the way to a backend is what its configuration wants.
func (b *Backend) serves(cfg config.Backend, u *config.Upstream, secure *tls.Config) bool {
	return b.Name == cfg.Name && b.Address == cfg.Address && b.within == u.Timeouts.Connect && b.kept == u.Timeouts.Kept && b.age == u.Timeouts.Age &&
		b.local == u.ConnectFrom && b.header == u.ProxyProtocol && b.HTTP2 == u.HTTP2() && b.from == secure
}

// DialError is the error of a connection to a backend that could not be made.
type DialError struct {
	err   error
	Cause cause.Cause // Refused, Unreachable, ConnectTimeout or TLSFailed
}

func (e *DialError) Error() string { return e.err.Error() }
func (e *DialError) Unwrap() error { return e.err }

func newBackend(set *Set, b config.Backend, u *config.Upstream, secure *tls.Config) *Backend {
	network, addr := "tcp", net.JoinHostPort(b.Address.Host, strconv.Itoa(b.Address.Port))
	if b.Address.Unix != "" {
		network, addr = "unix", b.Address.Unix
	}
	n := &Backend{set: set, Name: b.Name, Address: b.Address, Where: b.Address.String(), within: u.Timeouts.Connect, kept: u.Timeouts.Kept, age: u.Timeouts.Age, local: u.ConnectFrom, header: u.ProxyProtocol, HTTP2: u.HTTP2(), counts: new(counts), from: secure, transports: map[time.Duration]*agingTransport{}}
	if secure != nil {
		n.tls = secure.Clone()
		if n.tls.ServerName == "" {
			n.tls.ServerName = b.Address.Host
		}
		if n.HTTP2 {
			n.tls.NextProtos = []string{"h2"}
		}
	}
	n.dial = func(ctx context.Context, port int) (net.Conn, error) {
		to := addr
		if port != 0 && network == "tcp" {
			to = net.JoinHostPort(b.Address.Host, strconv.Itoa(port))
		}
		if n.local.IsValid() {
			ctx = socket.WithLocal(ctx, n.local)
		}
		c, err := set.o.Dial(ctx, network, to)
		if err != nil || n.header == "" || to != addr {
			return c, err
		}
		if err := socket.WriteProxyHeader(ctx, c, n.header); err != nil {
			c.Close()
			return nil, err
		}
		return c, nil
	}
	return n
}

// DialCause returns why a connection to a backend could not be made.
func DialCause(err error) cause.Cause {
	var de *DialError
	if errors.As(err, &de) {
		return de.Cause
	}
	return cause.Unreachable
}

// ConnectKind returns the outcome of an attempt whose connection could not be made.
func ConnectKind(err error) upstream.OutcomeKind {
	if DialCause(err) == cause.ConnectTimeout {
		return upstream.ConnectTimeout
	}
	return upstream.ConnectRefused
}

// AddBytes counts bytes of a response that were passed on to a client.
func (b *Backend) AddBytes(n int64) { b.counts.bytes.Add(uint64(n)) }

// PerClient reports whether a connection belongs to one client, as where it begins with a
// PROXY protocol header.
func (b *Backend) PerClient() bool { return b.header != "" }

// KeptConn returns a kept connection, nil if there is none.
func (b *Backend) KeptConn() *wire.Conn { return b.idle.take(b.age) }

// Keep keeps a connection for the next request, where it may serve another.
func (b *Backend) Keep(c *wire.Conn) { b.idle.put(c, b.kept) }
