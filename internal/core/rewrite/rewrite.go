// Package rewrite changes the path, host and header fields of a request on its way to a
// backend, and maps paths and hosts in the response back.
//
// The proxy applies it, and why and the checker show what it would do. It must never
// start from the raw path: it works on the normal form that routes are matched against.
package rewrite

import (
	"net/netip"
	"net/url"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/peer"
	"kestrix/internal/core/request"
)

// ChangesPath reports whether a rewriting is of paths; r may be nil.
func ChangesPath(r *config.Rewrite) bool {
	return r != nil && (r.DropPrefix != "" || r.Prepend != "" || len(r.Substitute) > 0)
}

// Path returns the path that a backend is asked for. path is in normal form (see
// request.Path), which is what routes match: a prefix that a route matched is there
// to be dropped however the client spelt it, and no ".." is left that could lead
// out of what is prepended. Prefixes are of whole segments.
func Path(r *config.Rewrite, path string) string {
	if !ChangesPath(r) {
		return path
	}
	path = cut(path, request.Path(r.DropPrefix))
	for i := range r.Substitute {
		s := &r.Substitute[i]
		if m := s.Pattern.FindStringSubmatchIndex(path); m != nil {
			path = string(s.Pattern.ExpandString(nil, s.With, path, m))
			break
		}
	}
	return request.Path(r.Prepend) + path
}

// cut takes a prefix of whole segments off a path; one that is not there changes
// nothing.
func cut(path, prefix string) string {
	switch rest, ok := strings.CutPrefix(path, prefix); {
	case prefix == "" || !ok:
		return path
	case rest == "":
		return "/"
	case rest[0] == '/':
		return rest
	}
	return path
}

// back undoes Path for a path that a backend names. Paths outside of what the
// backend was asked for are left as they are.
func back(r *config.Rewrite, path string) string {
	prepend, prefix := request.Path(r.Prepend), request.Path(r.DropPrefix)
	if !within(path, prepend) {
		return path
	}
	path = cut(path, prepend)
	if prefix == "" {
		return path
	}
	if path == "/" {
		return prefix
	}
	return prefix + path
}

func within(path, prefix string) bool {
	rest, ok := strings.CutPrefix(path, prefix)
	return ok && (prefix == "" || rest == "" || rest[0] == '/')
}

// Hosts are the names under which one request was asked and passed on.
type Hosts struct {
	Client  string // as the client wrote it, with its port
	Backend string // as the backend was told
	Address string // of the backend
	Scheme  string // of the client: http or https
}

// Location maps a Location field (RFC 9110 section 10.2.2) back: a client that
// follows it comes through here again. Other sites are left alone.
func Location(r *config.Rewrite, h Hosts, value string) string {
	if r == nil {
		return value
	}
	u, err := url.Parse(value)
	if err != nil || u.Opaque != "" {
		return value
	}
	own := u.Host == "" || strings.EqualFold(u.Host, h.Backend) || strings.EqualFold(u.Host, h.Client) || strings.EqualFold(u.Host, h.Address)
	if !own || u.Host == "" && !strings.HasPrefix(u.Path, "/") {
		return value
	}
	if u.Host != "" {
		u.Scheme, u.Host = h.Scheme, h.Client
	}
	path := back(r, u.EscapedPath())
	if decoded, err := url.PathUnescape(path); err == nil {
		u.Path, u.RawPath = decoded, path
	}
	return u.String()
}

// Cookie maps the path of a Set-Cookie field (RFC 6265 section 4.1) back, and
// takes out a domain that is the backend's own: the cookie then belongs to the
// host the client asked.
func Cookie(r *config.Rewrite, h Hosts, value string) string {
	if r == nil {
		return value
	}
	parts := strings.Split(value, ";")
	kept := parts[:1]
	for _, p := range parts[1:] {
		name, v, _ := strings.Cut(strings.TrimSpace(p), "=")
		switch strings.ToLower(name) {
		case "path":
			if strings.HasPrefix(v, "/") {
				p = " Path=" + back(r, v)
			}
		case "domain":
			domain := strings.TrimPrefix(strings.ToLower(v), ".")
			if r.Host != "" && domain == strings.ToLower(hostOnly(h.Backend)) {
				continue
			}
		}
		kept = append(kept, p)
	}
	return strings.Join(kept, ";")
}

func hostOnly(host string) string {
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") {
		return host[:i]
	}
	return host
}

// Facts are what the values of header fields may speak of.
type Facts struct {
	Backend, Route, Upstream, Reason, Cause, Client, Host string
	Attempts                                              string
}

// Expand puts facts in the places of their names in braces.
func Expand(value string, f *Facts) string {
	if !strings.Contains(value, "{") {
		return value
	}
	return strings.NewReplacer(
		"{backend}", f.Backend, "{route}", f.Route, "{upstream}", f.Upstream, "{reason}", f.Reason, "{cause}", f.Cause,
		"{client}", f.Client, "{host}", f.Host, "{attempts}", f.Attempts,
	).Replace(value)
}

// Concerns reports whether edits are made for a client; one without an address is
// in no network.
func Concerns(e *config.FieldEdits, client string) bool {
	if len(e.Clients) == 0 {
		return true
	}
	a, err := netip.ParseAddr(client)
	return err == nil && peer.Inside(e.Clients, a.Unmap())
}

// Fields changes header fields: removed first, then set, then added. Names are
// in canonical form. Edits that are for certain clients only are made for those.
func Fields(h map[string][]string, e *config.FieldEdits, f *Facts) {
	if e == nil || !Concerns(e, f.Client) {
		return
	}
	for _, name := range e.Remove {
		delete(h, name)
	}
	for _, s := range e.Set {
		h[s.Name] = []string{Expand(s.Value, f)}
	}
	for _, a := range e.Add {
		h[a.Name] = append(h[a.Name], Expand(a.Value, f))
	}
}
