package check

import (
	"time"

	"kestrix/internal/core/config"
)

// Facts are what is known of the world besides the configuration: the time, and
// the files it names. They are gathered outside and handed in.
type Facts struct {
	Now   time.Time
	Pairs map[PairName]PairFact
	Files map[string]string // other files: what is wrong with each, empty for nothing
}

// PairName names a certificate and its key as the configuration does.
type PairName struct{ Certificate, Key string }

// PairFact is what is known of a certificate and its key.
type PairFact struct {
	Unreadable  string // why one of the two cannot be read; then nothing else is known
	OfKey       bool   // it is the key that cannot be read
	Mismatch    string // why the two do not belong together
	Names       []string
	From, Until time.Time // when the certificate holds
	KeyMode     uint32    // permissions of the key's file
}

// pairs calls f for each certificate of a configuration whose facts are known.
func (p *Pass) pairs(f func(config.Pair, *config.Frontend, PairFact)) {
	if p.Facts == nil {
		return
	}
	each := func(x config.Pair, front *config.Frontend) {
		if x.Certificate.Value == "" {
			return
		}
		if fact, ok := p.Facts.Pairs[PairName{x.Certificate.Value, x.Key.Value}]; ok {
			f(x, front, fact)
		}
	}
	for _, pair := range Pairs(p.Config) {
		each(pair.Pair, pair.Frontend)
	}
}

// UsedPair is a certificate with its key and, if one shows it, the frontend.
type UsedPair struct {
	config.Pair
	Frontend *config.Frontend // nil for control and towards backends
}

// Pairs lists the certificates that a configuration names.
func Pairs(c *config.Config) []UsedPair {
	var out []UsedPair
	for _, f := range c.Frontends {
		if f.TLS != nil {
			for _, x := range f.TLS.Pairs {
				out = append(out, UsedPair{x, f})
			}
		}
	}
	for _, u := range c.Upstreams {
		if u.TLS != nil && u.TLS.Pair.Certificate.Value != "" {
			out = append(out, UsedPair{u.TLS.Pair, nil})
		}
	}
	if c.Control != nil && c.Control.TLS != nil {
		for _, x := range c.Control.TLS.Pairs {
			out = append(out, UsedPair{x, nil})
		}
	}
	return out
}

// Authorities lists the other files that a configuration names, each once.
func Authorities(c *config.Config) []config.Placed[string] {
	var out []config.Placed[string]
	seen := map[string]bool{}
	add := func(f config.Placed[string]) {
		if f.Value != "" && !seen[f.Value] {
			seen[f.Value] = true
			out = append(out, f)
		}
	}
	for _, f := range c.Frontends {
		if f.TLS != nil {
			add(f.TLS.ClientCA)
		}
	}
	for _, u := range c.Upstreams {
		if u.TLS != nil {
			add(u.TLS.CA)
		}
	}
	return out
}

// ErrorPages lists the pages of their own that frontends answer errors with.
func ErrorPages(c *config.Config) []config.Placed[string] {
	var out []config.Placed[string]
	for _, f := range c.Frontends {
		for _, p := range f.Errors.Pages {
			out = append(out, p.File)
		}
	}
	return out
}
