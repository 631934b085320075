package inspect

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"time"

	"golang.org/x/crypto/acme"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
	"kestrix/internal/core/units"
	"kestrix/internal/live/socket"
)

// directories asks each ACME server for its directory, and looks up the names of certificates.
func (l *look) directories(c *config.Config) {
	asked := map[string]bool{}
	for _, f := range c.Frontends {
		if f.TLS == nil || f.TLS.ACME == nil {
			continue
		}
		a := f.TLS.ACME
		if !asked[a.Directory.Value] {
			asked[a.Directory.Value] = true
			l.do(func() ([]check.Seen, config.Findings) { return l.directory(f.Name, a) })
		}
		for _, n := range a.Names {
			l.do(func() ([]check.Seen, config.Findings) { return l.reached(f.Name, n) })
		}
	}
}

// directory asks for one.
func (l *look) directory(who string, a *config.ACME) ([]check.Seen, config.Findings) {
	row := check.Seen{Kind: "directory", Who: who, What: a.Directory.Value, Result: "answers", Good: true}
	no := func(message string, err error) ([]check.Seen, config.Findings) {
		row.Good, row.Result, row.Detail = false, "no answer", err.Error()
		return []check.Seen{row}, config.Findings{check.LiveFinding("KX812", a.Directory.Range, message, fmt.Sprintf("%s, after %s", row.Detail, units.Duration(round(row.Took))))}
	}
	roots, err := l.trial.Authorities(a.DirectoryCA)
	if err != nil {
		return no("the directory cannot be asked", err)
	}
	ctx, cancel := context.WithTimeout(l.ctx, 10*time.Second)
	defer cancel()
	by := &http.Transport{Proxy: http.ProxyFromEnvironment, DialContext: l.dial, TLSClientConfig: &tls.Config{RootCAs: roots}}
	defer by.CloseIdleConnections()
	client := acme.Client{DirectoryURL: a.Directory.Value, UserAgent: "kestrix", HTTPClient: &http.Client{Transport: by}, RetryBackoff: func(int, *http.Request, *http.Response) time.Duration { return -1 }}
	began := time.Now()
	d, err := client.Discover(ctx)
	row.Took = time.Since(began)
	switch {
	case err != nil:
		return no(fmt.Sprintf("the ACME server at %s does not answer", a.Directory.Value), socket.ShortError(err))
	case d.OrderURL == "":
		return no(fmt.Sprintf("%s is no directory of ACME", a.Directory.Value), errors.New("it has no newOrder (RFC 8555 section 7.1.1)"))
	case d.Terms != "" && !a.TermsAgreed:
		row.Good, row.Result, row.Detail = false, "wants consent", "its terms of service are at "+fmt.Sprintf("%q", d.Terms)
		return []check.Seen{row}, config.Findings{check.LiveFinding("KX812", a.Range, "the terms of service of the ACME server are not agreed to", fmt.Sprintf("they are at %q, and terms_agreed is false", d.Terms))}
	case d.ExternalAccountRequired && a.AccountID == "":
		row.Good, row.Result, row.Detail = false, "wants an account", "it takes external accounts only"
		return []check.Seen{row}, config.Findings{check.LiveFinding("KX812", a.Range, "the ACME server takes external accounts only", "account_id and account_key are not given")}
	}
	if d.Terms != "" {
		row.Detail = fmt.Sprintf("its terms of service are at %q, and agreed to", d.Terms)
	}
	return []check.Seen{row}, nil
}

// reached looks up a name that the server is to connect to.
func (l *look) reached(who string, n config.Placed[string]) ([]check.Seen, config.Findings) {
	ctx, cancel := context.WithTimeout(l.ctx, 5*time.Second)
	defer cancel()
	began := time.Now()
	addrs, err := l.trial.Lookup(ctx, n.Value)
	row := check.Seen{Kind: "name", Who: who, What: n.Value, Took: time.Since(began), Good: true, Result: fmt.Sprintf("%d addresses", len(addrs)), Detail: "whether they lead here is not known"}
	if len(addrs) == 1 {
		row.Result, row.Detail = "1 address", addrs[0]+"; whether it leads here is not known"
	}
	if err != nil || len(addrs) == 0 {
		row.Good, row.Result, row.Detail = false, "unresolved", "it has no address"
		if err != nil {
			row.Detail = err.Error()
		}
		return []check.Seen{row}, config.Findings{check.LiveFinding("KX813", n.Range, fmt.Sprintf("the name %s does not resolve", n.Value), fmt.Sprintf("%s, after %s", row.Detail, units.Duration(round(row.Took))))}
	}
	return []check.Seen{row}, nil
}

// obtained returns how the certificates stand that are stored.
func obtained(c *config.Config, facts *check.Facts) (rows []check.Seen) {
	for _, f := range c.Frontends {
		if f.TLS == nil || f.TLS.ACME == nil {
			continue
		}
		for _, n := range f.TLS.ACME.Names {
			file := f.TLS.ACME.File(n.Value)
			row := check.Seen{Kind: "certificate", Who: f.Name, What: file, Result: "unknown", Detail: "none can be read here: " + facts.Pairs[check.PairName{Certificate: file, Key: file}].Unreadable, Good: true}
			if x := facts.Pairs[check.PairName{Certificate: file, Key: file}]; x.Unreadable == "" {
				stands(&row, &x, facts.Now)
			}
			rows = append(rows, row)
		}
	}
	return rows
}
