package check

import (
	"fmt"
	"regexp/syntax"
	"slices"
	"strings"

	"github.com/agext/levenshtein"
	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
)

// conditionRules are about conditions that can be read and mean something else than they say.
var conditionRules = []*Rule{
	{
		ID: "KX122", Severity: config.Warning, Title: "a host that no client requests",
		Why: "* is one label, so \"*\" matches only names without a dot; and no name contains a space",
		Fix: "remove host for any host; \"*.tern.example\" for the names below one, \"**.tern.example\" for that name too",
		Run: func(p *Pass) {
			p.matches(func(r *config.Route, key string, m config.Match) {
				if key != "host" && key != "sni" || m.Regexp != nil {
					return
				}
				const like = "tickets.tern.example"
				switch {
				case m.Text == "*":
					p.Report(Finding{Range: m.Range, Message: fmt.Sprintf("%s \"*\" of %q is one label", key, r.Name), Witness: fmt.Sprintf("%s does not match %q, localhost does", like, m.Text)})
				case spaced(m):
					p.Report(Finding{Range: m.Range, Message: fmt.Sprintf("%s %q of %q contains a space", key, m.Text, r.Name), Witness: fmt.Sprintf("%s does not match %q", strings.TrimSpace(m.Text), m.Text), Fix: fmt.Sprintf("%q", strings.TrimSpace(m.Text)), Edits: p.replace(m.Range, fmt.Sprintf("%q", strings.TrimSpace(m.Text)))})
				}
			})
		},
	},
	{
		ID: "KX123", Severity: config.Warning, Title: "a regular expression in plain quotes",
		Why: "between quotes only * is special; brackets, dots and bars are literal",
		Fix: "regexp(\"...\") around it, with each backslash written twice",
		Run: func(p *Pass) {
			p.matches(func(r *config.Route, key string, m config.Match) {
				if m.Regexp != nil {
					return
				}
				if what := looksLikeExpression(m.Text); what != "" {
					p.Report(Finding{
						Range: m.Range, Message: fmt.Sprintf("%s %q of %q looks like a regular expression: it contains %s", key, m.Text, r.Name, what),
						Witness: fmt.Sprintf("it matches texts in which %s is literal", what), Fix: fmt.Sprintf("regexp(%q)", m.Text), Edits: p.replace(m.Range, fmt.Sprintf("regexp(%q)", m.Text)),
					})
				}
			})
		},
	},
	{
		ID: "KX124", Severity: config.Warning, Title: "an expression that seems to be a prefix",
		Why: "an expression must match the whole text, as if between ^ and $",
		Fix: ".* at the end; or a pattern: \"/live/**\" matches /live and everything below",
		Run: func(p *Pass) {
			p.matches(func(r *config.Route, key string, m config.Match) {
				if m.Regexp == nil || !strings.HasPrefix(m.Text, "^") || strings.HasSuffix(m.Text, "$") {
					return
				}
				literal := strings.TrimSuffix(m.Text[1:], "/")
				if e, err := syntax.Parse(literal, syntax.Perl); err != nil || e.Op != syntax.OpLiteral || literal == "" {
					return
				}
				below := literal + "/x"
				if key != "path" {
					below = literal + "x"
				}
				if m.Regexp.MatchString(below) {
					return
				}
				f := Finding{Range: m.Range, Message: fmt.Sprintf("%s regexp(%q) of %q matches one text only", key, m.Text, r.Name), Witness: fmt.Sprintf("%s does not match it", below)}
				if key == "path" {
					f.Fix = fmt.Sprintf("%q", literal+"/**")
					f.Edits = p.replace(m.Range, f.Fix)
				}
				p.Report(f)
			})
		},
	},
	{
		ID: "KX125", Severity: config.Warning, Title: "a path with steps that no request has",
		Why: "paths are compared in normal form (RFC 3986 section 6.2.2), in which \".\" and \"..\" are resolved",
		Fix: "the resolved path",
		Run: func(p *Pass) {
			p.matches(func(r *config.Route, key string, m config.Match) {
				if key != "path" || !stepping(m) {
					return
				}
				leads := request.Path(m.Text)
				p.Report(Finding{
					Range: m.Range, Message: fmt.Sprintf("no path matches %q", m.Text), Fix: fmt.Sprintf("%q", leads), Edits: p.replace(m.Range, fmt.Sprintf("%q", leads)),
					Witness: fmt.Sprintf("GET %s is compared as %s", strings.NewReplacer("**", "x", "*", "x").Replace(m.Text), strings.NewReplacer("**", "x", "*", "x").Replace(leads)),
				})
			})
		},
	},
	{
		ID: "KX126", Severity: config.Warning, Title: "a method close to a standard one",
		Why: "methods are compared letter by letter, and no standard has this one",
		Fix: "the intended method",
		Run: func(p *Pass) {
			p.matches(func(r *config.Route, key string, m config.Match) {
				if key != "method" || slices.Contains(methods, m.Text) {
					return
				}
				if near := nearMethod(m.Text); near != "" {
					p.Report(Finding{Range: m.Range, Message: fmt.Sprintf("%s is not a standard method", m.Text), Hint: fmt.Sprintf("did you mean %q?", near), Fix: fmt.Sprintf("%q", near), Edits: p.replace(m.Range, fmt.Sprintf("%q", near)), Witness: fmt.Sprintf("a request with %s does not match", near)})
				}
			})
		},
	},
	{
		ID: "KX127", Severity: config.Warning, Title: "a header value that clients spell otherwise",
		Why: "values are compared as a whole, with their letter case",
		Fix: "the value as clients send it, or regexp(\"(?i)...\") for any letter case; *...* for a part of it",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					for _, w := range r.When.Parts() {
						for _, pair := range w.Header {
							p.usual(r, pair)
						}
					}
				}
			}
		},
	},
	{
		ID: "KX128", Severity: config.Warning, Title: "one header field in two spellings",
		Why: "names of header fields have no letter case (RFC 9110 section 5.1): both name the same field",
		Fix: "one condition, with a list of values",
		Run: func(p *Pass) {
			for _, f := range p.Config.Frontends {
				for _, r := range f.Routes {
					for _, w := range r.When.Parts() {
						for i, pair := range w.Header {
							for _, before := range w.Header[:i] {
								if strings.EqualFold(before.Name.Value, pair.Name.Value) {
									p.Report(Finding{Range: pair.Name.Range, Message: fmt.Sprintf("%q asks twice for the header field %s", r.Name, before.Name.Value), Witness: fmt.Sprintf("%s must match %s and %s", before.Name.Value, config.Words(before.Matches), config.Words(pair.Matches))})
									break
								}
							}
						}
					}
				}
			}
		},
	},
}

