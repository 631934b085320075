package route

import (
	"fmt"
	"strings"

	"kestrix/internal/core/config"
)

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
		if c.asks == 0 && c.any == nil {
			return append(steps, Step{r.Name, true, "it takes everything"})
		}
		if un := c.asks & q.Unknown; un != 0 {
			steps = append(steps, Step{r.Name, false, fmt.Sprintf("it asks for the %s, which is not known", names(un))})
			continue
		}
		if fits, _ := c.fits(q); fits {
			return append(steps, Step{r.Name, true, "all conditions match: " + names(c.asksAll())})
		}
		steps = append(steps, Step{r.Name, false, whyNot(c, &r.When, q)})
	}
	return steps
}

// whyNot words why a condition does not fit.
func whyNot(c *rule, w *config.When, q *Request) string {
	if failed := c.fails(q); failed != 0 {
		return why(failed, c, w, q)
	}
	var parts []string
	for i := range c.any {
		x := &c.any[i]
		if un := x.asks & q.Unknown; un != 0 {
			parts = append(parts, fmt.Sprintf("it asks for the %s, which is not known", names(un)))
			continue
		}
		parts = append(parts, whyNot(x, &w.Any[i], q))
	}
	return "no any block matches: " + strings.Join(parts, "; ")
}

// why words why a field does not fit.
func why(failed Field, c *rule, w *config.When, q *Request) string {
	switch failed {
	case AskHost:
		return fmt.Sprintf("host %q is not %s", q.Host, config.Words(w.Host))
	case AskPath:
		return fmt.Sprintf("path %q is not %s", q.Path, config.Words(w.Path))
	case AskMethod:
		return fmt.Sprintf("method %s is not %s", q.Method, config.Words(w.Method))
	case AskClient:
		return fmt.Sprintf("client %s is not in its networks", q.Client)
	case AskHeader:
		return field("header field", c.header, w.Header, q.Header)
	case AskSNI:
		if q.SNI == "" {
			return "the TLS handshake has no server name"
		}
		return fmt.Sprintf("the name %q in the TLS handshake is not %s", q.SNI, config.Words(w.SNI))
	case AskQuery:
		return field("query parameter", c.query, w.Query, q.Query)
	}
	return field("cookie", c.cookie, w.Cookie, q.Cookie)
}

// field words why the first of several named fields does not fit.
func field(kind string, rules []fieldRule, pairs []config.MatchPair, look Lookup) string {
	for i := range rules {
		if rules[i].match(look) {
			continue
		}
		value, ok := "", false
		if look != nil {
			value, ok = look(rules[i].name)
		}
		if !ok {
			return fmt.Sprintf("the %s %s is absent", kind, rules[i].name)
		}
		if len(rules[i].set.fits) == 0 {
			return fmt.Sprintf("the %s %s is %q, which %s excludes", kind, rules[i].name, value, config.List(pairs[i].Matches))
		}
		return fmt.Sprintf("the %s %s is %q, not %s", kind, rules[i].name, value, config.Words(pairs[i].Matches))
	}
	return "a " + kind + " does not match"
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
