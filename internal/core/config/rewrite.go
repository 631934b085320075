package config

import (
	"fmt"
	"net/netip"
	"net/textproto"
	"regexp"
	"strconv"
	"strings"

	"github.com/hashicorp/hcl/v2"
)

// Rewrite is how a route changes a request on its way to a backend.
type Rewrite struct {
	Range      hcl.Range
	DropPrefix string // whole segments, without a / at the end; empty for none
	Prepend    string // likewise
	Host       string // empty: as asked
	Substitute []Substitution
	// MapLocation and MapCookies: what a response says of the backend's own addresses and
	// paths is mapped back to the client's.
	MapLocation, MapCookies bool
	// ServeBare: a path that is DropPrefix and nothing more is passed on, instead of being
	// redirected to the one with a / behind it.
	ServeBare bool
}

// RedirectsBare reports whether a path that is DropPrefix and nothing more is redirected; r
// may be nil.
func (r *Rewrite) RedirectsBare() bool { return r != nil && r.DropPrefix != "" && !r.ServeBare }

// Substitution gives a path that fits a pattern another form.
type Substitution struct {
	Range   hcl.Range
	Pattern *regexp.Regexp // must fit the whole path
	Text    string         // as written
	With    string         // may hold $1, $2 ...
}

// Equal reports whether two substitutions are written alike.
func (s Substitution) Equal(o Substitution) bool { return s.Text == o.Text && s.With == o.With }

// Headers is how a route changes header fields.
type Headers struct {
	Range   hcl.Range
	Request *FieldEdits // nil: none
	Answer  *FieldEdits
}

// FieldEdits are changes of header fields; names are in canonical form.
type FieldEdits struct {
	Set, Add []FieldValue
	Remove   []string
	Clients  []netip.Prefix // for these only; none: for all
}

// FieldValue is a header field and its value, which may hold facts in braces.
type FieldValue struct{ Name, Value string }

// HeaderVariables are the names that are replaced in the values of header fields, in braces.
var HeaderVariables = []Variable{
	{"attempts", "number of attempts"},
	{"backend", "name of the backend"},
	{"cause", "cause of the failure; empty without one"},
	{"client", "address of the client"},
	{"host", "host that was requested"},
	{"reason", "reason for the choice of the backend"},
	{"request_id", "id of the request among all proxies"},
	{"route", "name of the route"},
	{"upstream", "name of the upstream"},
}

var rewriteBlock = &Block{
	Name: "rewrite",
	Help: "changes to the request for the backend, and to its response",
	Keys: []*Key{
		{Name: "drop_prefix", Type: Text, Help: "prefix that is removed from the normal form of the path, by whole segments. X-Forwarded-Prefix tells the backend", Example: `"/app"`},
		{Name: "prepend", Type: Text, Help: "prefix that is added to the normal form of the path, after drop_prefix. No .. of a client leads out of it", Example: `"/v2"`},
		{Name: "substitute", Ordered: true, Type: FieldTable, Help: "replacements of the path by regular expressions (RE2). An expression must match the whole path in normal form, after drop_prefix; $1 is the first group. The first match counts. Redirects are not mapped back",
			Example: `{ "/seat/([0-9]+)" = "/seats/$1" }`},
		{Name: "map_back", Type: Texts, Empty: true, Default: `["location", "cookies"]`, Why: "without them redirects and cookies of the backend name paths that clients cannot reach", Help: "parts of the response that are mapped back to the client's view; [] is none.\nlocation: scheme, host, port and path in Location and Content-Location.\ncookies: paths of cookies, and a domain equal to host is removed", Example: `["cookies"]`},
		{Name: "bare_prefix", Type: Text, Default: `"redirect"`, Why: "relative links of a page work only below the slash", Allowed: []string{"redirect", "serve"}, Meanings: []string{"redirect to /app/ (308), so that relative links work", "forward it as /"}, Help: "treatment of a path that equals drop_prefix, such as /app", Example: `"serve"`},
		{Name: "host", Type: Text, Help: "host for the backend, instead of the requested one", Example: `"app.inside.example"`},
	},
}

