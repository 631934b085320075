// Package certificates obtains certificates by ACME (RFC 8555) and keeps them: those of the
// frontends with a block acme. The library obtains and renews, in the background; handshakes take
// what there is. So it must never have a connection wait for a server or a disk, but for a
// challenge of another proxy that shares the storage.
package certificates

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/acme"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
)

// Options of a Set.
type Options struct {
	// Tell takes what happens to the certificate of a name. It must be safe for concurrent use.
	Tell func(name string, kind status.EventKind, format string, args ...any)
	// Path returns the path of a folder that a configuration names.
	Path func(name string) string
	// Authorities reads a file of certificate authorities; empty gives nil.
	Authorities func(file config.Placed[string]) (*x509.CertPool, error)
	// Ready is closed when challenges can be answered.
	Ready <-chan struct{}
}

// Set holds the certificates of the configuration in force. Its methods may be called from any
// goroutine.
type Set struct {
	o   Options
	mu  sync.Mutex // guards all
	all map[identity]*certificate
	now atomic.Pointer[[]*certificate] // those in force, each name of an account once
}

// NewSet makes one without certificates.
func NewSet(o Options) *Set {
	s := &Set{o: o, all: map[identity]*certificate{}}
	s.now.Store(&[]*certificate{})
	return s
}

// identity is what a certificate is obtained with. A change of any makes another of it.
type identity struct {
	name, directory, storage, contact, ca, accountID, accountKey string
	terms, http                                                  bool
}

// Plan is what a configuration wants; Use puts it in force.
type Plan struct {
	all    map[identity]*certificate
	groups map[*config.ACME]*Group
}

// Plan makes the plan of a configuration, and changes nothing. An error is that of a file.
func (s *Set) Plan(c *config.Config) (*Plan, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := &Plan{all: map[identity]*certificate{}, groups: map[*config.ACME]*Group{}}
	plain := slices.ContainsFunc(c.Frontends, func(f *config.Frontend) bool { return f.Protocol == "http" && f.TLS == nil })
	for _, a := range c.ACMEs() {
		authorities, err := s.o.Authorities(a.DirectoryCA)
		if err != nil {
			return nil, err
		}
		g := &Group{}
		for _, n := range a.Names {
			id := identity{name: n.Value, directory: a.Directory.Value, storage: s.o.Path(a.Storage.Value), contact: a.Contact, ca: a.DirectoryCA.Value, accountID: a.AccountID, accountKey: string(a.AccountKey), terms: a.TermsAgreed, http: plain}
			c := p.all[id]
			if c == nil {
				c = s.all[id]
			}
			if c == nil || !c.roots.Equal(authorities) {
				c = newCertificate(&s.o, id, a.File(n.Value), authorities)
				for old, o := range s.all { // the one before goes on until there is another, stored or not
					if old.name == id.name && old.directory == id.directory {
						c.inherit(o)
					}
				}
			}
			p.all[id] = c
			g.names = append(g.names, c)
		}
		p.groups[a] = g
	}
	return p, nil
}

// Group returns the certificates of a block of the plan's configuration.
func (p *Plan) Group(a *config.ACME) *Group { return p.groups[a] }

// Use puts a plan in force: what is new begins, what has failed is attempted again now, and what is not
// in it any more ends.
func (s *Set) Use(p *Plan) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, c := range p.all {
		if s.all[id] != c {
			go c.run()
		} else {
			c.kick()
		}
	}
	for id, c := range s.all {
		if p.all[id] != c {
			c.end()
		}
	}
	s.all = p.all
	now := slices.SortedFunc(maps.Values(p.all), func(a, b *certificate) int { return strings.Compare(a.id.name, b.id.name) })
	s.now.Store(&now)
}

// Close ends all of them.
func (s *Set) Close() { s.Use(&Plan{}) }

// Status returns how the certificates stand.
func (s *Set) Status() []status.Certificate {
	var out []status.Certificate
	for _, c := range *s.now.Load() {
		out = append(out, c.status())
	}
	return out
}

// Group holds the certificates of a block acme.
type Group struct{ names []*certificate }

// Certificate returns that for the name that a client asks for, without a name or for another
// one the first. It is nil if there is none yet. An expired one is better than none: it is
// returned unless there are others besides.
func (g *Group) Certificate(name string, others bool) *tls.Certificate {
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	i := slices.IndexFunc(g.names, func(c *certificate) bool { return c.id.name == name })
	if i < 0 {
		if others || len(g.names) == 0 {
			return nil
		}
		i = 0
	}
	c := g.names[i].current.Load()
	if c != nil && others && time.Now().After(c.Leaf.NotAfter) {
		return nil
	}
	return c
}

// Asks reports whether a handshake is a challenge of tls-alpn-01 (RFC 8737 section 3).
func Asks(h *tls.ClientHelloInfo) bool {
	return len(h.SupportedProtos) == 1 && h.SupportedProtos[0] == acme.ALPNProto
}

// Challenge returns what a challenge of tls-alpn-01 for a name is answered with, nil for nothing.
func (g *Group) Challenge(ctx context.Context, name string) *tls.Config {
	for _, c := range g.names {
		if !strings.EqualFold(c.id.name, name) {
			continue
		}
		text := c.token(ctx, c.id.name+"+token")
		if pair, err := tls.X509KeyPair(text, text); err == nil {
			return &tls.Config{Certificates: []tls.Certificate{pair}, NextProtos: []string{acme.ALPNProto}, MinVersion: tls.VersionTLS12}
		}
	}
	return nil
}

// challengePath is where the tokens of http-01 are asked for (RFC 8555 section 8.3).
const challengePath = "/.well-known/acme-challenge/"

// Token returns the answer to a request that is a challenge of http-01; nil for none.
func (s *Set) Token(ctx context.Context, host, path string) []byte {
	all := *s.now.Load()
	if len(all) == 0 {
		return nil
	}
	token, ok := strings.CutPrefix(path, challengePath)
	if !ok || token == "" || len(token) > 128 || strings.ContainsFunc(token, notToken) {
		return nil
	}
	host, _, _ = strings.Cut(host, ":")
	for _, c := range all {
		if strings.EqualFold(c.id.name, host) {
			if text := c.token(ctx, token+"+http-01"); text != nil {
				return text
			}
		}
	}
	return nil
}

// notToken reports whether a character is not one of base64url, of which tokens are.
func notToken(r rune) bool {
	return !(r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '-' || r == '_')
}
