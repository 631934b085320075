package inspect

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/hashicorp/hcl/v2"
	"golang.org/x/crypto/bcrypt"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
	"kestrix/internal/core/units"
	"kestrix/internal/live/proxy"
)

// atOnce is how many things are tried at the same time.
const atOnce = 256

// Live looks at the machine: whether names resolve, backends answer, probes pass,
// listeners can be bound, and what serve writes can be written, to a journal as well unless
// that is empty. It returns what was seen, in the order of the
// configuration, and what is wrong with it. When ctx ends, it returns what there
// is so far.
func Live(ctx context.Context, c *config.Config, facts *check.Facts, journal string, o proxy.Options) ([]check.Seen, config.Findings) {
	l := &look{ctx: ctx, trial: proxy.NewDryRun(o), path: o.Path, dial: o.Dial, room: make(chan struct{}, atOnce)}
	if l.dial == nil {
		l.dial = new(net.Dialer).DialContext
	}
	l.names(c)
	for _, u := range c.Upstreams {
		for _, b := range u.Backends {
			l.do(func() ([]check.Seen, config.Findings) { return l.backend(u, b) })
		}
	}
	for _, f := range c.Frontends {
		for _, a := range f.Listen {
			l.do(func() ([]check.Seen, config.Findings) { return l.listener(f.Name, a) })
		}
	}
	if c.Control != nil {
		l.do(func() ([]check.Seen, config.Findings) { return l.listener("control", c.Control.Listen) })
		for _, u := range c.Control.Users {
			l.do(func() ([]check.Seen, config.Findings) { return password(u) })
		}
	}
	l.directories(c)
	l.written(c, journal)
	l.wait.Wait()
	var rows []check.Seen
	var found config.Findings
	for _, r := range l.results {
		rows = append(rows, r.rows...)
		found = append(found, r.found...)
	}
	return append(rows, certificates(c, facts)...), found
}

type look struct {
	ctx     context.Context
	trial   *proxy.DryRun
	path    func(name string) string // nil: as it is
	dial    func(ctx context.Context, network, address string) (net.Conn, error)
	wait    sync.WaitGroup
	room    chan struct{}
	results []*result
}

type result struct {
	rows  []check.Seen
	found config.Findings
}

// do tries something beside the others; its place among the results is that of
// the call.
func (l *look) do(f func() ([]check.Seen, config.Findings)) {
	r := &result{}
	l.results = append(l.results, r)
	select {
	case l.room <- struct{}{}:
	case <-l.ctx.Done():
		return
	}
	l.wait.Go(func() {
		r.rows, r.found = f()
		<-l.room
	})
}

// names looks each name up once.
func (l *look) names(c *config.Config) {
	type use struct {
		at   hcl.Range
		who  string
		once bool // a backend, of which the name counts as one
	}
	first := map[config.Address]use{}
	var order []config.Address
	add := func(a config.Address, at hcl.Range, who string, once bool) {
		if _, isIP := a.IP(); isIP || a.Unix != "" {
			return
		}
		if a.Port = 0; first[a].who == "" {
			first[a] = use{at, who, once}
			order = append(order, a)
		}
	}
	for _, u := range c.Upstreams {
		for _, b := range u.Backends {
			add(b.Address, b.AddressAt, u.Name+"."+b.Name, !u.ResolveEach)
		}
	}
	for _, f := range c.Frontends {
		for _, a := range f.Listen {
			add(a.Value, a.Range, f.Name, false)
		}
	}
	for _, name := range order {
		u, host := first[name], name.Host
		l.do(func() ([]check.Seen, config.Findings) {
			ctx, cancel := context.WithTimeout(l.ctx, 5*time.Second)
			defer cancel()
			began := time.Now()
			look := l.trial.Lookup
			if name.Service {
				look = l.trial.Services
			}
			addrs, err := look(ctx, host)
			row := check.Seen{Kind: "name", Who: u.who, What: host, Took: time.Since(began), Good: true}
			if err != nil || len(addrs) == 0 {
				row.Good, row.Result, row.Detail = false, "unresolved", "it has no address"
				if err != nil {
					row.Detail = err.Error()
				}
				return []check.Seen{row}, config.Findings{check.LiveFinding("KX801", u.at, fmt.Sprintf("the name %s does not resolve", host), fmt.Sprintf("%s, after %s", row.Detail, units.Duration(round(row.Took))))}
			}
			row.Result = fmt.Sprintf("%d %s", len(addrs), map[bool]string{false: "addresses", true: "servers"}[name.Service])
			if len(addrs) == 1 {
				row.Result = map[bool]string{false: "1 address", true: "1 server"}[name.Service]
			}
			row.Detail = strings.Join(addrs, ", ")
			if u.once && severalOfAKind(addrs) {
				return []check.Seen{row}, config.Findings{check.LiveFinding("KX811", u.at, fmt.Sprintf("the name %s has %d addresses, and %s is one backend", host, len(addrs), u.who), row.Detail)}
			}
			return []check.Seen{row}, nil
		})
	}
}

