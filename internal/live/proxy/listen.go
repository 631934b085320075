package proxy

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"net"
	"net/netip"
	"os"
	"strconv"
	"syscall"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/live/socket"
)

// bind opens an address; nothing is served yet. IPv4 and IPv6 are bound
// apart.
func (p *Proxy) bind(a config.Address) (net.Listener, error) {
	network, addr := "tcp", net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
	if ip, ok := a.IP(); ok {
		network = "tcp4"
		if ip.Is6() {
			network = "tcp6"
		}
	}
	if a.Unix != "" {
		network, addr = "unix", a.Unix
	}
	if p.o.Given != nil {
		if l := p.o.Given(network, addr); l != nil {
			return l, nil
		}
	}
	if a.Unix != "" {
		if err := removeStale(a.Unix); err != nil {
			return nil, err
		}
	}
	l, err := p.o.Listen(network, addr)
	if errors.Is(err, syscall.EADDRINUSE) && a.Unix == "" {
		if beside := p.overlapping(a); len(beside) > 0 {
			l, err = socket.ListenBeside(beside, network, addr)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be listened on: %w", a, socket.ShortError(err))
	}
	return l, nil
}

// overlapping returns the listeners of ours whose address contains another, or is
// contained in it; none if one has that very address. p.mu must be held.
func (p *Proxy) overlapping(a config.Address) (all []net.Listener) {
	for at, l := range p.open() {
		switch {
		case at == a:
			return nil // the system would have them share what comes
		case at.Contains(a) || a.Contains(at):
			all = append(all, l)
		}
	}
	return all
}

// open returns the listeners that are open, those included that are about to be closed, and
// that of control. p.mu must be held.
func (p *Proxy) open() iter.Seq2[config.Address, net.Listener] {
	return func(yield func(config.Address, net.Listener) bool) {
		for at, s := range p.servers {
			if !yield(at, s.listener) {
				return
			}
		}
		for s := range p.closing {
			select {
			case <-s.unbound: // only its connections are open
			default:
				if !yield(s.address, s.listener) {
					return
				}
			}
		}
		if p.control != nil {
			yield(p.control.Address(), p.control.Listener())
		}
	}
}

// contained has the listeners that are open and lie within one of a configuration's serve
// on as a part of it: to close them would reset what waits in their queues. p.mu must be
// held.
func (p *Proxy) contained(next *state) {
	for at := range p.servers {
		if next.byListen[at] != nil {
			continue
		}
		for wide, e := range next.byListen {
			if wide.Contains(at) {
				next.byListen[at] = e
				break
			}
		}
	}
}

// listen opens a listener of clients.
func (p *Proxy) listen(a config.Address) (*server, error) {
	l, err := p.bind(a)
	if err != nil {
		return nil, err
	}
	gone, cut := context.WithCancel(context.Background())
	handshakes, endHandshakes := context.WithCancel(gone)
	return &server{proxy: p, address: a, listener: l, gone: gone, cut: cut, handshakes: handshakes, endHandshakes: endHandshakes, accepted: make(chan struct{}), unbound: make(chan struct{}), clients: map[netip.Addr]int{}, streams: map[net.Conn]struct{}{}}, nil
}

// removeStale takes away a socket that nobody listens on any more.
func removeStale(path string) error {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil || info.Mode()&os.ModeSocket == 0 {
		return fmt.Errorf("unix:%s cannot be listened on: something that is no socket stands there", path)
	}
	if c, err := net.DialTimeout("unix", path, time.Second); err == nil {
		c.Close()
		return fmt.Errorf("unix:%s cannot be listened on: another process does", path)
	}
	return os.Remove(path)
}
