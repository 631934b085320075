package check

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/region"
	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
)

// redirectRules follow redirects as far as they lead to frontends of the configuration.
var redirectRules = []*Rule{
	{
		ID: "KX116", Severity: config.Warning, Title: "redirects that form a loop",
		Why: "browsers stop after some twenty redirects and show an error",
		Fix: "exclude the target of the redirect from the condition",
		Run: func(p *Pass) {
			p.redirects(func(f *config.Frontend, r *config.Route, w *walk) {
				if w.ends == circle {
					p.Report(Finding{Range: r.Redirect.Range, Message: fmt.Sprintf("the redirect of %q leads back to itself", r.Name), Witness: strings.Join(w.steps, ", then ")})
				}
			})
		},
	},
	{
		ID: "KX117", Severity: config.Warning, Title: "a redirect to a missing target",
		Why: "the client is sent to a path that no route matches",
		Fix: "a target that a route matches; {path} begins with / by itself",
		Run: func(p *Pass) {
			p.redirects(func(f *config.Frontend, r *config.Route, w *walk) {
				says := map[ending]string{
					untaken: "no route takes", doubled: "has a doubled slash, which {path} brings along", unheard: "is https, for which nothing listens here",
				}[w.ends]
				if says != "" {
					p.Report(Finding{Range: r.Redirect.Range, Message: fmt.Sprintf("%q redirects to a target that %s", r.Name, says), Witness: strings.Join(w.steps, ", then ")})
				}
			})
		},
	},
}

// ending is how a walk along redirects ends.
type ending int

const (
	away    ending = iota // at something else than a redirect, or outside
	circle                // where it was before
	untaken               // at a frontend of which no route takes it
	doubled               // at a path that begins with two slashes
	unheard               // at https of the same host, where nothing listens for it
)

// walk is where a request is sent by redirects.
type walk struct {
	steps []string
	ends  ending
}

// mostHops bounds a walk.
const mostHops = 10

// redirects follows requests that redirect routes take, and tells of each route how the worst of
// these walks ends. Requests are told apart by the routes of the other frontends as well, to which
// they may come.
func (p *Pass) redirects(tell func(f *config.Frontend, r *config.Route, w *walk)) {
	if len(p.reading) > 0 {
		return
	}
	tables := map[*config.Frontend]*route.Table{}
	var all []*config.Frontend
	for _, f := range p.Config.Frontends {
		if f.Protocol != "tcp" {
			tables[f] = route.Compile(f)
			all = append(all, f)
		}
	}
	for _, f := range all {
		if !slices.ContainsFunc(f.Routes, func(r *config.Route) bool { return r.Redirect != nil }) {
			continue
		}
		walks := map[int][]*walk{}
		for _, g := range all[:min(len(all), mostFollowed)] {
			if len(f.Routes)+len(g.Routes) > mostNarrowed {
				continue
			}
			d, err := region.New(tables[f], tables[g])
			if err != nil || d.TooLarge {
				continue
			}
			for _, x := range d.Parts() {
				if i := x.Routes[0]; i >= 0 && !x.Maybe && f.Routes[i].Redirect != nil {
					for _, w := range d.Examples(x, 3) {
						walks[i] = append(walks[i], p.follow(tables, f, w))
					}
				}
			}
		}
		for i, r := range f.Routes {
			if w := worstOf(walks[i]); w != nil {
				tell(f, r, w)
			}
		}
	}
}

// mostFollowed bounds the frontends by whose routes requests are told apart.
const mostFollowed = 20

// worstOf returns the walk that is told of: nil for none. That some of what is redirected finds no
// route is no fault of the redirect; that nothing finds one is.
func worstOf(all []*walk) *walk {
	for _, end := range []ending{circle, doubled, unheard} {
		if i := slices.IndexFunc(all, func(w *walk) bool { return w.ends == end }); i >= 0 {
			return all[i]
		}
	}
	if len(all) == 0 || slices.ContainsFunc(all, func(w *walk) bool { return w.ends != untaken }) {
		return nil
	}
	return all[0]
}

