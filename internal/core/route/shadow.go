package route

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"kestrix/internal/core/request"
)

// Shadow is a route that can never take a request because an earlier one
// takes everything that would fit it.
type Shadow struct {
	Route, By int    // positions in the frontend
	Witness   string // a request that would fit Route, which By takes
}

// Shadows finds them. Each witness has been put through Match; where none can be
// made, as for a regular expression, nothing is claimed.
func (t *Table) Shadows() []Shadow {
	var out []Shadow
	byKey := map[string][]int{} // earlier routes that can only cover what shares a key
	var others []int            // and those that might cover anything
	for j := range t.rules {
		for _, i := range t.rules[j].candidates(byKey, others) {
			if !t.rules[i].covers(&t.rules[j]) {
				continue
			}
			q, words := t.rules[j].sample()
			if t.Frontend.Protocol == "tcp" {
				words = connectionWords(&t.rules[j], &q)
			}
			if by, _ := t.Match(&q); by >= 0 && by < j && t.rules[j].fails(&q) == 0 {
				out = append(out, Shadow{j, by, words})
			}
			break
		}
		if keys := t.rules[j].keys(); len(keys) == 0 {
			others = append(others, j)
		} else {
			for _, k := range keys {
				byKey[k] = append(byKey[k], j)
			}
		}
	}
	return out
}

// keys are texts of which a route must hold one for r to cover it: its hosts, or
// the first segments of its paths, if they have no wildcards. Without any, r
// might cover anything. They keep the search for shadows from comparing every
// route with every other.
func (r *rule) keys() []string {
	var out []string
	for i := range r.host.fits {
		if !r.host.fits[i].literal {
			out = nil
			break
		}
		out = append(out, "host "+r.host.fits[i].text)
	}
	if out != nil {
		return out
	}
	for i := range r.path.fits {
		seg, ok := r.path.fits[i].firstSegment()
		if !ok {
			return nil
		}
		out = append(out, "path "+seg)
	}
	return out
}

// candidates returns the earlier routes that might cover r, in their order.
func (r *rule) candidates(byKey map[string][]int, others []int) []int {
	out := slices.Clone(others)
	if len(r.host.fits) > 0 && r.host.fits[0].literal {
		out = append(out, byKey["host "+r.host.fits[0].text]...)
	}
	if len(r.path.fits) > 0 {
		if seg, ok := r.path.fits[0].firstSegment(); ok {
			out = append(out, byKey["path "+seg]...)
		}
	}
	slices.Sort(out)
	return out
}

// firstSegment returns the first segment of a path pattern, if it is fixed.
func (p *Pattern) firstSegment() (string, bool) {
	if p.re != nil || len(p.segments) < 2 || p.segments[0] != "" || strings.Contains(p.segments[1], "*") {
		return "", false
	}
	return p.segments[1], true
}

// covers says that whatever fits other fits r.
func (r *rule) covers(other *rule) bool {
	if r.asks&^other.asks != 0 {
		return false
	}
	return r.host.covers(&other.host) && r.path.covers(&other.path) && r.method.covers(&other.method) && r.client.covers(&other.client) && r.sni.covers(&other.sni) &&
		fieldsCover(r.header, other.header, strings.EqualFold) && fieldsCover(r.query, other.query, same) && fieldsCover(r.cookie, other.cookie, same)
}

func same(a, b string) bool { return a == b }

func (s *set) covers(other *set) bool {
	if len(s.fits) > 0 {
		if len(other.fits) == 0 {
			return false
		}
		for i := range other.fits {
			if !anyCovers(s.fits, &other.fits[i]) {
				return false
			}
		}
	}
	// What s excludes, other must exclude as well.
	for i := range s.not {
		if !anyCovers(other.not, &s.not[i]) {
			return false
		}
	}
	return true
}

func anyCovers(list []Pattern, p *Pattern) bool {
	for i := range list {
		if list[i].Covers(p) {
			return true
		}
	}
	return false
}

func (w *words) covers(other *words) bool {
	if len(w.fits) > 0 {
		if len(other.fits) == 0 {
			return false
		}
		for _, m := range other.fits {
			if !contains(w.fits, m) {
				return false
			}
		}
	}
	for _, m := range w.not {
		if !contains(other.not, m) {
			return false
		}
	}
	return true
}

func (n *nets) covers(other *nets) bool {
	if len(n.fits) > 0 {
		if len(other.fits) == 0 {
			return false
		}
		for _, p := range other.fits {
			if !within(n.fits, p) {
				return false
			}
		}
	}
	for _, p := range n.not {
		if !within(other.not, p) {
			return false
		}
	}
	return true
}

