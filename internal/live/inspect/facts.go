// Package inspect looks at the machine a configuration is meant for: the files it
// names, the host names it resolves, its backends and listeners.
//
// check -live calls it, and the checker gets what it finds as facts. It must
// never change anything: it opens, resolves and connects.
package inspect

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"strings"
	"time"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
)

// Disk is how files are read: their content, and the permissions of one.
type Disk struct {
	Read func(name string) ([]byte, error)
	Mode func(name string) (uint32, error)
}

// Facts gathers what rules want to know of the files that a configuration names.
func Facts(c *config.Config, d Disk, now time.Time) *check.Facts {
	f := &check.Facts{Now: now, Pairs: map[check.PairName]check.PairFact{}, Files: map[string]string{}}
	for _, p := range c.Pairs() {
		name := check.PairName{Certificate: p.Certificate.Value, Key: p.Key.Value}
		if _, seen := f.Pairs[name]; !seen {
			f.Pairs[name] = pairFact(name, d)
		}
	}
	for _, a := range c.ACMEs() {
		for _, n := range a.Names {
			name := check.PairName{Certificate: a.File(n.Value), Key: a.File(n.Value)}
			f.Pairs[name] = pairFact(name, d)
		}
	}
	for _, a := range c.Authorities() {
		text, err := d.Read(a.Value)
		switch {
		case err != nil:
			f.Files[a.Value] = err.Error()
		case !x509.NewCertPool().AppendCertsFromPEM(text):
			f.Files[a.Value] = "it holds no certificate in PEM form"
		}
	}
	for _, page := range c.ErrorPages() {
		if _, err := d.Read(page.Value); err != nil {
			f.Files[page.Value] = err.Error()
		}
	}
	return f
}

func pairFact(name check.PairName, d Disk) check.PairFact {
	chain, err := d.Read(name.Certificate)
	if err != nil {
		return check.PairFact{Unreadable: err.Error()}
	}
	leaf, err := firstCertificate(chain)
	if err != nil {
		return check.PairFact{Unreadable: err.Error()}
	}
	key, err := d.Read(name.Key)
	if err != nil {
		return check.PairFact{Unreadable: err.Error(), OfKey: true}
	}
	fact := check.PairFact{From: leaf.NotBefore, Until: leaf.NotAfter, Names: leaf.DNSNames}
	for _, ip := range leaf.IPAddresses {
		fact.Names = append(fact.Names, ip.String())
	}
	if _, err := tls.X509KeyPair(chain, key); err != nil {
		if !strings.Contains(string(key), "PRIVATE KEY") {
			return check.PairFact{Unreadable: "it holds no private key in PEM form", OfKey: true}
		}
		fact.Mismatch = strings.TrimPrefix(err.Error(), "tls: ")
	}
	if mode, err := d.Mode(name.Key); err == nil {
		fact.KeyMode = mode
	}
	return fact
}

// firstCertificate reads the first certificate of a chain: the one for the site.
func firstCertificate(chain []byte) (*x509.Certificate, error) {
	for {
		var b *pem.Block
		b, chain = pem.Decode(chain)
		if b == nil {
			return nil, errors.New("it holds no certificate in PEM form")
		}
		if b.Type != "CERTIFICATE" {
			continue
		}
		c, err := x509.ParseCertificate(b.Bytes)
		if err != nil {
			return nil, errors.New("its certificate cannot be read")
		}
		return c, nil
	}
}