// follow walks along the redirects of a request.
func (p *Pass) follow(tables map[*config.Frontend]*route.Table, f *config.Frontend, from *region.Witness) *walk {
	w := &walk{steps: []string{from.String()}}
	q := from.Request()
	query, port := from.RawQuery(), f.Listen[0].Value.Port
	seen, ports := map[string]bool{}, map[*config.Frontend]int{} // ports by which frontends were reached
	for range mostHops {
		ports[f] = port
		at := fmt.Sprintf("%s %s:%d%s?%s", scheme(f), q.Host, port, q.Path, query)
		if seen[at] {
			w.ends = circle
			return w
		}
		seen[at] = true
		i, _ := tables[f].Match(&q)
		if i < 0 {
			if len(w.steps) > 1 {
				w.ends = untaken
			}
			return w
		}
		r := f.Routes[i]
		if r.Redirect == nil {
			return w
		}
		target := q.Path
		if query != "" {
			target += "?" + query
		}
		to := r.Redirect.Target(q.Host, target)
		w.steps = append(w.steps, fmt.Sprintf("%d to %s", r.Redirect.Status, to))
		u, err := url.Parse(to)
		if err != nil {
			return w
		}
		next, nextPort := f, port
		if u.Host != "" {
			next, nextPort = p.listening(u, ports)
			if next != nil && request.Host(u.Host) != q.Host && !namesHost(next, request.Host(u.Host)) {
				next = nil // which may be anywhere
			}
		}
		switch {
		case strings.HasPrefix(u.EscapedPath(), "//"):
			w.ends = doubled
			return w
		case next == nil:
			// Somebody in front may end TLS; if so it is trusted, or the route asks what it says.
			if u.Scheme == "https" && request.Host(u.Host) == q.Host && len(p.Config.Trusted) == 0 && !asksHeaders(r) {
				w.ends = unheard
			}
			return w
		}
		was := q
		q, _ = request.Of(was.Method, u.Host, cmp.Or(u.EscapedPath(), "/"))
		if u.Host == "" {
			q.Host = was.Host
		}
		q.Client, q.Header, q.Cookie, q.Query = was.Client, was.Header, was.Cookie, request.Query(u.RawQuery)
		if next.TLS != nil {
			q.SNI = q.Host
		}
		f, port, query = next, nextPort, u.RawQuery
	}
	return w
}

// scheme returns what a frontend speaks.
func scheme(f *config.Frontend) string {
	if f.TLS != nil {
		return "https"
	}
	return "http"
}

// listening returns the frontend that a URL leads to, and its port: the one on the URL's port, or,
// as where ports are mapped, the only one that speaks its scheme, of several the one where the
// request was before. It is nil where there is none.
func (p *Pass) listening(u *url.URL, ports map[*config.Frontend]int) (*config.Frontend, int) {
	port := map[string]int{"http": 80, "https": 443}[u.Scheme]
	if n, err := strconv.Atoi(u.Port()); err == nil {
		port = n
	}
	var same []*config.Frontend
	for _, f := range p.Config.Frontends {
		if f.Protocol == "tcp" || scheme(f) != u.Scheme {
			continue
		}
		if slices.ContainsFunc(f.Listen, func(l config.Placed[config.Address]) bool { return l.Value.Port == port }) {
			return f, port
		}
		same = append(same, f)
	}
	if u.Port() != "" {
		return nil, 0
	}
	if i := slices.IndexFunc(same, func(f *config.Frontend) bool { return ports[f] != 0 }); i >= 0 {
		return same[i], ports[same[i]]
	}
	if len(same) != 1 {
		return nil, 0
	}
	return same[0], same[0].Listen[0].Value.Port
}

// namesHost reports whether a route of a frontend asks for a host.
func namesHost(f *config.Frontend, host string) bool {
	return slices.ContainsFunc(f.Routes, func(r *config.Route) bool {
		return slices.ContainsFunc(r.When.Parts(), func(w *config.When) bool {
			return slices.ContainsFunc(w.Host, func(m config.Match) bool {
				pattern := route.Host(m.Text)
				return !m.Not && (m.Regexp != nil && m.Regexp.MatchString(host) || m.Regexp == nil && pattern.Match(host))
			})
		})
	})
}

// asksHeaders reports whether a route goes by header fields.
func asksHeaders(r *config.Route) bool {
	return slices.ContainsFunc(r.When.Parts(), func(w *config.When) bool { return len(w.Header) > 0 })
}
