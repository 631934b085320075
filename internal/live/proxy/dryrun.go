package proxy

import (
	"context"
	"crypto/x509"
	"errors"
	"net"
	"strconv"
	"syscall"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/pool"
	"kestrix/internal/live/socket"
)

// DryRun tries single things out as a proxy would do them, without serving.
type DryRun struct{ p *Proxy }

// NewDryRun makes one; of the options, Dial, Listen, Names and ReadFile count.
func NewDryRun(o Options) *DryRun { return &DryRun{New(o)} }

// Attempt is what came of trying a backend.
type Attempt struct {
	Connecting error // why no connection could be made
	Connected  time.Duration
	Probe      *upstream.Probe // nil if there is none, or no connection could be made
	Probed     time.Duration
}

// Backend tries one backend of an upstream: whether it can be connected to, and
// what its probe says.
func (t *DryRun) Backend(u *config.Upstream, b config.Backend) Attempt {
	secure, err := t.p.upstreamTLS(u.TLS)
	if err != nil {
		return Attempt{Connecting: err}
	}
	var a Attempt
	a.Connected, a.Probe, a.Probed, a.Connecting = t.p.pools.TryBackend(u, b, secure)
	return a
}

// Listener returns why an address cannot be listened on, nil if it can.
func (t *DryRun) Listener(a config.Address) error {
	s, err := t.p.listen(a)
	if err != nil {
		return err
	}
	s.cut()
	return s.listener.Close()
}

// Authorities reads a file of them.
func (t *DryRun) Authorities(file config.Placed[string]) (*x509.CertPool, error) {
	return t.p.authorities(file)
}

// Lookup returns the addresses of a name as text.
func (t *DryRun) Lookup(ctx context.Context, host string) ([]string, error) {
	found, err := t.p.o.Names.Addresses(ctx, host)
	if err != nil {
		return nil, socket.ShortError(err)
	}
	var out []string
	for _, a := range found.All {
		out = append(out, a.Unmap().String())
	}
	return out, nil
}

// Services returns the servers of a service as text, HOST:PORT each.
func (t *DryRun) Services(ctx context.Context, name string) ([]string, error) {
	found, err := t.p.o.Names.Services(ctx, name)
	if err != nil {
		return nil, socket.ShortError(err)
	}
	var out []string
	for _, s := range found.All {
		out = append(out, net.JoinHostPort(s.Host, strconv.Itoa(s.Port)))
	}
	return out, nil
}

// ConnectWord tells the ways apart in which connecting fails: "refused",
// "silent", "unreachable", "forbidden" by this machine's own packet filter, "unresolved", or
// "failed" for any other, such as TLS.
func ConnectWord(err error) string {
	var de *pool.DialError
	var dns *net.DNSError
	switch {
	case errors.As(err, &dns):
		return "unresolved"
	case errors.Is(err, syscall.ECONNREFUSED), errors.Is(err, syscall.ENOENT):
		return "refused"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTDOWN):
		return "unreachable"
	case errors.Is(err, syscall.EPERM), errors.Is(err, syscall.EACCES):
		return "forbidden"
	case errors.As(err, &de) && de.Cause == cause.ConnectTimeout:
		return "silent"
	}
	return "failed"
}
