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
	"syscall"
	"time"

	"kestrix/internal/core/config"
)

// listen opens an address; nothing is served yet. IPv4 and IPv6 are bound
// apart.
func (p *Proxy) listen(a config.Address) (*server, error) {
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
	l := net.Listener(nil)
	if p.o.Given != nil {
		l = p.o.Given(network, addr)
	}
	if l == nil {
		if a.Unix != "" {
			if err := removeStale(a.Unix); err != nil {
				return nil, err
			}
		}
		var err error
		if l, err = p.o.Listen(network, addr); err != nil {
			return nil, fmt.Errorf("%s cannot be listened on: %w", a, plainError(err))
		}
	}
	gone, cut := context.WithCancel(context.Background())
	hello, deaf := context.WithCancel(gone)
	return &server{proxy: p, address: a, listener: l, gone: gone, cut: cut, handshakes: hello, endHandshakes: deaf, clients: map[netip.Addr]int{}, streams: map[net.Conn]struct{}{}}, nil
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

// scarce reports whether an error is of this machine, which has run out of
// something, and says nothing of whom it was spoken to.
func scarce(err error) bool {
	for _, e := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOBUFS, syscall.ENOMEM, syscall.EADDRNOTAVAIL} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// plainError returns the innermost, readable part of an error of package net.
func plainError(err error) error {
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return errors.New("the address is in use by another process")
	case errors.Is(err, syscall.EACCES):
		return errors.New("permission denied; ports below 1024 need a privilege")
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return errors.New("this machine does not have that address")
	case errors.Is(err, syscall.ECONNREFUSED):
		return errors.New("connection refused")
	case errors.Is(err, syscall.ECONNRESET):
		return errors.New("the connection was reset")
	}
	var de *net.DNSError
	if errors.As(err, &de) {
		if de.IsNotFound {
			return fmt.Errorf("the name %s does not resolve", de.Name)
		}
		return fmt.Errorf("the name %s cannot be looked up: %s", de.Name, de.Err)
	}
	var se *os.SyscallError
	if errors.As(err, &se) {
		return se.Err
	}
	var oe *net.OpError
	if errors.As(err, &oe) && oe.Err != nil {
		return oe.Err
	}
	return err
}
