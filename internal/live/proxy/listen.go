package proxy

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"strconv"
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
	if err != nil {
		return nil, fmt.Errorf("%s cannot be listened on: %w", a, socket.ShortError(err))
	}
	return l, nil
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