// spaced reports whether a host holds a space, so that no name fits it.
func spaced(m config.Match) bool { return m.Regexp == nil && strings.ContainsAny(m.Text, " \t") }

// stepping reports whether a path holds "." or "..", so that none in normal form fits it.
func stepping(m config.Match) bool {
	return m.Regexp == nil && strings.HasPrefix(m.Text, "/") && slices.ContainsFunc(strings.Split(m.Text, "/"), func(s string) bool { return s == "." || s == ".." })
}

// explained reports whether another rule says why nothing has what a route asks for.
func explained(r *config.Route) bool {
	return slices.ContainsFunc(r.When.Parts(), func(w *config.When) bool {
		return slices.ContainsFunc(w.Host, spaced) || slices.ContainsFunc(w.SNI, spaced) || slices.ContainsFunc(w.Path, stepping)
	})
}

// unread reports whether a text of a route's condition could not be read.
func (p *Pass) unread(r *config.Route) bool {
	return slices.ContainsFunc(r.When.Parts(), func(w *config.When) bool {
		return slices.ContainsFunc(slices.Concat(w.Host, w.Path, w.Method, w.SNI), func(m config.Match) bool { return p.broken(m.Range) })
	})
}

// methods are those of the registry of HTTP methods (RFC 9110 section 16.1), and PURGE, which caches have.
var methods = []string{
	"GET", "HEAD", "POST", "PUT", "DELETE", "CONNECT", "OPTIONS", "TRACE", "PATCH", "QUERY",
	"PROPFIND", "PROPPATCH", "MKCOL", "COPY", "MOVE", "LOCK", "UNLOCK", "REPORT", "CHECKOUT", "CHECKIN", "UNCHECKOUT", "VERSION-CONTROL",
	"MKWORKSPACE", "UPDATE", "LABEL", "MERGE", "BASELINE-CONTROL", "MKACTIVITY", "ORDERPATCH", "ACL", "MKCALENDAR", "SEARCH", "BIND", "UNBIND", "REBIND", "LINK", "UNLINK", "PURGE",
}

