package pool

import (
	"cmp"
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/names"
	"kestrix/internal/live/socket"
)

// lookupTime is how long names are waited for.
const lookupTime = 2 * time.Second

// lookups keeps what the names of an upstream stand for.
type lookups struct {
	known map[config.Address][]config.Member
	bad   map[config.Address]bool // names that do not resolve, as was told
	ttl   time.Duration           // the shortest of the last lookup; 0: not known
}

// answer is what a name stands for.
type answer struct {
	members []config.Member
	ttl     time.Duration
	err     error
}

// lookUp asks for all names of an upstream. One that cannot be looked up keeps the addresses
// it had: that a name server is away says nothing of the backends.
func (n *lookups) lookUp(o *Options, u *config.Upstream) {
	ctx, cancel := context.WithTimeout(context.Background(), lookupTime)
	defer cancel()
	var asked []config.Address
	for _, b := range u.Backends {
		if _, isIP := b.Address.IP(); !isIP && b.Address.Unix == "" && !slices.Contains(asked, b.Address) {
			asked = append(asked, b.Address)
		}
	}
	found := make([]answer, len(asked))
	var wg sync.WaitGroup
	for i, a := range asked {
		wg.Go(func() {
			if a.Service {
				found[i] = service(ctx, o.Names, a.Host)
			} else {
				found[i] = host(ctx, o.Names, a.Host)
			}
		})
	}
	wg.Wait()
	n.ttl = 0
	for i, a := range asked {
		x := &found[i]
		if x.err != nil || len(x.members) == 0 {
			if !n.bad[a] {
				why := "it has no address"
				if x.err != nil {
					why = socket.ShortError(x.err).Error()
				}
				o.Event(u.Name, status.EventUnresolved, "%s: %s; %d addresses are known from before", a.Host, why, len(n.known[a]))
			}
			n.bad[a] = true
			continue
		}
		delete(n.bad, a)
		n.known[a] = x.members
		n.ttl = sooner(n.ttl, x.ttl)
	}
}

// sooner returns the shorter of two times to live, of which 0 is not known.
func sooner(a, b time.Duration) time.Duration {
	if a == 0 || b == 0 {
		return max(a, b)
	}
	return min(a, b)
}

// host asks for the addresses of a host.
func host(ctx context.Context, r names.Resolver, name string) answer {
	found, err := r.Addresses(ctx, name)
	x := answer{ttl: found.TTL, err: err}
	for _, a := range found.All {
		x.members = append(x.members, config.Member{Addr: a.Unmap().WithZone("")})
	}
	x.settle()
	return x
}

// settle puts the members in an order that does not change, each once.
func (x *answer) settle() {
	slices.SortFunc(x.members, func(a, b config.Member) int {
		return cmp.Or(cmp.Compare(a.Rank, b.Rank), a.Addr.Compare(b.Addr), cmp.Compare(a.Port, b.Port))
	})
	x.members = slices.CompactFunc(x.members, func(a, b config.Member) bool { return a.Addr == b.Addr && a.Port == b.Port })
}

// service asks for the servers of a service, and for their addresses. It is an error if any of
// them has none: with the others alone, it would seem to have left.
func service(ctx context.Context, r names.Resolver, name string) answer {
	found, err := r.Services(ctx, name)
	x := answer{ttl: found.TTL, err: err}
	if err != nil {
		return x
	}
	var ranks []int
	heaviest := 1
	for _, s := range found.All {
		ranks = append(ranks, s.Priority)
		heaviest = max(heaviest, s.Weight)
	}
	slices.Sort(ranks)
	ranks = slices.Compact(ranks)
	for _, s := range found.All {
		at, err := addressesOf(ctx, r, s.Host)
		if err != nil {
			x.err = err
			return x
		}
		x.ttl = sooner(x.ttl, at.TTL)
		weight := s.Weight
		if heaviest > mostWeight { // weights are relative
			weight = s.Weight * mostWeight / heaviest
		}
		for _, a := range at.All {
			x.members = append(x.members, config.Member{Addr: a.Unmap().WithZone(""), Port: s.Port, Weight: max(weight, 1), Rank: slices.Index(ranks, s.Priority)})
		}
	}
	x.settle()
	return x
}

