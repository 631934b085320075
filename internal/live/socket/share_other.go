//go:build !linux

package socket

import "net"

// ListenBeside opens a listener whose address contains one of those that are open, where
// the system allows that.
func ListenBeside(_ []net.Listener, network, address string) (net.Listener, error) {
	return net.Listen(network, address)
}
