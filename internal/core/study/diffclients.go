package study

import (
	"fmt"

	"kestrix/internal/core/config"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/upstream"
)

// ClientMove is clients that were bound to a backend, by a seat or by the key of a hash, and that
// are given another one.
type ClientMove struct {
	Upstream string  `json:"upstream"` // where they were bound
	Why      string  `json:"why"`
	Share    float64 `json:"share"` // of them, those whose requests go to another server; see boundMoves
}

// clients finds those of an upstream that are given another backend. Nobody is bound to a
// backend of the others.
func (d *Diff) clients(a, b *config.Upstream) {
	if m := boundMoves(a, b); m != nil {
		d.Clients = append(d.Clients, *m)
	}
}

// boundMoves returns what becomes of the clients of an upstream when another one takes its place;
// nil where nobody was bound or everybody keeps a backend. A seat that is kept overrules a hash.
// Shares are of seats by the weights of the backends, as if each had its share of them, and of
// ten thousand keys by asking the core of both.
func boundMoves(a, b *config.Upstream) *ClientMove {
	move := func(share float64, format string, args ...any) *ClientMove {
		if share == 0 {
			return nil
		}
		return &ClientMove{a.Name, fmt.Sprintf(format, args...), share}
	}
	if s := a.Sticky; s != nil {
		seats := "their seats by " + s.By
		switch {
		case a.Name != b.Name:
			return move(elsewhere(a, b), "%s belong to the upstream %q and mean nothing to %q", seats, a.Name, b.Name)
		case b.Sticky == nil:
			return move(elsewhere(a, b), "%s are not kept any more", seats)
		case s.By != b.Sticky.By || s.Name != b.Sticky.Name && s.By != "address":
			return move(elsewhere(a, b), "%s are not known any more: it goes by another mark", seats)
		case s.By == "cookie" && config.Hidden(s.Secret) != config.Hidden(b.Sticky.Secret):
			return move(elsewhere(a, b), "%s are not known any more: another secret seals them", seats)
		}
		return move(gone(a, b), "%s are on a backend that leaves", seats)
	}
	if a.Algorithm != "hash" {
		return nil
	}
	switch {
	case b.Algorithm != "hash":
		return move(elsewhere(a, b), "no hash gives them a backend any more")
	case a.Hash.Key != b.Hash.Key || a.Hash.Name != b.Hash.Name:
		return move(elsewhere(a, b), "the hash goes by something else")
	}
	return move(movedKeys(a, b), "the hash gives them another backend")
}

// elsewhere returns how likely two independent choices, by weight, from either upstream meet
// different servers.
func elsewhere(a, b *config.Upstream) float64 {
	weights := func(u *config.Upstream) (map[string]float64, float64) {
		of, total := map[string]float64{}, 0.0
		for _, x := range u.Backends {
			of[x.Address.String()] += float64(x.Weight)
			total += float64(x.Weight)
		}
		return of, total
	}
	was, all := weights(a)
	is, allNow := weights(b)
	if all == 0 || allNow == 0 {
		return 1
	}
	same := 0.0
	for _, x := range a.Backends { // in their order: sums of a map's differ in their last digits
		address := x.Address.String()
		same += was[address] / all * is[address] / allNow
		delete(was, address)
	}
	return 1 - same
}

// gone returns the share of the weight that is on backends that leave.
func gone(a, b *config.Upstream) float64 {
	stays := map[string]bool{}
	for _, y := range b.Backends {
		stays[y.Name] = true
	}
	total, gone := 0, 0
	for _, x := range a.Backends {
		total += x.Weight
		if !stays[x.Name] {
			gone += x.Weight
		}
	}
	if total == 0 {
		return 0
	}
	return float64(gone) / float64(total)
}

// movedKeys returns the share of ten thousand keys whose backend is another: by its name within an
// upstream, by its address between two.
func movedKeys(a, b *config.Upstream) float64 {
	const keys = 10_000
	x, y := upstream.New(0, a, 1), upstream.New(0, b, 1)
	pick := func(u *upstream.Upstream, key uint64) string {
		q := upstream.Request{Key: key, Seat: upstream.None}
		var at upstream.Attempt
		v := u.Choose(0, &q, &at)
		if v.Backend == upstream.None {
			return ""
		}
		u.Cancel(0, &at)
		if a.Name != b.Name {
			return u.Backend(v.Backend).Address.String()
		}
		return u.Backend(v.Backend).Name
	}
	moved := 0
	for i := range uint64(keys) {
		if key := rng.Bits(1, i, 0, rng.Who); pick(x, key) != pick(y, key) {
			moved++
		}
	}
	return float64(moved) / keys
}

// movesBetween returns what becomes of clients whose requests one route sent to an upstream and
// another sends to another one; nil where that is not so, or nobody was bound.
func movesBetween(old, now *config.Config, f, g *config.Frontend, i, j int, renamed map[string]string) *ClientMove {
	if i < 0 || j < 0 {
		return nil
	}
	a, b := old.Upstream(f.Routes[i].SendTo.Value), now.Upstream(g.Routes[j].SendTo.Value)
	if a == nil || b == nil || a.Name == b.Name || renamed[a.Name] == b.Name {
		return nil // what changes within one stands beside it
	}
	return boundMoves(a, b)
}