var headersBlock = &Block{
	Name: "headers",
	Help: "changes to header fields. Values may contain the variables below, in braces", Variables: HeaderVariables,
	Blocks: []*Block{
		{Name: "request", Help: "changes to the request, after the proxy has written its forwarded fields", Keys: fieldKeys},
		{Name: "answer", Help: "changes to the response", Keys: fieldKeys},
	},
}

var fieldKeys = []*Key{
	{Name: "set", Type: FieldTable, Help: "fields to set; existing values are replaced", Example: `{ "Tern-Backend" = "{backend}" }`},
	{Name: "add", Ordered: true, Type: FieldTable, Help: "fields to add; existing values stay", Example: `{ "Cache-Control" = "no-store" }`},
	{Name: "remove", Type: Texts, Help: "fields to remove", Example: `["Server"]`},
	{Name: "clients", Type: Nets, Help: "networks of the clients for which these changes apply; all clients if not given", Example: `["203.0.113.0/24"]`},
}

// rewrite reads how a route changes a request.
func (d *Decoder) rewrite(n *Node) *Rewrite {
	r := &Rewrite{Range: n.Range, DropPrefix: Get[string](n, "drop_prefix"), Prepend: Get[string](n, "prepend"), Host: Get[string](n, "host")}
	r.ServeBare = Get[string](n, "bare_prefix") == "serve"
	for _, what := range Get[[]Placed[string]](n, "map_back") {
		switch what.Value {
		case "location":
			r.MapLocation = true
		case "cookies":
			r.MapCookies = true
		default:
			d.Add(IDChoice, what.Range, fmt.Sprintf("%q cannot be mapped back", shorten(what.Value)), DidYouMean(what.Value, []string{"location", "cookies"}))
		}
	}
	r.Substitute = d.substitutions(n)
	for key, v := range map[string]*string{"drop_prefix": &r.DropPrefix, "prepend": &r.Prepend} {
		if !n.Has(key) || *v == "" {
			continue
		}
		if !strings.HasPrefix(*v, "/") || strings.ContainsAny(*v, "?#*") || strings.ContainsFunc(*v, func(r rune) bool { return r <= ' ' || r == 0x7f }) {
			d.Add(IDType, n.At(key), fmt.Sprintf("%s = %q is not the beginning of a path", key, shorten(*v)), "like \"/app\", without query and wildcards")
			*v = ""
		}
		*v = strings.TrimSuffix(*v, "/")
	}
	if n.Has("host") && r.Host != "" {
		host, port, hasPort := strings.Cut(r.Host, ":")
		if err := hostName(host); err != nil || hasPort && strings.Trim(port, "0123456789") != "" {
			d.Add(IDType, n.At("host"), fmt.Sprintf("%q is not a host", shorten(r.Host)), "like \"app.inside.example\" or \"app.inside.example:8080\"")
		}
	}
	return r
}

// substitutions reads patterns of paths and what stands in their place.
func (d *Decoder) substitutions(n *Node) []Substitution {
	var out []Substitution
	for _, p := range Get[[]FieldPair](n, "substitute") {
		re, err := regexp.Compile("^(?:" + p.Name.Value + ")$")
		switch {
		case len(p.Name.Value) > maxRegexp:
			d.Add(IDLimit, p.Name.Range, fmt.Sprintf("the regular expression is longer than %d characters", maxRegexp), "")
			continue
		case err != nil:
			d.Add(IDType, p.Name.Range, fmt.Sprintf("%q is not a regular expression", shorten(p.Name.Value)), "the syntax is RE2's; a backslash is written twice: \"\\\\d+\"")
			continue
		case !strings.HasPrefix(p.Value.Value, "/") || strings.ContainsAny(p.Value.Value, "?#") || strings.ContainsFunc(p.Value.Value, func(r rune) bool { return r <= ' ' || r == 0x7f }):
			d.Add(IDType, p.Value.Range, fmt.Sprintf("%q is not a path", shorten(p.Value.Value)), "like \"/seats/$1\", without query")
			continue
		}
		for _, m := range dollar.FindAllStringSubmatch(p.Value.Value, -1) {
			if g, err := strconv.Atoi(m[1]); err != nil || g > re.NumSubexp() {
				d.Add(IDReference, p.Value.Range, fmt.Sprintf("$%s refers to no group: the pattern has %d", m[1], re.NumSubexp()), "$1 is the first group, in parentheses")
			}
		}
		out = append(out, Substitution{p.Name.Range, re, p.Name.Value, p.Value.Value})
	}
	return out
}

