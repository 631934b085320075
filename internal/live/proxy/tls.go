package proxy

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"slices"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/certificates"
)

// versions are those of TLS by their names in the language.
var versions = map[string]uint16{"1.0": tls.VersionTLS10, "1.1": tls.VersionTLS11, "1.2": tls.VersionTLS12, "1.3": tls.VersionTLS13}

// placed puts the place of a setting before an error.
func placed(at hcl.Range, err error) error {
	return fmt.Errorf("%s:%d:%d: %w", at.Filename, at.Start.Line, at.Start.Column, err)
}

// pair reads a certificate with its key.
func (p *Proxy) pair(x config.Pair) (tls.Certificate, error) {
	chain, err := p.o.ReadFile(x.Certificate.Value)
	if err != nil {
		return tls.Certificate{}, placed(x.Certificate.Range, fmt.Errorf("the certificate %s cannot be read: %w", x.Certificate.Value, err))
	}
	key, err := p.o.ReadFile(x.Key.Value)
	if err != nil {
		return tls.Certificate{}, placed(x.Key.Range, fmt.Errorf("the key %s cannot be read: %w", x.Key.Value, err))
	}
	c, err := tls.X509KeyPair(chain, key)
	if err != nil {
		return c, placed(x.Certificate.Range, fmt.Errorf("%s and %s are no certificate and key that belong together: %w", x.Certificate.Value, x.Key.Value, err))
	}
	return c, nil
}

// authorities reads a file of them.
func (p *Proxy) authorities(file config.Placed[string]) (*x509.CertPool, error) {
	if file.Value == "" {
		return nil, nil
	}
	text, err := p.o.ReadFile(file.Value)
	if err != nil {
		return nil, placed(file.Range, fmt.Errorf("%s cannot be read: %w", file.Value, err))
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, placed(file.Range, fmt.Errorf("%s holds no certificate in PEM form", file.Value))
	}
	return pool, nil
}

// frontTLS makes what a frontend needs to end TLS, nil if it does not.
func (p *Proxy) frontTLS(t *config.FrontTLS, plan *certificates.Plan) (*tls.Config, error) {
	if t == nil {
		return nil, nil
	}
	c := &tls.Config{MinVersion: versions[t.MinVersion], NextProtos: t.ALPN}
	for _, x := range t.Pairs {
		pair, err := p.pair(x)
		if err != nil {
			return nil, err
		}
		c.Certificates = append(c.Certificates, pair)
	}
	if t.ACME != nil {
		obtains(c, plan.Group(t.ACME))
	}
	ca, err := p.authorities(t.ClientCA)
	if err != nil {
		return nil, err
	}
	if ca != nil {
		c.ClientCAs, c.ClientAuth = ca, tls.VerifyClientCertIfGiven
		if t.ClientRequire {
			c.ClientAuth = tls.RequireAndVerifyClientCert
		}
	}
	return c, nil
}

// shows notes until when certificates hold that are shown, each once.
func (s *state) shows(t *config.FrontTLS, secure *tls.Config) {
	if t == nil || secure == nil {
		return
	}
	for i, pair := range t.Pairs {
		c := secure.Certificates[i]
		x := status.Certificate{File: pair.Certificate.Value}
		if c.Leaf != nil {
			x.From, x.Until = c.Leaf.NotBefore, c.Leaf.NotAfter
		}
		if !slices.ContainsFunc(s.certificates, func(o status.Certificate) bool { return o.File == x.File }) {
			s.certificates = append(s.certificates, x)
		}
	}
}

// upstreamTLS makes what an upstream needs to speak TLS with its backends, nil
// if it does not. The name is put in for each backend.
func (p *Proxy) upstreamTLS(t *config.UpstreamTLS) (*tls.Config, error) {
	if t == nil {
		return nil, nil
	}
	// What has not changed stays the same, so that connections do too.
	key := sha256.New()
	fmt.Fprintf(key, "%q %q %v\n", t.MinVersion, t.Name, t.Verify)
	for _, file := range []string{t.CA.Value, t.Pair.Certificate.Value, t.Pair.Key.Value} {
		if file != "" {
			text, _ := p.o.ReadFile(file) // what cannot be read is told below
			fmt.Fprintf(key, "%q %d %s\n", file, len(text), text)
		}
	}
	digest := [sha256.Size]byte(key.Sum(nil))
	p.tlsMu.Lock() // trials of several backends go on beside each other
	defer p.tlsMu.Unlock()
	if c := p.backTLS[digest]; c != nil {
		return c, nil
	}
	c := &tls.Config{MinVersion: versions[t.MinVersion], ServerName: t.Name, InsecureSkipVerify: !t.Verify}
	ca, err := p.authorities(t.CA)
	if err != nil {
		return nil, err
	}
	c.RootCAs = ca
	if t.Pair.Certificate.Value != "" {
		pair, err := p.pair(t.Pair)
		if err != nil {
			return nil, err
		}
		c.Certificates = []tls.Certificate{pair}
	}
	if len(p.backTLS) > 1000 { // of many renewals
		clear(p.backTLS)
	}
	p.backTLS[digest] = c
	return c, nil
}