// within reports whether one of the networks holds all of p.
func within(nets []netip.Prefix, p netip.Prefix) bool {
	for _, big := range nets {
		if big.Bits() <= p.Bits() && big.Contains(p.Addr()) {
			return true
		}
	}
	return false
}

func fieldsCover(a, b []fieldRule, eq func(a, b string) bool) bool {
	for i := range a {
		found := false
		for k := range b {
			if !eq(a[i].name, b[k].name) || a[i].not != b[k].not {
				continue
			}
			if a[i].not {
				found = found || b[k].pattern.Covers(&a[i].pattern)
			} else {
				found = found || a[i].pattern.Covers(&b[k].pattern)
			}
		}
		if !found {
			return false
		}
	}
	return true
}

// Sample is a request made to fit a route, and its words.
type Sample struct {
	Request Request
	Words   string
}

// Samples makes requests for each route, one for each host, path, method and
// network it names, as far as that is easy: it may be that another route takes
// one, or none.
func (t *Table) Samples() []Sample {
	var out []Sample
	add := func(r *rule) {
		q, words := r.sample()
		if t.Frontend.Protocol == "tcp" {
			words = connectionWords(r, &q)
		}
		out = append(out, Sample{q, words})
	}
	for j := range t.rules {
		r := t.rules[j]
		add(&r)
		for k := 1; k < len(r.host.fits); k++ {
			x := r
			x.host.fits = r.host.fits[k:]
			add(&x)
		}
		for k := 1; k < len(r.sni.fits); k++ {
			x := r
			x.sni.fits = r.sni.fits[k:]
			add(&x)
		}
		for k := 1; k < len(r.path.fits); k++ {
			x := r
			x.path.fits = r.path.fits[k:]
			add(&x)
		}
		for k := 1; k < len(r.method.fits); k++ {
			x := r
			x.method.fits = r.method.fits[k:]
			add(&x)
		}
		for k := 1; k < len(r.client.fits); k++ {
			x := r
			x.client.fits = r.client.fits[k:]
			add(&x)
		}
	}
	return out
}

// sample returns a text that fits: made from one of the patterns, or one of the
// candidates.
func (s *set) sample(candidates ...string) string {
	if len(s.fits) > 0 {
		candidates = []string{s.fits[0].Sample()}
	}
	for _, c := range candidates {
		if s.match(c) {
			return c
		}
	}
	return candidates[0]
}

// sample makes a request that fits, as far as that is easy, and says it in words.
func (r *rule) sample() (Request, string) {
	q, _ := request.Of("GET", "tern.example", "/")
	q.Client = netip.MustParseAddr("203.0.113.9")
	if len(r.method.fits) > 0 {
		q.Method = r.method.fits[0]
	} else if contains(r.method.not, q.Method) {
		q.Method = "POST"
	}
	q.Host = r.host.sample("tern.example", "tern.test", "tern")
	q.Path = request.Path(r.path.sample("/", "/x", "/x/y"))
	if len(r.client.fits) > 0 {
		q.Client = r.client.fits[0].Addr()
	}
	if len(r.sni.fits)+len(r.sni.not) > 0 {
		q.SNI = r.sni.sample("tern.example", "tern.test", "tern")
	}
	var query, more string
	lookup := func(rules []fieldRule, fold bool, show func(name, value string)) Lookup {
		fields := map[string]string{}
		for i := range rules {
			f := &rules[i]
			if f.not {
				continue // absent fits
			}
			name := f.name
			if fold {
				name = strings.ToLower(name)
			}
			fields[name] = f.pattern.Sample()
			show(f.name, fields[name])
		}
		return func(name string) (string, bool) {
			if fold {
				name = strings.ToLower(name)
			}
			v, ok := fields[name]
			return v, ok
		}
	}
	q.Query = lookup(r.query, false, func(name, value string) {
		query += map[bool]string{true: "?", false: "&"}[query == ""] + name + "=" + value
	})
	if len(r.client.fits) > 0 {
		more += " from " + q.Client.String()
	}
	if q.SNI != "" {
		more += " with " + q.SNI + " in its TLS handshake"
	}
	q.Header = lookup(r.header, true, func(name, value string) { more += fmt.Sprintf(" with %s: %s", name, value) })
	q.Cookie = lookup(r.cookie, false, func(name, value string) { more += fmt.Sprintf(" with the cookie %s=%s", name, value) })
	return q, fmt.Sprintf("%s http://%s%s%s%s", q.Method, q.Host, q.Path, query, more)
}

// connectionWords says a connection of a tcp frontend in words.
func connectionWords(r *rule, q *Request) string {
	words := "a connection"
	if len(r.client.fits) > 0 {
		words += " from " + q.Client.String()
	}
	if q.SNI != "" {
		words += " with " + q.SNI + " in its TLS handshake"
	}
	return words
}