// mostWeight is what the heaviest server of a service gets at most: enough for shares of 1 %.
const mostWeight = 100

func addressesOf(ctx context.Context, r names.Resolver, host string) (names.Addresses, error) {
	if a, err := netip.ParseAddr(host); err == nil {
		return names.Addresses{All: []netip.Addr{a}}, nil
	}
	at, err := r.Addresses(ctx, host)
	if err == nil && len(at.All) == 0 {
		err = errors.New(host + " has no address")
	}
	return at, err
}

// expand returns the upstream as the core sees it.
func (l *Pool) expand(u *config.Upstream) *config.Upstream {
	if !u.ResolveEach {
		return u
	}
	l.namesMu.Lock()
	defer l.namesMu.Unlock()
	l.names.lookUp(&l.set.o, u)
	return u.Each(func(a config.Address) []config.Member { return l.names.known[a] })
}

// again returns after which time names are looked up again: that for which the records hold,
// within the bounds of the configuration.
func (l *Pool) again(u *config.Upstream) time.Duration {
	if !u.ResolveEach {
		return 24 * time.Hour
	}
	l.namesMu.Lock()
	defer l.namesMu.Unlock()
	if l.names.ttl == 0 {
		return u.ResolveEvery
	}
	return min(max(l.names.ttl, u.ResolveFloor), u.ResolveEvery)
}

// unreachable notes that a backend could not be connected to, or failed a probe: its name may
// have moved.
func (l *Pool) unreachable() {
	select {
	case l.moved <- struct{}{}:
	default:
	}
}

// follow looks names up again as long as the upstream wants it.
func (l *Pool) follow() {
	last := time.Now()
	due := time.Duration(-1) // after last; negative: to be worked out
	for {
		l.mu.Lock()
		base, secure := l.base, l.tls
		l.mu.Unlock()
		if due < 0 {
			due = l.again(base)
		}
		timer := time.NewTimer(due - time.Since(last))
		select {
		case <-timer.C:
		case <-l.moved:
			timer.Stop()
			if base.ResolveEach {
				due = min(due, base.ResolveFloor)
			}
			continue
		case <-l.rebased:
			timer.Stop()
			last, due = time.Now(), -1
			continue
		case <-l.ended:
			timer.Stop()
			return
		}
		last, due = time.Now(), -1
		if !base.ResolveEach {
			continue
		}
		now := l.expand(base)
		l.mu.Lock()
		if change := changes(l.cfg.Backends, now.Backends); l.base == base && change != "" {
			l.set.o.Event(l.Name, status.EventResolved, "%d backends were %d; %s", len(now.Backends), len(l.cfg.Backends), change)
			l.applyLocked(now, secure)
		}
		l.mu.Unlock()
	}
}

// changes says in words in what the backends of names differ, empty for nothing.
func changes(before, now []config.Backend) string {
	var joined, left, other []string
	of := func(all []config.Backend, name string) *config.Backend {
		for i := range all {
			if all[i].Name == name {
				return &all[i]
			}
		}
		return nil
	}
	for i := range now {
		switch b := of(before, now[i].Name); {
		case b == nil:
			joined = append(joined, now[i].Name)
		case b.Weight != now[i].Weight || b.Tier != now[i].Tier:
			other = append(other, now[i].Name)
		}
	}
	for i := range before {
		if of(now, before[i].Name) == nil {
			left = append(left, before[i].Name)
		}
	}
	var parts []string
	for _, p := range []struct {
		what string
		who  []string
	}{{"joined", joined}, {"left", left}, {"another weight or tier", other}} {
		if p.who != nil {
			parts = append(parts, p.what+": "+strings.Join(p.who[:min(len(p.who), 10)], ", ")+map[bool]string{true: " and more"}[len(p.who) > 10])
		}
	}
	return strings.Join(parts, "; ")
}
