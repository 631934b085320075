package study

import (
	"fmt"
	"strings"

	"kestrix/internal/core/config"
)

// ChangeOf is what changes of an upstream or frontend, in words for an event log.
type ChangeOf struct {
	Who  string // its name; empty for what is of no single one
	Text string
}

// mostChanges bounds what is told of one upstream or frontend.
const mostChanges = 6

// Changed words what a change of configuration does, by upstream and frontend: what a
// reload tells.
func Changed(old, now *config.Config) []ChangeOf {
	d := Compare(old, now)
	var order []string
	texts := map[string][]string{}
	add := func(who, format string, args ...any) {
		if texts[who] == nil {
			order = append(order, who)
		}
		texts[who] = append(texts[who], fmt.Sprintf(format, args...))
	}
	d.told(add)
	for _, c := range d.Listeners {
		was(add, strings.TrimPrefix(c.What, "frontend "), "listeners", &c)
	}
	for _, c := range d.Settings {
		if name, ok := strings.CutPrefix(c.What, "upstream "); ok {
			was(add, name, "the upstream", &c)
			continue
		}
		who, key, nested := strings.Cut(c.What, ".")
		if !nested || now.Upstream(who) == nil && now.Frontend(who) == nil {
			who, key = "", c.What
		}
		was(add, who, key, &c)
	}
	added, gone := map[string][]string{}, map[string][]string{}
	var ups []string
	for _, c := range d.Backends {
		up, name, _ := strings.Cut(c.What, ".")
		switch {
		case c.Old == "" || c.New == "":
			if added[up] == nil && gone[up] == nil {
				ups = append(ups, up)
			}
			if c.Old == "" {
				added[up] = append(added[up], name)
			} else {
				gone[up] = append(gone[up], name)
			}
		default:
			add(up, "backend %s %s, was %s", name, c.New, c.Old)
		}
	}
	for _, up := range ups {
		if n := added[up]; n != nil {
			add(up, "%s added: %s", backends(len(n)), names(n))
		}
		if n := gone[up]; n != nil {
			add(up, "%s removed: %s", backends(len(n)), names(n))
		}
	}
	for _, r := range d.Requests {
		add(r.Frontend, "%s: %s, was %s", r.Request, r.New, r.Old)
	}
	var out []ChangeOf
	for _, who := range order {
		all := texts[who]
		if n := len(all) - mostChanges; n > 0 {
			all = append(all[:mostChanges:mostChanges], fmt.Sprintf("and %d more changes", n))
		}
		out = append(out, ChangeOf{who, strings.Join(all, "; ")})
	}
	return out
}

// told tells of what is only called otherwise, and of what is not known.
func (d *Diff) told(add func(who, format string, args ...any)) {
	for _, c := range d.Renamed {
		add(c.New, "was called %s", c.Old)
	}
	for _, u := range d.Undecided {
		add(u.Frontend, "not decided: %s, for %s", u.What, u.Why)
	}
}

// was tells of one thing that was another.
func was(add func(who, format string, args ...any), who, key string, c *Change) {
	switch {
	case c.New == "":
		add(who, "%s removed", key)
	case c.Old == "":
		add(who, "%s added: %s", key, c.New)
	default:
		add(who, "%s %s, was %s", key, c.New, c.Old)
	}
}

func backends(n int) string {
	if n == 1 {
		return "1 backend"
	}
	return fmt.Sprintf("%d backends", n)
}

// names lists some names.
func names(all []string) string {
	const most = 5
	if len(all) > most {
		return strings.Join(all[:most], ", ") + fmt.Sprintf(" and %d more", len(all)-most)
	}
	return strings.Join(all, ", ")
}
