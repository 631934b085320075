package study

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kestrix/internal/core/config"
)

// spill is a way in which requests leave their tier and zone: below a share of health, or at a share
// of the load. The zero value is as configured.
type spill struct {
	by    string // of SpillWays
	share float64
}

// SpillWays are the names of the ways in which requests spill.
var SpillWays = []string{"below", "at"}

// spills lists those of the axes; one that changes nothing if there are none. An error says which of
// them cannot be used.
func (a *Axes) spills(subjects []Subject) ([]spill, error) {
	if len(a.Spill) == 0 {
		return []spill{{}}, nil
	}
	if !slices.ContainsFunc(subjects[0].Config.Upstreams, func(u *config.Upstream) bool { return a.touches(u) && u.Failover != nil }) {
		return nil, fmt.Errorf("no upstream has a failover block, so that nothing spills")
	}
	var out []spill
	for _, text := range a.Spill {
		by, share, _ := strings.Cut(text, ":")
		if !slices.Contains(SpillWays, by) {
			return nil, fmt.Errorf("-spill has no value %q; write below:80%% or at:80%%", text)
		}
		x, err := strconv.ParseFloat(strings.TrimSuffix(share, "%"), 64)
		if err != nil || !strings.HasSuffix(share, "%") || x <= 0 || x > 100 {
			return nil, fmt.Errorf("-spill %q has no share above 0%% and up to 100%%, as in %s:80%%", text, by)
		}
		s := spill{by, x / 100}
		if slices.Contains(out, s) {
			return nil, fmt.Errorf("%q is named twice", text)
		}
		out = append(out, s)
	}
	return out, nil
}

// spill returns a variant that spills this way, and the words that name it. why is not empty where
// it cannot be tried.
func (a *Axes) spill(w Variant, s spill) (v Variant, name []string, why string) {
	if s == (spill{}) {
		return w, nil, ""
	}
	same := true
	w.Config = a.with(w.Config, func(u *config.Upstream) *config.Upstream {
		if u.Failover == nil {
			return u
		}
		x, f := *u, *u.Failover
		if f.SpillAt = 0; s.by == "at" {
			f.SpillAt = s.share
			for _, b := range u.Backends {
				if b.MaxInFlight == 0 && why == "" {
					why = fmt.Sprintf("it needs max_in_flight of every backend, and %s.%s has none", u.Name, b.Name)
				}
			}
		} else {
			f.SpillBelow = s.share
		}
		same = same && f == *u.Failover
		x.Failover = &f
		return &x
	})
	w.Configured = w.Configured && same
	return w, []string{fmt.Sprintf("spill %s %g%%", s.by, 100*s.share)}, why
}
