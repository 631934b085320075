//go:build !linux

package socket

import "net"

// CloseAccepting closes a listener; here nothing is known of its queue.
func CloseAccepting(l net.Listener) (waiting []net.Conn) {
	l.Close()
	return nil
}
