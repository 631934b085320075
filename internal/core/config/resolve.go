package config

import (
	"fmt"
	"time"
)

// resolving reads how the names of an upstream's backends are looked up.
func (d *Decoder) resolving(n *Node, u *Upstream) {
	u.ResolveEach = Get[string](n, "resolve") == "each"
	u.ResolveEvery, u.ResolveFloor = Get[time.Duration](n, "resolve_every"), Get[time.Duration](n, "resolve_floor")
	if u.ResolveFloor > u.ResolveEvery {
		if n.Has("resolve_floor") {
			d.Add(IDLimit, n.At("resolve_floor"), fmt.Sprintf("resolve_floor is %s, and resolve_every only %s", FormatDuration(u.ResolveFloor), FormatDuration(u.ResolveEvery)), "the floor is the shorter of the two")
		}
		u.ResolveFloor = u.ResolveEvery // of the default
	}
	for _, b := range u.Backends {
		if b.Address.Service && !u.ResolveEach {
			d.Add(IDChoice, b.AddressAt, fmt.Sprintf("%s is a service, whose servers are backends each", b.Address), "resolve = \"each\"")
		}
	}
}
