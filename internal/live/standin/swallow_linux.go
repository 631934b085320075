package standin

import (
	"errors"
	"net/netip"
	"syscall"

	"kestrix/internal/core/config"
)

// hole is an address at which connecting meets silence, as if packets were
// lost: a listener whose queue is full, so that the machine drops what asks for
// more.
type hole struct{ listener, fill []int }

// dig opens one. It needs an IP address; the error says why there is none.
func dig(a config.Address) (*hole, error) {
	ip, ok := a.IP()
	if !ok || a.Unix != "" {
		return nil, errors.New("only at an IP address can connecting meet silence")
	}
	family, at := syscall.AF_INET, socketAddress(ip, a.Port)
	if ip.Is6() {
		family = syscall.AF_INET6
	}
	h := &hole{}
	socket := func() (int, error) {
		return syscall.Socket(family, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC|syscall.SOCK_NONBLOCK, 0)
	}
	l, err := socket()
	if err != nil {
		return nil, err
	}
	h.listener = []int{l}
	if err = syscall.SetsockoptInt(l, syscall.SOL_SOCKET, syscall.SO_REUSEADDR, 1); err == nil {
		if err = syscall.Bind(l, at); err == nil {
			err = syscall.Listen(l, 0)
		}
	}
	for range 4 { // a queue of length 0 holds one; the others make sure of it
		c, e := socket()
		if e != nil || err != nil {
			h.close()
			return nil, errors.Join(err, e)
		}
		h.fill = append(h.fill, c)
		_ = syscall.Connect(c, at) // those that find no place wait for ever, as they should
	}
	return h, nil
}

func socketAddress(ip netip.Addr, port int) syscall.Sockaddr {
	if ip.Is4() {
		return &syscall.SockaddrInet4{Port: port, Addr: ip.As4()}
	}
	return &syscall.SockaddrInet6{Port: port, Addr: ip.As16()}
}

func (h *hole) close() {
	if h == nil {
		return
	}
	for _, fd := range append(h.fill, h.listener...) {
		_ = syscall.Close(fd)
	}
}
