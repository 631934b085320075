// Package route finds the route of a request: the first of a frontend whose
// condition fits.
package route

import (
	"fmt"
	"net/netip"
	"strings"

	"kestrix/internal/core/config"
)

// Field names what a condition can ask of a request.
type Field uint8

// The fields, as bits.
const (
	AskHost Field = 1 << iota
	AskPath
	AskMethod
	AskClient
	AskHeader
)

// Fields names them in the order in which they are tried.
var Fields = []struct {
	Bit  Field
	Name string
}{{AskHost, "host"}, {AskPath, "path"}, {AskMethod, "method"}, {AskClient, "client"}, {AskHeader, "header"}}

// Request is what a condition sees. A field that Unknown names fits nothing,
// as in a trace whose format does not record it.
type Request struct {
	Method  string
	Host    string // lower case, without port
	Path    string // without query
	Client  netip.Addr
	Header  func(name string) string // value of a header field, empty if absent; nil when none is known
	Unknown Field
}

// Table is a frontend's routes, compiled.
type Table struct {
	Frontend *config.Frontend
	rules    []rule
}

type rule struct {
	host, path []Pattern
	method     []string
	client     []netip.Prefix
	header     []headerRule
	asks       Field
}

type headerRule struct {
	name    string
	pattern Pattern
}

// Compile prepares a frontend's routes.
func Compile(f *config.Frontend) *Table {
	t := &Table{Frontend: f}
	for _, r := range f.Routes {
		var c rule
		for _, p := range r.When.Host {
			c.host = append(c.host, Host(p.Value))
			c.asks |= AskHost
		}
		for _, p := range r.When.Path {
			c.path = append(c.path, Path(p.Value))
			c.asks |= AskPath
		}
		for _, m := range r.When.Method {
			c.method = append(c.method, m.Value)
			c.asks |= AskMethod
		}
		for _, p := range r.When.Client {
			c.client = append(c.client, p.Value)
			c.asks |= AskClient
		}
		for _, h := range r.When.Header {
			c.header = append(c.header, headerRule{h.Name.Value, Plain(h.Value.Value)})
			c.asks |= AskHeader
		}
		t.rules = append(t.rules, c)
	}
	return t
}

// Match gives the position of the route that takes the request, -1 if none
// does, and which unknown fields kept a route from fitting.
func (t *Table) Match(q *Request) (int, Field) {
	var missed Field
	for i := range t.rules {
		r := &t.rules[i]
		if r.asks == 0 {
			return i, missed
		}
		if un := r.asks & q.Unknown; un != 0 {
			missed |= un
			continue
		}
		if r.fails(q) == 0 {
			return i, missed
		}
	}
	return -1, missed
}

// fails gives the first field that does not fit, 0 if all do.
func (r *rule) fails(q *Request) Field {
	if r.host != nil && !anyFits(r.host, q.Host) {
		return AskHost
	}
	if r.path != nil && !anyFits(r.path, q.Path) {
		return AskPath
	}
	if r.method != nil {
		fits := false
		for _, m := range r.method {
			fits = fits || m == q.Method
		}
		if !fits {
			return AskMethod
		}
	}
	if r.client != nil {
		fits := false
		for _, p := range r.client {
			fits = fits || p.Contains(q.Client)
		}
		if !fits {
			return AskClient
		}
	}
	for i := range r.header {
		h := &r.header[i]
		if q.Header == nil || !h.pattern.Match(q.Header(h.name)) {
			return AskHeader
		}
	}
	return 0
}

func anyFits(patterns []Pattern, s string) bool {
	for i := range patterns {
		if patterns[i].Match(s) {
			return true
		}
	}
	return false
}

// Step says of one route why it did or did not take a request.
type Step struct {
	Route string
	Fits  bool
	Why   string
}

// Explain goes through the routes as Match does and says of each tried one
// why it did not fit; the last one took the request, if Fits.
func (t *Table) Explain(q *Request) []Step {
	var steps []Step
	for i, r := range t.Frontend.Routes {
		c := &t.rules[i]
		if c.asks == 0 {
			return append(steps, Step{r.Name, true, "it takes everything"})
		}
		if un := c.asks & q.Unknown; un != 0 {
			steps = append(steps, Step{r.Name, false, fmt.Sprintf("it asks for the %s, which is not known", names(un))})
			continue
		}
		switch c.fails(q) {
		case 0:
			return append(steps, Step{r.Name, true, "everything it asks fits: " + names(c.asks)})
		case AskHost:
			steps = append(steps, Step{r.Name, false, fmt.Sprintf("host %q is not %s", q.Host, listed(r.When.Host))})
		case AskPath:
			steps = append(steps, Step{r.Name, false, fmt.Sprintf("path %q is not %s", q.Path, listed(r.When.Path))})
		case AskMethod:
			steps = append(steps, Step{r.Name, false, fmt.Sprintf("method %s is not %s", q.Method, listed(r.When.Method))})
		case AskClient:
			steps = append(steps, Step{r.Name, false, fmt.Sprintf("client %s is in none of its networks", q.Client)})
		case AskHeader:
			steps = append(steps, Step{r.Name, false, "a header field it asks for is absent or different"})
		}
	}
	return steps
}

func names(f Field) string {
	var out []string
	for _, x := range Fields {
		if f&x.Bit != 0 {
			out = append(out, x.Name)
		}
	}
	return strings.Join(out, ", ")
}

func listed(values []config.Placed[string]) string {
	var out []string
	for _, v := range values {
		out = append(out, v.Value)
	}
	return strings.Join(out, " or ")
}
