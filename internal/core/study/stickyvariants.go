package study

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
)

// StickyWays are the names of how clients can be known again, none first.
var StickyWays = []string{"none", "cookie", "existing-cookie", "address", "header"}

// LossWays are the names of what can become of a client whose backend is out.
var LossWays = []string{"move", "refuse"}

// seat is a way to keep clients at their backend.
type seat struct {
	by     string // of StickyWays; empty: as configured
	name   string // of the header field or cookie; empty: as configured
	onLoss string // of LossWays; empty: as configured, or move
}

// seats lists those of the axes; one that changes nothing if there are none. An error says
// which of them cannot be used.
func (a *Axes) seats(subjects []Subject) ([]seat, error) {
	if len(a.Sticky)+len(a.OnLoss) == 0 {
		return []seat{{}}, nil
	}
	for _, l := range a.OnLoss {
		if !slices.Contains(LossWays, l) {
			return nil, fmt.Errorf("-on-loss has no value %q; %s", l, config.DidYouMean(l, LossWays))
		}
	}
	ways := a.Sticky
	if len(ways) == 0 {
		if ways = []string{""}; !slices.ContainsFunc(subjects[0].Config.Upstreams, func(u *config.Upstream) bool { return a.touches(u) && u.Sticky != nil }) {
			return nil, errors.New("no upstream is sticky, so that there is nothing to lose; -sticky says how clients are known again")
		}
	}
	var out []seat
	for _, way := range ways {
		by, name, _ := strings.Cut(way, ":")
		switch {
		case way != "" && !slices.Contains(StickyWays, by):
			return nil, fmt.Errorf("-sticky has no value %q; %s", by, config.DidYouMean(by, StickyWays))
		case name != "" && by != "header" && by != "existing-cookie":
			return nil, fmt.Errorf("%q: a name belongs to header and existing-cookie, as in header:X-User", way)
		}
		losses := a.OnLoss
		if len(losses) == 0 || by == "none" {
			losses = []string{""}
		}
		for _, l := range losses {
			s := seat{by, name, l}
			if slices.Contains(out, s) {
				return nil, fmt.Errorf("%q is named twice", way)
			}
			out = append(out, s)
		}
	}
	return out, nil
}

// seat returns a variant that keeps clients this way, and the words that name it.
func (a *Axes) seat(w Variant, s seat) (Variant, []string) {
	if s == (seat{}) {
		return w, nil
	}
	same := true
	w.Config = a.with(w.Config, func(u *config.Upstream) *config.Upstream {
		x := *u
		x.Sticky = s.apply(u.Sticky)
		same = same && alikeSticky(x.Sticky, u.Sticky)
		return &x
	})
	w.Sticky, w.Configured = s.by, w.Configured && same
	var name []string
	switch {
	case s.by == "none":
		name = []string{"not sticky"}
	case s.by != "":
		name = []string{"sticky by " + s.by}
	}
	if s.name != "" {
		name[0] += " " + s.name
	}
	if s.onLoss != "" {
		name = append(name, "on loss "+s.onLoss)
	}
	return w, name
}

// apply returns the stickiness of an upstream that keeps clients this way, nil for none.
func (s seat) apply(now *config.Sticky) *config.Sticky {
	if s.by == "none" || s.by == "" && now == nil {
		return nil
	}
	out := config.Sticky{By: s.by, Name: s.name, TTL: 8 * time.Hour, OnLoss: "move"}
	if now != nil {
		out.TTL, out.OnLoss, out.Secret = now.TTL, now.OnLoss, now.Secret
		if s.by == "" || s.by == now.By && s.name == "" {
			out = *now
		}
	}
	if s.onLoss != "" {
		out.OnLoss = s.onLoss
	}
	if out.Name == "" {
		// Without a name in the trace each client has its own, whatever the name is.
		out.Name = map[string]string{"cookie": "kestrix_seat", "existing-cookie": "session", "header": "X-Session"}[out.By]
	}
	return &out
}

// alikeSticky reports whether two ways to keep clients are the same to a replay.
func alikeSticky(a, b *config.Sticky) bool {
	if a == nil || b == nil {
		return a == b
	}
	x, y := *a, *b
	x.Range = y.Range
	return x == y
}