// nearMethod returns the method from which one differs by a letter, or by the order of two; empty for none.
func nearMethod(text string) string {
	letters := func(s string) string { return string(slices.Sorted(slices.Values([]byte(s)))) }
	for _, m := range methods {
		if d := levenshtein.Distance(text, m, nil); d == 1 && len(m) > 2 || d == 2 && letters(text) == letters(m) {
			return m
		}
	}
	return ""
}

// usualValues are the values that clients, or proxies in front, send of fields that have few of
// them.
var usualValues = map[string][]string{
	"upgrade":           {"websocket", "h2c"},
	"connection":        {"Upgrade", "keep-alive, Upgrade", "keep-alive", "close"},
	"x-forwarded-proto": {"http", "https"},
	"x-requested-with":  {"XMLHttpRequest"},
	"sec-fetch-mode":    {"cors", "navigate", "no-cors", "same-origin", "websocket"},
}

// usual tells of a value that none of the usual ones fits but for its letter case, or of which one is
// forgotten.
func (p *Pass) usual(r *config.Route, pair config.MatchPair) {
	known := usualValues[strings.ToLower(pair.Name.Value)]
	for _, m := range pair.Matches {
		if m.Regexp != nil || m.Not || len(known) == 0 || strings.Contains(m.Text, "*") || slices.Contains(known, m.Text) {
			continue
		}
		i := slices.IndexFunc(known, func(k string) bool { return strings.EqualFold(k, m.Text) })
		if i < 0 || slices.ContainsFunc(known, func(k string) bool { return fits(pair.Matches, k) && strings.EqualFold(k, m.Text) }) {
			continue
		}
		p.Report(Finding{
			Range: at(m.Range, pair.Name.Range), Message: fmt.Sprintf("%q asks for %s: %s, which is sent as %s", r.Name, pair.Name.Value, m.Text, known[i]),
			Witness: fmt.Sprintf("a request with %s: %s does not match", pair.Name.Value, known[i]), Fix: fmt.Sprintf("%q", known[i]), Edits: p.replace(m.Range, fmt.Sprintf("%q", known[i])),
		})
	}
}

// fits reports whether a value fits one of a list.
func fits(list []config.Match, value string) bool {
	return slices.ContainsFunc(list, func(m config.Match) bool {
		pattern := route.Plain(m.Text)
		return !m.Not && (m.Regexp != nil && m.Regexp.MatchString(value) || m.Regexp == nil && pattern.Match(value))
	})
}

// at returns the first place that is one.
func at(all ...hcl.Range) hcl.Range {
	for _, r := range all {
		if r.Filename != "" {
			return r
		}
	}
	return hcl.Range{}
}

// matches calls f for each text that a condition names, with the key where it stands.
func (p *Pass) matches(f func(r *config.Route, key string, m config.Match)) {
	for _, front := range p.Config.Frontends {
		for _, r := range front.Routes {
			for _, w := range r.When.Parts() {
				for _, l := range []struct {
					key  string
					list []config.Match
				}{{"host", w.Host}, {"path", w.Path}, {"method", w.Method}, {"sni", w.SNI}} {
					for _, m := range l.list {
						if !p.broken(m.Range) {
							f(r, l.key, m)
						}
					}
				}
				for _, l := range []struct {
					key   string
					pairs []config.MatchPair
				}{{"header", w.Header}, {"query", w.Query}, {"cookie", w.Cookie}} {
					for _, pair := range l.pairs {
						for _, m := range pair.Matches {
							if !p.broken(m.Range) {
								f(r, l.key+" "+pair.Name.Value, m)
							}
						}
					}
				}
			}
		}
	}
}

// looksLikeExpression returns what in a plain text has a meaning in regular expressions and hardly another one;
// empty for nothing.
func looksLikeExpression(text string) string {
	if strings.HasPrefix(text, "^") && len(text) > 1 {
		return "^"
	}
	if strings.HasSuffix(text, "$") && len(text) > 1 {
		return "$"
	}
	for _, sign := range []string{".*", ".+", "[0-9]", "[a-z]", "[A-Z]", "[^/]", "\\d", "\\w", "\\.", "(?:", "(?i)"} {
		if strings.Contains(text, sign) {
			return sign
		}
	}
	if open, close, bar := strings.Index(text, "("), strings.LastIndex(text, ")"), strings.Index(text, "|"); open >= 0 && open < bar && bar < close {
		return text[open : close+1]
	}
	return ""
}