// severalOfAKind reports whether there are two addresses of IPv4 or of IPv6; one of each is one server.
func severalOfAKind(addrs []string) bool {
	four, six := 0, 0
	for _, a := range addrs {
		if strings.Contains(a, ":") {
			six++
		} else {
			four++
		}
	}
	return max(four, six) > 1
}

func (l *look) backend(u *config.Upstream, b config.Backend) ([]check.Seen, config.Findings) {
	who := u.Name + "." + b.Name
	if b.Address.Service {
		return []check.Seen{{Kind: "backend", Who: who, What: b.Address.String(), Result: "unknown", Detail: "the servers of a service are looked up, and not tried", Good: true}}, nil
	}
	a := l.trial.Backend(u, b)
	took, err, probe, probing := a.Connected, a.Connecting, a.Probe, a.Probed
	row := check.Seen{Kind: "backend", Who: who, What: b.Address.String(), Result: "connects", Took: took, Good: true}
	if u.TLS != nil {
		row.Result = "connects, TLS"
	}
	if err != nil {
		row.Good, row.Result, row.Detail = false, proxy.ConnectWord(err), err.Error()
		id := map[string]string{"refused": "KX802", "silent": "KX803", "unreachable": "KX804", "forbidden": "KX804"}[row.Result]
		words := map[string]string{"refused": "refuses connections", "silent": "is silent", "unreachable": "cannot be reached", "forbidden": "may not be connected to", "failed": "cannot be connected with"}[row.Result]
		switch row.Result {
		case "unresolved":
			row.Detail = "its name does not resolve"
			return []check.Seen{row}, nil // that has a finding of its own
		case "refused":
			row.Detail = "nothing listens there, or a packet filter rejects: both look alike"
		case "silent":
			row.Detail = fmt.Sprintf("no answer within %s, as behind a packet filter that drops, or from a machine that is off", units.Duration(u.Timeouts.Connect))
		case "unreachable":
			row.Detail = "there is no way to it from here, or a packet filter rejects (ICMP)"
		case "forbidden":
			row.Detail = "a packet filter or policy of this machine forbids it"
		default:
			id = "KX805"
		}
		return []check.Seen{row}, config.Findings{check.LiveFinding(id, b.AddressAt, fmt.Sprintf("%s at %s %s", who, b.Address, words), fmt.Sprintf("connecting: %s, after %s", row.Detail, units.Duration(round(took))))}
	}
	rows := []check.Seen{row}
	if probe == nil {
		return rows, nil
	}
	p := check.Seen{Kind: "probe", Who: who, What: u.Probe.Of().What(u.Probe), Result: "passes", Took: probing, Good: probe.Passed}
	if r := probe.Report; r != nil {
		p.Detail = fmt.Sprintf("it asks for %.0f%% of its weight", 100*r.Share)
	}
	if probe.Passed {
		return append(rows, p), nil
	}
	p.Result, p.Detail = "fails", probe.Why
	return append(rows, p), config.Findings{check.LiveFinding("KX806", b.AddressAt, fmt.Sprintf("the probe of %s fails", who), fmt.Sprintf("%s: %s, after %s", p.What, probe.Why, units.Duration(round(probing))))}
}

