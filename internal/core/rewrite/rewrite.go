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
	Scheme  string // of the client: http or https
	Backend string // as the backend was told
	Address string // of the backend
	Spoken  string // the scheme that is spoken with the backend
}

// origin returns scheme, host and port, without the port that goes without saying (RFC 6454
// section 4).
func origin(scheme, host string) string {
	port := map[string]string{"http": ":80", "https": ":443"}[scheme]
	return scheme + "://" + strings.TrimSuffix(strings.ToLower(host), port)
}

// Location maps a Location field (RFC 9110 section 10.2.2) back, so that a client that
// follows it comes through here again: an origin by which the backend was addressed becomes
// the client's, and a path of the backend's the one that the client has to ask for. An
// application that sends its client to the same host by another scheme or port knows what
// it does: its path alone is mapped. Other sites are left alone.
func Location(r *config.Rewrite, h Hosts, value string) string {
	if r == nil || !r.MapLocation {
		return value
	}
	u, err := url.Parse(value)
	if err != nil || u.Opaque != "" || u.Host == "" && (u.Scheme != "" || !strings.HasPrefix(u.Path, "/")) {
		return value
	}
	if u.Host != "" {
		scheme := u.Scheme
		if scheme == "" { // that of the request, as the backend knows it
			scheme = h.Spoken
		}
		switch at := origin(scheme, u.Host); {
		case at == origin(h.Spoken, h.Backend), at == origin(h.Spoken, h.Address):
			if u.Host = h.Client; u.Scheme != "" {
				u.Scheme = h.Scheme
			}
		case !strings.EqualFold(hostOnly(u.Host), hostOnly(h.Client)):
			return value
		}
	}
	path := back(r, u.EscapedPath())
	if r.RedirectsBare() && path == request.Path(r.DropPrefix) {
		path += "/" // without it the client would be redirected once more
	}
	if decoded, err := url.PathUnescape(path); err == nil {
		u.Path, u.RawPath = decoded, path
	}
	return u.String()
}

// Dropped returns the prefix that is taken off a path in normal form; empty if none is.
func Dropped(r *config.Rewrite, path string) string {
	if r == nil || r.DropPrefix == "" {
		return ""
	}
	if prefix := request.Path(r.DropPrefix); within(path, prefix) {
		return prefix
	}
	return ""
}

// Cookie maps the path of a Set-Cookie field (RFC 6265 section 4.1) back, and takes out a
// domain that is the backend's own: the cookie then belongs to the host the client asked.
// Clients take a cookie of the prefix __Host- for the path / only, which it keeps.
func Cookie(r *config.Rewrite, h Hosts, value string) string {
	if r == nil || !r.MapCookies {
		return value
	}
	parts := strings.Split(value, ";")
	kept := parts[:1]
	whole := strings.HasPrefix(strings.TrimSpace(parts[0]), "__Host-")
	for _, p := range parts[1:] {
		name, v, _ := strings.Cut(strings.TrimSpace(p), "=")
		switch strings.ToLower(name) {
		case "path":
			if strings.HasPrefix(v, "/") && !whole {
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
	Attempts, RequestID                                   string
}

// Expand puts facts in the places of their names in braces.
func Expand(value string, f *Facts) string {
	if !strings.Contains(value, "{") {
		return value
	}
	return strings.NewReplacer(
		"{backend}", f.Backend, "{route}", f.Route, "{upstream}", f.Upstream, "{reason}", f.Reason, "{cause}", f.Cause,
		"{client}", f.Client, "{host}", f.Host, "{attempts}", f.Attempts, "{request_id}", f.RequestID,
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
