package check

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/region"
	"kestrix/internal/core/request"
	"kestrix/internal/core/rewrite"
	"kestrix/internal/core/route"
)

// prefixRules are about prefixes of paths that are dropped twice, or not at all.
var prefixRules = []*Rule{
	{
		ID: "KX604", Severity: config.Warning, Title: "a prefix that no request of the route has",
		Why: "drop_prefix removes only an existing prefix; otherwise the path is forwarded unchanged",
		Fix: "the prefix of the route's paths",
		Run: func(p *Pass) {
			p.drops(func(_ *config.Frontend, t *route.Table, i int, r *config.Route) {
				if w, proved := taken(t, i, below(r.Rewrite.DropPrefix)); w != nil || !proved {
					return
				}
				if w, _ := taken(t, i, config.When{}); w != nil {
					p.Report(Finding{Range: r.Rewrite.Range, Message: fmt.Sprintf("no path of %q begins with %s", r.Name, r.Rewrite.DropPrefix), Witness: passedOn(t, i, w)})
				}
			})
		},
	},
	{
		ID: "KX609", Severity: config.Warning, Title: "a substitution that never matches",
		Why: "substitutions see the path after drop_prefix, and the first match counts",
		Fix: "a pattern of the remaining path, such as \"/seat/([0-9]+)\" for /app/seat/7 with drop_prefix = \"/app\"",
		Run: func(p *Pass) {
			if len(p.reading) > 0 {
				return
			}
			p.rewrites(func(_ *config.Frontend, t *route.Table, i int, r *config.Route) {
				if len(t.Frontend.Routes) > mostNarrowed {
					return
				}
				for k, s := range r.Rewrite.Substitute {
					if w, proved := taken(t, i, substituted(r.Rewrite, k)); w != nil || !proved {
						continue
					}
					w, _ := taken(t, i, config.When{})
					if w == nil {
						return // which KX105 says
					}
					f := Finding{Range: s.Range, Message: fmt.Sprintf("no request of %q matches %q", r.Name, s.Text), Witness: passedOn(t, i, w)}
					if drop := r.Rewrite.DropPrefix; dropped(r.Rewrite, k) {
						f.Message += fmt.Sprintf(", but one that begins with %s%s: drop_prefix takes %s off before", drop, drop, drop)
					}
					p.Report(f)
				}
			})
		},
	},
	{
		ID: "KX610", Severity: config.Advice, Title: "a prefix that some requests of the route do not have",
		Why: "these are forwarded unchanged, so the application must know both forms",
		Fix: "the prefix in every path of the route: path = \"/app/**\" with drop_prefix = \"/app\"",
		Run: func(p *Pass) {
			p.drops(func(_ *config.Frontend, t *route.Table, i int, r *config.Route) {
				has := below(r.Rewrite.DropPrefix)
				if w, _ := taken(t, i, has); w == nil {
					return
				}
				if w, _ := taken(t, i, config.When{Path: []config.Match{{Text: has.Path[0].Text, Not: true}}}); w != nil {
					p.Report(Finding{Range: r.Rewrite.Range, Message: fmt.Sprintf("not every path of %q begins with %s", r.Name, r.Rewrite.DropPrefix), Witness: passedOn(t, i, w)})
				}
			})
		},
	},
	{
		ID: "KX611", Severity: config.Advice, Title: "a prefix that one route drops and another forwards",
		Why: "both send to the same application, one with the prefix and one without it",
		Fix: "the same rewrite in both routes, or one route with both conditions in any { } blocks",
		Run: func(p *Pass) {
			p.drops(func(f *config.Frontend, t *route.Table, i int, r *config.Route) {
				drop := r.Rewrite.DropPrefix
				for j, other := range f.Routes {
					if j == i || other.SendTo.Value != r.SendTo.Value || rewrite.ChangesPath(other.Rewrite) || !namesBelow(other, drop) {
						continue
					}
					if w, _ := taken(t, j, below(drop)); w != nil {
						p.Report(Finding{
							Range: other.Range, Message: fmt.Sprintf("%q forwards the prefix %s, which %q drops for the same upstream %q", other.Name, drop, r.Name, r.SendTo.Value),
							Witness: passedOn(t, j, w),
						})
					}
				}
			})
		},
	},
}

