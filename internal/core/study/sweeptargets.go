package study

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// target is what is failed together.
type target struct {
	name, what string
	backends   []string
	// alike are the backends that are equal to it by design: with each seed another one of
	// them fails instead.
	alike []string
}

// of returns what fails with a seed.
func (t *target) of(seed int) []string {
	if len(t.alike) == 0 {
		return t.backends
	}
	return []string{append([]string{t.backends[0]}, t.alike...)[seed%(1+len(t.alike))]}
}

// targets lists what is failed: each backend, one of those that are equal by design, each zone,
// and each pair.
func (o *SweepOptions) targets(c *config.Config, s *scenario.Scenario) ([]target, error) {
	for _, name := range o.Upstreams {
		if c.Upstream(name) == nil {
			return nil, fmt.Errorf("no upstream is called %q", name)
		}
	}
	var singles, out []target
	var zones []string
	inZone := map[string][]string{}
	for _, u := range c.Upstreams {
		if len(o.Upstreams) > 0 && !slices.Contains(o.Upstreams, u.Name) {
			continue
		}
		for _, b := range u.Backends {
			name := u.Name + "." + b.Name
			singles = append(singles, target{name: name, what: "backend", backends: []string{name}})
			if b.Zone != "" {
				if inZone[b.Zone] == nil {
					zones = append(zones, b.Zone)
				}
				inZone[b.Zone] = append(inZone[b.Zone], name)
			}
		}
	}
	if len(singles) == 0 {
		return nil, errors.New("there is nothing to fail: no upstream has a backend")
	}
	out = join(c, s, singles)
	for _, z := range zones {
		out = append(out, target{name: "zone " + z, what: "zone", backends: inZone[z]})
	}
	if o.Pairs {
		for i, a := range singles {
			for _, b := range singles[i+1:] {
				out = append(out, target{name: a.name + " and " + b.name, what: "pair", backends: []string{a.name, b.name}})
			}
		}
	}
	return out, nil
}

// join makes one target of backends that are equal by design: in one upstream that chooses
// without regard to names and order, of the same weight, tier, zone and limit, that behave
// alike, and of which no fault of the scenario strikes one without the other.
func join(c *config.Config, s *scenario.Scenario, singles []target) []target {
	var out []target
	find := func(name string) (*config.Upstream, config.Backend) {
		for _, u := range c.Upstreams {
			for _, b := range u.Backends {
				if u.Name+"."+b.Name == name {
					return u, b
				}
			}
		}
		return nil, config.Backend{}
	}
	equal := func(one, other string) bool {
		u, a := find(one)
		v, b := find(other)
		byName := u.Algorithm == "hash" || u.Algorithm == "first-fit" || u.Sticky != nil && u.Sticky.By != "cookie"
		if u != v || byName || a.Weight != b.Weight || a.Tier != b.Tier || a.Zone != b.Zone || a.MaxInFlight != b.MaxInFlight {
			return false
		}
		return s.Alike(u, a.Name, b.Name) && !slices.ContainsFunc(s.Faults, func(f scenario.Fault) bool { return hits(&f, one) != hits(&f, other) })
	}
	for _, t := range singles {
		i := slices.IndexFunc(out, func(x target) bool { return equal(x.name, t.name) })
		if i < 0 {
			out = append(out, t)
			continue
		}
		out[i].alike = append(out[i].alike, t.name)
	}
	return out
}

// hits reports whether a fault strikes a backend.
func hits(f *scenario.Fault, backend string) bool {
	return slices.ContainsFunc(f.Backends, func(p config.Placed[string]) bool { return scenario.Fits(p.Value, backend) })
}

// begun returns how many attempts the backends of the upstreams of a target began in each row
// of the timeline while nothing was failed; of all upstreams for none.
func begun(base *result.Replay, t *target) []int64 {
	out := make([]int64, len(base.Timeline.Rows))
	for i := range base.Timeline.Rows {
		for name, u := range base.Timeline.Rows[i].Upstreams {
			if t != nil && !slices.ContainsFunc(t.backends, func(b string) bool { return len(b) > len(name) && b[:len(name)+1] == name+"." }) {
				continue
			}
			for _, b := range u {
				out[i] += b.Requests
			}
		}
	}
	return out
}

// begunThere is begun for the backends of a target alone, and those that are equal to it by design.
func begunThere(base *result.Replay, t *target) []int64 {
	out := make([]int64, len(base.Timeline.Rows))
	for i := range base.Timeline.Rows {
		for name, u := range base.Timeline.Rows[i].Upstreams {
			for backend, b := range u {
				if full := name + "." + backend; slices.Contains(t.backends, full) || slices.Contains(t.alike, full) {
					out[i] += b.Requests
				}
			}
		}
	}
	return out
}

// window is where in the course of a load a fault comes.
type window int

const (
	peak window = iota // the part in which most comes
	rise               // the part at the end of which most more comes than at its beginning
	fall               // the part at the end of which least
)

// windowOf returns when such a part of so many rows begins, as a row.
func windowOf(begun []int64, wide int, which window) int {
	wide = min(max(wide, 1), len(begun))
	best, from := int64(0), 0
	for i := 0; i+wide <= len(begun); i++ {
		score, half := int64(0), wide/2
		for k, n := range begun[i : i+wide] {
			switch {
			case which == peak:
				score += n
			case k >= wide-half && which == rise, k < half && which == fall:
				score += n
			case k < half:
				score -= n
			case k >= wide-half:
				score -= n
			}
		}
		if i == 0 || score > best {
			best, from = score, i
		}
	}
	return from
}

// length returns how long the longest faults last.
func (o *SweepOptions) length(base *result.Replay) time.Duration {
	length := o.For
	if length == 0 {
		length = min(time.Minute, time.Duration(base.Duration/4)*time.Second)
	}
	return max(length, time.Second)
}

// at returns when a fault of some length comes in such a part of the load of a target.
func (o *SweepOptions) at(base *result.Replay, begun []int64, length time.Duration, which window) time.Duration {
	wide := int(length.Seconds()/base.Timeline.Bucket + 0.5)
	return time.Duration(base.Timeline.Rows[windowOf(begun, wide, which)].At * 1e9).Round(time.Millisecond)
}

// without reports whether all backends of an upstream are among those that fail.
func without(u *config.Upstream, failed []string) bool {
	for _, b := range u.Backends {
		if !slices.Contains(failed, u.Name+"."+b.Name) {
			return false
		}
	}
	return len(u.Backends) > 0
}

// singlePoints names the backends and zones without which an upstream that is asked
// for something has nothing left.
func singlePoints(c *config.Config, targets []target, base *result.Replay) []SinglePoint {
	out := []SinglePoint{}
	for _, t := range targets {
		for _, u := range c.Upstreams {
			n := base.Upstreams[u.Name].Requests
			if t.what != "pair" && n > 0 && without(u, t.backends) {
				out = append(out, SinglePoint{t.name, u.Name, n})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b SinglePoint) int { return cmp.Compare(b.Requests, a.Requests) })
	return out
}
