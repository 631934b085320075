package cli

import (
	"crypto/x509"
	"flag"
	"fmt"
	"os"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/live/control"
)

// operatorFlags say which proxy is asked, and by whom.
type operatorFlags struct {
	at       list
	ca, user string
}

// defaultControl is where control listens if its block does not say.
const defaultControl = "unix:/run/kestrix/control.sock"

func (f *operatorFlags) define(fs *flag.FlagSet) {
	fs.Var(&f.at, "at", "`ADDRESS` of the proxy's control, instead of the configuration's: unix:/path, host:port or https://host:port (default: that of the running service, else "+defaultControl+")")
	fs.StringVar(&f.ca, "ca", "", "PEM `FILE` of the CA bundle for control's certificate, instead of the system's")
	fs.StringVar(&f.user, "user", "", "`NAME` of the user; the password is read from KESTRIX_PASSWORD")
}

// client makes the way to the proxy that -at names, or a configuration.
func (f *operatorFlags) client(env *Env, file string) (*control.Client, error) {
	if len(f.at) > 1 {
		return nil, usage("-at names one proxy here; status takes several")
	}
	return f.clientOf(env, strings.Join(f.at, ""), file)
}

// clientOf is client, for one of several proxies.
func (f *operatorFlags) clientOf(env *Env, at, file string) (*control.Client, error) {
	secure := false
	switch {
	case at != "" && file != "":
		return nil, usage("-at and a configuration both say where the proxy is asked; keep one")
	case file != "":
		s, err := readConfig(file, nil)
		if err != nil {
			return nil, err
		}
		if s.config.Control == nil {
			return nil, unusable(fmt.Errorf("%s has no control block, and a proxy that serves it answers no operator: control { } makes it answer at %s", file, defaultControl))
		}
		at, secure = s.config.Control.Listen.Value.String(), s.config.Control.TLS != nil
	case at == "":
		at = runningControl(env)
	}
	for _, prefix := range []string{"https://", "http://"} {
		if len(at) > len(prefix) && at[:len(prefix)] == prefix {
			at, secure = at[len(prefix):], prefix == "https://"
		}
	}
	address, err := config.ParseAddress(at)
	if err != nil {
		return nil, usage("-at cannot be %q; it is unix:/path, host:port or https://host:port", at)
	}
	var roots *x509.CertPool
	if f.ca != "" {
		text, err := os.ReadFile(f.ca)
		if err != nil {
			return nil, unusable(fmt.Errorf("%s cannot be read: %w", f.ca, reason(err)))
		}
		if roots = x509.NewCertPool(); !roots.AppendCertsFromPEM(text) {
			return nil, unusable(fmt.Errorf("%s holds no certificate in PEM form", f.ca))
		}
	}
	c := control.NewClient(address, secure, roots)
	c.User, c.Password = f.user, env.Getenv("KESTRIX_PASSWORD")
	if f.user != "" && c.Password == "" {
		return nil, usage("-user needs the password in KESTRIX_PASSWORD")
	}
	return c, nil
}
