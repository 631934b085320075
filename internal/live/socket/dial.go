package socket

import (
	"context"
	"net"
	"net/netip"
)

type localKey struct{}

// WithLocal has Dial connect from an address of this machine.
func WithLocal(ctx context.Context, from netip.Addr) context.Context {
	return context.WithValue(ctx, localKey{}, from)
}

// Local returns the address that WithLocal set; it is not valid for none.
func Local(ctx context.Context) netip.Addr {
	from, _ := ctx.Value(localKey{}).(netip.Addr)
	return from
}

// Dial connects by the network, from the address that ctx says.
func Dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := &net.Dialer{}
	if from := Local(ctx); from.IsValid() && network != "unix" {
		d.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(from, 0))
	}
	return d.DialContext(ctx, network, address)
}

// CanBeLocal returns why connections cannot be made from an address: this machine does not
// have it, say.
func CanBeLocal(from netip.Addr) error {
	l, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(netip.AddrPortFrom(from, 0)))
	if err != nil {
		return ShortError(err)
	}
	return l.Close()
}