// drops calls f for each route that drops a prefix, where the conditions could be read.
func (p *Pass) drops(f func(*config.Frontend, *route.Table, int, *config.Route)) {
	if len(p.reading) > 0 {
		return
	}
	p.rewrites(func(front *config.Frontend, t *route.Table, i int, r *config.Route) {
		if r.Rewrite.DropPrefix != "" && len(front.Routes) <= mostNarrowed {
			f(front, t, i, r)
		}
	})
}

// below is the condition that a path has a prefix.
func below(prefix string) config.When {
	return config.When{Path: []config.Match{{Text: request.Path(prefix) + "/**"}}}
}

// substituted is the condition that substitution k is the one that changes a path, of which the
// prefix is taken off. Where it wants that prefix, paths that have it twice are left out: nobody
// means them.
func substituted(r *config.Rewrite, k int) config.When {
	drop := request.Path(r.DropPrefix)
	fits := func(before string, not bool) (out []config.Match) {
		for n, s := range r.Substitute[:k+1] {
			text := before + "(?:" + s.Text + ")"
			re, err := regexp.Compile("^(?:" + text + ")$")
			if err != nil {
				continue // cannot be: the pattern was read, and the prefix is quoted
			}
			out = append(out, config.Match{Text: text, Regexp: re, Not: n < k})
		}
		if not {
			out = append(out, config.Match{Text: drop + "/**", Not: true})
		}
		return out
	}
	if drop == "" {
		return config.When{Path: fits("", false)}
	}
	// A path that is the prefix and nothing more becomes "/".
	bare := config.When{Path: []config.Match{{Text: drop}}}
	any := []config.When{{Path: fits(regexp.QuoteMeta(drop), false)}, {Path: fits("", true)}}
	if dropped(r, k) {
		any[0].Path = append(any[0].Path, config.Match{Text: drop + drop + "/**", Not: true})
	}
	if r.Substitute[k].Pattern.MatchString("/") && !slices.ContainsFunc(r.Substitute[:k], func(s config.Substitution) bool { return s.Pattern.MatchString("/") }) {
		any = append(any, bare)
	}
	return config.When{Any: any}
}

// dropped reports whether substitution k wants the prefix that is taken off before.
func dropped(r *config.Rewrite, k int) bool {
	return r.DropPrefix != "" && strings.HasPrefix(r.Substitute[k].Text, r.DropPrefix)
}

// taken returns a request that matches a condition and that the router sends to route i, and nil if there is none.
// It reports whether that is proved; it is not where the router refuses the examples, as their paths have several readings.
func taken(t *route.Table, i int, when config.When) (w *region.Witness, proved bool) {
	near, routes := nearby(t, &t.Frontend.Routes[i].When, &when)
	d, err := asked(near, when)
	if err != nil || d.TooLarge || len(d.Undecided) > 0 {
		return nil, false
	}
	refused := false
	for _, x := range d.Parts() {
		if x.Routes[0] < 0 || routes[x.Routes[0]] != i || x.Routes[1] != 0 {
			continue
		}
		q := x.Witness.Request()
		if to, _ := t.Match(&q); to == i {
			return x.Witness, true
		}
		refused = true
	}
	return nil, !refused
}

// passedOn words what becomes of the path of a request that route i takes.
func passedOn(t *route.Table, i int, w *region.Witness) string {
	q := w.Request()
	if t.Redirects(i, &q) { // to where it is passed on
		below := *w
		below.Path += "/"
		w, q = &below, below.Request()
	}
	return fmt.Sprintf("%s is passed on as %s", w, rewrite.Path(t.Frontend.Routes[i].Rewrite, q.Path))
}
