package route

import (
	"fmt"
	"net/netip"
	"strings"
)

// Shadow is a route that can never take a request because an earlier one
// takes everything that would fit it.
type Shadow struct {
	Route, By int    // positions in the frontend
	Witness   string // a request that would fit Route, which By takes
}

// Shadows finds them. Each witness has been put through Match.
func (t *Table) Shadows() []Shadow {
	var out []Shadow
	for j := range t.rules {
		for i := range j {
			if !t.rules[i].covers(&t.rules[j]) {
				continue
			}
			q, words := t.sample(j)
			if by, _ := t.Match(&q); by >= 0 && by < j && t.rules[j].fails(&q) == 0 {
				out = append(out, Shadow{j, by, words})
			}
			break
		}
	}
	return out
}

// covers says that whatever fits other fits r.
func (r *rule) covers(other *rule) bool {
	if r.asks&^other.asks != 0 {
		return false
	}
	if !patternsCover(r.host, other.host) || !patternsCover(r.path, other.path) {
		return false
	}
	for _, m := range other.method {
		if r.method != nil && !contains(r.method, m) {
			return false
		}
	}
	for _, p := range other.client {
		if r.client == nil {
			break
		}
		inside := false
		for _, big := range r.client {
			inside = inside || big.Bits() <= p.Bits() && big.Contains(p.Addr())
		}
		if !inside {
			return false
		}
	}
	for i := range r.header {
		found := false
		for k := range other.header {
			found = found || strings.EqualFold(r.header[i].name, other.header[k].name) && r.header[i].pattern.Covers(&other.header[k].pattern)
		}
		if !found {
			return false
		}
	}
	return true
}

func patternsCover(a, b []Pattern) bool {
	if a == nil {
		return true
	}
	for i := range b {
		covered := false
		for k := range a {
			covered = covered || a[k].Covers(&b[i])
		}
		if !covered {
			return false
		}
	}
	return true
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// sample makes a request that fits route j, and says it in words.
func (t *Table) sample(j int) (Request, string) {
	r := &t.rules[j]
	q := Request{Method: "GET", Host: "tern.example", Path: "/", Client: netip.MustParseAddr("203.0.113.9")}
	if r.method != nil {
		q.Method = r.method[0]
	}
	if r.host != nil {
		q.Host = r.host[0].Sample()
	}
	if r.path != nil {
		q.Path = r.path[0].Sample()
	}
	if r.client != nil {
		q.Client = r.client[0].Addr()
	}
	words := fmt.Sprintf("%s http://%s%s", q.Method, q.Host, q.Path)
	if r.client != nil {
		words += " from " + q.Client.String()
	}
	fields := map[string]string{}
	for i := range r.header {
		fields[strings.ToLower(r.header[i].name)] = r.header[i].pattern.Sample()
		words += fmt.Sprintf(" with %s: %s", r.header[i].name, r.header[i].pattern.Sample())
	}
	q.Header = func(name string) string { return fields[strings.ToLower(name)] }
	return q, words
}
