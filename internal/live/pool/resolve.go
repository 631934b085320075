package pool

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/socket"
)

// lookupTime is how long names are waited for.
const lookupTime = 2 * time.Second

// names keeps the addresses of an upstream's names.
type names struct {
	known map[string][]netip.Addr
	bad   map[string]bool // names that do not resolve, as was told
}

// lookUp asks for the addresses of all names of an upstream. One that cannot be
// looked up keeps the addresses it had: that a name server is away says nothing
// of the backends.
func (n *names) lookUp(o *Options, u *config.Upstream) {
	ctx, cancel := context.WithTimeout(context.Background(), lookupTime)
	defer cancel()
	var hosts []string
	for _, b := range u.Backends {
		if _, isIP := b.Address.IP(); !isIP && b.Address.Unix == "" && !slices.Contains(hosts, b.Address.Host) {
			hosts = append(hosts, b.Address.Host)
		}
	}
	found := make([][]netip.Addr, len(hosts))
	errs := make([]error, len(hosts))
	var wg sync.WaitGroup
	for i, h := range hosts {
		wg.Go(func() { found[i], errs[i] = o.Lookup(ctx, h) })
	}
	wg.Wait()
	for i, h := range hosts {
		if errs[i] != nil || len(found[i]) == 0 {
			if !n.bad[h] {
				why := "it has no address"
				if errs[i] != nil {
					why = socket.ShortError(errs[i]).Error()
				}
				o.Event(u.Name, status.EventUnresolved, "%s: %s; %d addresses are known from before", h, why, len(n.known[h]))
			}
			n.bad[h] = true
			continue
		}
		delete(n.bad, h)
		addrs := make([]netip.Addr, 0, len(found[i]))
		for _, a := range found[i] {
			addrs = append(addrs, a.Unmap().WithZone(""))
		}
		slices.SortFunc(addrs, netip.Addr.Compare)
		n.known[h] = slices.Compact(addrs)
	}
}

// expand returns the upstream as the core sees it.
func (l *Pool) expand(u *config.Upstream) *config.Upstream {
	if !u.ResolveEach {
		return u
	}
	l.namesMu.Lock()
	defer l.namesMu.Unlock()
	l.names.lookUp(&l.set.o, u)
	return u.Each(func(host string) []netip.Addr { return l.names.known[host] })
}

// follow looks names up again as long as the upstream wants it.
func (l *Pool) follow() {
	for {
		l.mu.Lock()
		base, secure := l.base, l.tls
		l.mu.Unlock()
		every := 24 * time.Hour
		if base.ResolveEach {
			every = base.ResolveEvery
		}
		timer := time.NewTimer(every)
		select {
		case <-timer.C:
		case <-l.rebased:
			timer.Stop()
			continue
		case <-l.ended:
			timer.Stop()
			return
		}
		if !base.ResolveEach {
			continue
		}
		now := l.expand(base)
		l.mu.Lock()
		if l.base == base && !slices.EqualFunc(now.Backends, l.cfg.Backends, func(a, b config.Backend) bool { return a.Name == b.Name }) {
			l.set.o.Event(l.Name, status.EventResolved, "%d backends were %d", len(now.Backends), len(l.cfg.Backends))
			l.applyLocked(now, secure)
		}
		l.mu.Unlock()
	}
}