func (l *look) listener(who string, a config.Placed[config.Address]) ([]check.Seen, config.Findings) {
	row := check.Seen{Kind: "listener", Who: who, What: a.Value.String(), Result: "free", Good: true}
	if err := l.trial.Listener(a.Value); err != nil {
		why := strings.TrimPrefix(err.Error(), a.Value.String()+" cannot be listened on: ")
		f := check.LiveFinding("KX807", a.Range, fmt.Sprintf("%s cannot be listened on", a.Value), why)
		row.Good, row.Result, row.Detail = false, "taken", why
		switch {
		case errors.Is(err, fs.ErrNotExist):
			row.Result, f.Why, f.Fix = "no folder", "the proxy does not start; the systemd unit creates /run/kestrix when it starts the proxy", "create the folder, or choose another"
		case errors.Is(err, fs.ErrPermission):
			row.Result, f.Why, f.Fix = "forbidden", "the proxy does not start as this user", "check as the user of the service, with its privileges"
		case errors.Is(err, syscall.EADDRNOTAVAIL):
			row.Result, f.Why, f.Fix = "not here", "the proxy does not start on this machine", "an address of this machine, or 0.0.0.0 or [::] for all"
		case errors.As(err, new(syscall.Errno)) && !errors.Is(err, syscall.EADDRINUSE):
			row.Result, f.Why, f.Fix = "fails", "the proxy does not start", "see the witness"
		}
		return []check.Seen{row}, config.Findings{f}
	}
	return []check.Seen{row}, nil
}

// password tries what everybody would try.
func password(u config.User) ([]check.Seen, config.Findings) {
	row := check.Seen{Kind: "user", Who: "control", What: u.Name, Result: "not guessed", Good: true}
	for _, g := range append([]string{u.Name, u.Name + u.Name}, check.Guesses...) {
		if bcrypt.CompareHashAndPassword([]byte(u.Password), []byte(g)) == nil {
			row.Good, row.Result = false, "guessed"
			return []check.Seen{row}, config.Findings{check.LiveFinding("KX808", u.PasswordAt, fmt.Sprintf("the password of %q is one of those that are tried first", u.Name), fmt.Sprintf("found among %d guesses", len(check.Guesses)+2))}
		}
	}
	return []check.Seen{row}, nil
}

// certificates returns how long each holds; what is wrong with one is a finding of
// the rules.
func certificates(c *config.Config, facts *check.Facts) []check.Seen {
	var rows []check.Seen
	for _, p := range c.Pairs() {
		f, ok := facts.Pairs[check.PairName{Certificate: p.Certificate.Value, Key: p.Key.Value}]
		if !ok {
			continue
		}
		row := check.Seen{Kind: "certificate", Who: "upstream", What: p.Certificate.Value}
		if p.Frontend != nil {
			row.Who = p.Frontend.Name
		}
		stands(&row, &f, facts.Now)
		rows = append(rows, row)
	}
	return append(rows, obtained(c, facts)...)
}

// stands says how a certificate stands.
func stands(row *check.Seen, f *check.PairFact, now time.Time) {
	left := f.Until.Sub(now)
	switch {
	case f.Unreadable != "":
		row.Result, row.Detail = "unusable", f.Unreadable
	case f.Mismatch != "":
		row.Result, row.Detail = "mismatched", "its key is another's"
	case left < 0:
		row.Result, row.Detail = "expired", "on "+f.Until.UTC().Format("2006-01-02")
	case now.Before(f.From):
		row.Result, row.Detail = "too early", "from "+f.From.UTC().Format("2006-01-02")
	default:
		row.Result, row.Good = "holds", true
		row.Detail = fmt.Sprintf("until %s, %d days; for %s", f.Until.UTC().Format("2006-01-02"), int(left.Hours()/24), strings.Join(f.Names, ", "))
	}
}

// round keeps two digits or so of a time.
func round(d time.Duration) time.Duration {
	switch {
	case d > time.Second:
		return d.Round(100 * time.Millisecond)
	case d > 10*time.Millisecond:
		return d.Round(time.Millisecond)
	}
	return d.Round(10 * time.Microsecond)
}