var dollar = regexp.MustCompile(`\$([0-9A-Za-z_]*)`)

// headers reads how a route changes header fields.
func (d *Decoder) headers(n *Node) *Headers {
	h := &Headers{Range: n.Range}
	if x := n.One("request"); x != nil {
		h.Request = d.edits(x)
	}
	if x := n.One("answer"); x != nil {
		h.Answer = d.edits(x)
	}
	return h
}

var inBraces = regexp.MustCompile(`\{([^{}]*)\}`)

// framing are fields on which the shape of a message rests; changing them would
// break it or let one message pass for two (RFC 9112 section 11.2).
var framing = map[string]bool{"Content-Length": true, "Transfer-Encoding": true, "Connection": true, "Host": true, "Upgrade": true, "Te": true, "Trailer": true}

func (d *Decoder) edits(n *Node) *FieldEdits {
	e := &FieldEdits{Clients: Get[[]netip.Prefix](n, "clients")}
	name := func(p Placed[string]) string { return d.fieldName(p, "rewrite { host = \"...\" } changes it") }
	for _, t := range []struct {
		key  string
		into *[]FieldValue
	}{{"set", &e.Set}, {"add", &e.Add}} {
		for _, p := range Get[[]FieldPair](n, t.key) {
			for _, m := range inBraces.FindAllStringSubmatch(p.Value.Value, -1) {
				if names := variableNames(HeaderVariables); !containsText(names, m[0]) {
					d.Add(IDReference, p.Value.Range, fmt.Sprintf("there is no variable {%s}", shorten(m[1])), DidYouMean(m[0], names))
				}
			}
			d.fieldValue(p.Value)
			*t.into = append(*t.into, FieldValue{name(p.Name), p.Value.Value})
		}
	}
	for _, r := range Get[[]Placed[string]](n, "remove") {
		e.Remove = append(e.Remove, name(r))
	}
	return e
}

// fieldName returns the name of a header field as it is sent, and reports one that cannot be: host says what to do
// instead of setting Host.
func (d *Decoder) fieldName(p Placed[string], host string) string {
	canonical := textproto.CanonicalMIMEHeaderKey(p.Value)
	switch {
	case p.Value == "" || strings.ContainsFunc(p.Value, func(r rune) bool { return r <= ' ' || r >= 0x7f || strings.ContainsRune("()<>@,;:\\\"/[]?={}", r) }):
		d.Add(IDType, p.Range, fmt.Sprintf("%q cannot be the name of a header field", shorten(p.Value)), "letters, digits and -")
	case framing[canonical]:
		hint := "the proxy writes it as each message needs it"
		if canonical == "Host" {
			hint = host
		}
		d.Add(IDType, p.Range, fmt.Sprintf("the field %s cannot be changed", canonical), hint)
	}
	return canonical
}

// fieldValue reports a value that no header field can have.
func (d *Decoder) fieldValue(p Placed[string]) {
	if strings.ContainsFunc(p.Value, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }) {
		d.Add(IDType, p.Range, "the value of a header field holds a control character", "one line of text")
	}
}

func containsText(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}
