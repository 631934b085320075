package wire

import (
	"errors"
	"net"
	"sync"
	"syscall"
	"time"
)

// Paced is a connection on which no write waits for ever: one that is not taken
// within a time fails. It is a backstop, so that a peer that takes nothing holds
// nothing for long; a write fails after the time, and a quarter more at most.
type Paced struct {
	net.Conn
	mu   sync.Mutex // guards all below
	wait time.Duration
	set  time.Time // when the deadline was set
	own  bool      // somebody else sets it
}

// NewPaced makes one.
func NewPaced(c net.Conn, wait time.Duration) *Paced { return &Paced{Conn: c, wait: wait} }

// SetWait sets the time for writes from now on.
func (p *Paced) SetWait(wait time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.wait != wait {
		p.wait, p.set = wait, time.Time{}
	}
}

// Write writes all of b.
func (p *Paced) Write(b []byte) (int, error) {
	p.mu.Lock()
	if now := time.Now(); !p.own && now.Sub(p.set) > p.wait/4 {
		p.set = now
		if err := p.Conn.SetWriteDeadline(now.Add(p.wait + p.wait/4)); err != nil {
			p.mu.Unlock()
			return 0, err
		}
	}
	p.mu.Unlock()
	return p.Conn.Write(b)
}

// SetWriteDeadline sets one of the caller's own; without one the backstop holds
// again.
func (p *Paced) SetWriteDeadline(t time.Time) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.own, p.set = !t.IsZero(), time.Time{}
	return p.Conn.SetWriteDeadline(t)
}

// SetDeadline sets both deadlines.
func (p *Paced) SetDeadline(t time.Time) error {
	if err := p.SetWriteDeadline(t); err != nil {
		return err
	}
	return p.Conn.SetReadDeadline(t)
}

// SyscallConn gives access to the connection itself.
func (p *Paced) SyscallConn() (syscall.RawConn, error) {
	if s, ok := p.Conn.(syscall.Conn); ok {
		return s.SyscallConn()
	}
	return nil, errors.ErrUnsupported
}

// CloseWrite ends the direction towards the peer.
func (p *Paced) CloseWrite() error { return CloseWrite(p.Conn) }
