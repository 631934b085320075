package check

import (
	"fmt"
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/template"
)

var logRules = []*Rule{
	{
		ID: "KX620", Severity: config.Advice, Title: "an access log that lacks what a replay needs",
		Why: "what the log does not have, a replay does not know: it leaves it out or assumes it, and says so",
		Fix: "add the fields, or keep a second log with format = \"json\", which has all of them",
		Run: func(p *Pass) {
			for _, l := range p.Config.AccessLogs() {
				has, at, form := logged(&l)
				if has == nil || l.To.Value == "off" || !l.Whole() { // of a part of the requests nobody expects a replay
					continue
				}
				var lacks []string
				for _, n := range replayNeeds(p.Config, &l) {
					if !slices.Contains(has, n.field) {
						lacks = append(lacks, fmt.Sprintf("%s, for %s", n.field, n.what))
					}
				}
				if lacks == nil {
					continue
				}
				p.Report(Finding{
					Range: at, Message: fmt.Sprintf("a replay of %s would lack %d of the fields that it needs here", l.Title(), len(lacks)),
					Hint: strings.Join(lacks, "; "), Witness: "what there is, it reads with " + form,
				})
			}
		},
	},
	{
		ID: "KX713", Severity: config.Warning, Title: "credentials in an access log",
		Why: "logs are read, kept and copied by more people and programs than may act for a client",
		Fix: "leave the field out",
		Run: func(p *Pass) {
			for _, l := range p.Config.AccessLogs() {
				for _, f := range template.Fields(l.Line) {
					if what := credential(p.Config, f); what != "" {
						p.Report(Finding{Range: l.LineAt, Message: fmt.Sprintf("{%s} writes %s into the access log", f.Written, what)})
					}
				}
			}
		},
	},
}

// credential returns what a field has that lets its reader act for the client, empty for
// nothing that is known.
func credential(c *config.Config, f *template.Field) string {
	switch of := strings.ToLower(f.Of); {
	case f.Name == "header" && slices.Contains([]string{"authorization", "proxy-authorization"}, of):
		return "passwords and tokens (RFC 9110 section 11.6.2)"
	case f.Name == "header" && of == "cookie":
		return "all cookies, those of sessions included"
	case f.Name == "cookie":
		for _, u := range c.Upstreams {
			if s := u.Sticky; s != nil && s.Name == f.Of && (s.By == "cookie" || s.By == "existing-cookie") {
				return fmt.Sprintf("the cookie that holds sessions of upstream %q", u.Name)
			}
		}
	}
	return ""
}

// logged returns the fields of the record that a log in a form of its own has, nil for another
// log; where it is written, and how a replay reads it.
func logged(l *config.AccessLog) (has []string, at hcl.Range, form string) {
	switch {
	case l.Line != nil:
		has = []string{}
		for _, f := range template.Fields(l.Line) {
			has = append(has, f.Written, f.Name)
			if f.Name == "request" {
				has = append(has, "method", "path")
			}
		}
		return has, l.LineAt, fmt.Sprintf("-line '%s'", l.LineText)
	case len(l.Fields) > 0:
		has = []string{}
		var names []string
		for _, f := range l.Fields {
			has = append(has, f.Value.Value)
			if f.Value.Value != f.Name.Value {
				names = append(names, f.Value.Value+"="+f.Name.Value)
			}
		}
		if names == nil {
			return has, l.FieldsAt, "no options"
		}
		return has, l.FieldsAt, "-map " + strings.Join(names, ",")
	}
	return nil, hcl.Range{}, ""
}

// need is a field that a replay goes by, and what for.
type need struct{ field, what string }

// replayNeeds returns what a replay of the frontends that a log has goes by, each once.
func replayNeeds(c *config.Config, l *config.AccessLog) (out []need) {
	add := func(field, what string) {
		if !slices.ContainsFunc(out, func(n need) bool { return n.field == field }) {
			out = append(out, need{field, what})
		}
	}
	add("time", "arrivals")
	add("duration", "service times")
	for _, f := range c.Frontends {
		if l.Frontends != nil && !slices.Contains(l.Frontends, f.Name) {
			continue
		}
		if len(c.Frontends) > 1 && len(l.Frontends) != 1 {
			add("frontend", fmt.Sprintf("%d frontends", len(c.Frontends)))
		}
		if f.Limits.Rate > 0 {
			add("client", "rate limits")
		}
		for _, r := range f.Routes {
			routeNeeds(r, add)
			if u := c.Upstream(r.SendTo.Value); u != nil {
				upstreamNeeds(u, add)
			}
		}
	}
	return out
}

func routeNeeds(r *config.Route, add func(field, what string)) {
	what := fmt.Sprintf("route %q", r.Name)
	if r.Limits.Rate > 0 {
		add("client", "rate limits")
	}
	for _, w := range r.When.Parts() {
		for _, x := range []struct {
			field string
			asked int
		}{{"host", len(w.Host)}, {"path", len(w.Path) + len(w.Query)}, {"method", len(w.Method)}, {"client", len(w.Client)}} {
			if x.asked > 0 {
				add(x.field, what)
			}
		}
		for _, h := range w.Header {
			add("header:"+h.Name.Value, what)
		}
		for _, c := range w.Cookie {
			add("cookie:"+c.Name.Value, what)
		}
	}
}

func upstreamNeeds(u *config.Upstream, add func(field, what string)) {
	what := fmt.Sprintf("upstream %q", u.Name)
	if u.Retry != nil {
		add("method", "retries of upstream "+fmt.Sprintf("%q", u.Name))
	}
	if h := u.Hash; h != nil {
		switch h.Key {
		case "header", "cookie":
			add(h.Key+":"+h.Name, what)
		case "path", "query":
			add("path", what)
		default:
			add("client", what)
		}
	}
	if s := u.Sticky; s != nil {
		switch s.By {
		case "address":
			add("client", what)
		case "header":
			add("header:"+s.Name, what)
		case "existing-cookie":
			add("cookie:"+s.Name, what)
		default:
			add("session", what)
		}
	}
}
