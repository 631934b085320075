// Package names looks up the names of backends: addresses and services, with the time for
// which they may be used. The hosts file of the machine is asked first, then the name servers of
// resolv.conf, by which it also completes short names; where none of them answers, the system's
// own resolver is asked, as names may come from elsewhere. It must never keep an answer: who asks
// goes by its time to live.
package names

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// Resolver looks names up. Its methods may be called from any goroutine.
type Resolver interface {
	// Addresses returns the addresses of a host.
	Addresses(ctx context.Context, host string) (Addresses, error)
	// Services returns the servers of a service (RFC 2782), such as _http._tcp.app.example.
	Services(ctx context.Context, name string) (Services, error)
}

// Addresses are the addresses of a host, and for how long they hold; 0: that is not known.
type Addresses struct {
	All []netip.Addr
	TTL time.Duration
}

// Services are the servers of a service, likewise.
type Services struct {
	All []Service
	TTL time.Duration
}

// Service is a server of a service.
type Service struct {
	Host             string
	Port             int
	Priority, Weight int // the lowest priority is the first; weights are relative within one
}

// Func is a Resolver of addresses alone, whose time to live is not known.
type Func func(ctx context.Context, host string) ([]netip.Addr, error)

// Addresses calls the function.
func (f Func) Addresses(ctx context.Context, host string) (Addresses, error) {
	all, err := f(ctx, host)
	return Addresses{All: all}, err
}

// Services knows none.
func (f Func) Services(context.Context, string) (Services, error) {
	return Services{}, errors.New("services cannot be looked up here")
}

// System is the resolver of this machine. The zero value is ready.
type System struct {
	// Conf is read for each lookup; empty for /etc/resolv.conf.
	Conf string
	// Port is that of the name servers; empty for 53.
	Port string
	// Other is asked for a host that no name server knows; nil for the system's own resolver.
	Other func(ctx context.Context, host string) ([]netip.Addr, error)
}

var (
	errNoName = errors.New("no such host")
	errUnused = errors.New("no server is to be asked")
)

// Addresses looks a host up.
func (s System) Addresses(ctx context.Context, host string) (Addresses, error) {
	// The library reads the hosts file, and only then asks a server, which it is refused here.
	hosts := net.Resolver{PreferGo: true, Dial: func(context.Context, string, string) (net.Conn, error) { return nil, errUnused }}
	if found, err := hosts.LookupNetIP(ctx, "ip", host); err == nil {
		return Addresses{All: found}, nil
	}
	var a Addresses
	both := []uint16{dns.TypeA, dns.TypeAAAA}
	answers, err := s.ask(ctx, host, both)
	if err != nil {
		other := s.Other
		if other == nil {
			other = func(ctx context.Context, host string) ([]netip.Addr, error) {
				return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
			}
		}
		found, err := other(ctx, host)
		return Addresses{All: found}, err
	}
	for _, r := range answers {
		var ip net.IP
		switch r := r.(type) {
		case *dns.A:
			ip = r.A
		case *dns.AAAA:
			ip = r.AAAA
		}
		a.TTL = shorter(a.TTL, r.Header().Ttl) // those of aliases count as well
		if addr, ok := netip.AddrFromSlice(ip); ok {
			a.All = append(a.All, addr.Unmap())
		}
	}
	return a, nil
}

// Services looks a service up.
func (s System) Services(ctx context.Context, name string) (Services, error) {
	answers, err := s.ask(ctx, name, []uint16{dns.TypeSRV})
	if err != nil {
		return Services{}, err
	}
	var out Services
	for _, r := range answers {
		out.TTL = shorter(out.TTL, r.Header().Ttl)
		// A target of "." says that there is no such service (RFC 2782).
		if r, ok := r.(*dns.SRV); ok && r.Target != "." {
			out.All = append(out.All, Service{Host: strings.TrimSuffix(r.Target, "."), Port: int(r.Port), Priority: int(r.Priority), Weight: int(r.Weight)})
		}
	}
	return out, nil
}

func shorter(now time.Duration, seconds uint32) time.Duration {
	// One of 0 may be used for what asks now alone (RFC 1035 section 3.2.1): who asks has a
	// floor for it.
	d := max(time.Duration(seconds)*time.Second, time.Nanosecond)
	if now == 0 {
		return d
	}
	return min(now, d)
}

// ask asks the name servers for records of some types, of a name and of what resolv.conf makes
// of it. The error says that none of them knows the name, or none answered.
func (s System) ask(ctx context.Context, name string, types []uint16) ([]dns.RR, error) {
	file := s.Conf
	if file == "" {
		file = "/etc/resolv.conf"
	}
	conf, err := dns.ClientConfigFromFile(file)
	if err != nil {
		return nil, err
	}
	if s.Port != "" {
		conf.Port = s.Port
	}
	for _, full := range conf.NameList(name) {
		var all []dns.RR
		for _, t := range types {
			found, err := exchange(ctx, conf, full, t)
			if err != nil && !errors.Is(err, errNoName) {
				return nil, err // with what other types give, some addresses would seem to have gone
			}
			all = append(all, found...)
		}
		if len(all) > 0 {
			return all, nil
		}
	}
	return nil, errNoName
}

// exchange asks one server after the other until one answers.
func exchange(ctx context.Context, conf *dns.ClientConfig, name string, t uint16) ([]dns.RR, error) {
	q := new(dns.Msg).SetQuestion(name, t)
	q.SetEdns0(1232, false) // what passes everywhere without fragments
	failed := errors.New("resolv.conf names no server")
	for range max(conf.Attempts, 1) {
		for _, server := range conf.Servers {
			at := net.JoinHostPort(server, conf.Port)
			within := time.Duration(conf.Timeout) * time.Second
			r, _, err := (&dns.Client{Timeout: within}).ExchangeContext(ctx, q, at)
			if err == nil && r.Truncated {
				r, _, err = (&dns.Client{Net: "tcp", Timeout: within}).ExchangeContext(ctx, q, at)
			}
			switch {
			case ctx.Err() != nil:
				return nil, ctx.Err()
			case err != nil:
				failed = err
			case r.Rcode == dns.RcodeNameError:
				return nil, errNoName
			case r.Rcode != dns.RcodeSuccess:
				failed = fmt.Errorf("the name server %s answers %s", at, dns.RcodeToString[r.Rcode])
			default:
				return of(r.Answer, t), nil
			}
		}
	}
	return nil, failed
}

// of returns the records of a type and the aliases that lead to them; nothing where there are
// only aliases.
func of(answer []dns.RR, t uint16) []dns.RR {
	var out []dns.RR
	found := false
	for _, r := range answer {
		switch r.Header().Rrtype {
		case t:
			found = true
		case dns.TypeCNAME:
		default:
			continue
		}
		out = append(out, r)
	}
	if !found {
		return nil
	}
	return out
}
