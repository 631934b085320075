package proxy

import (
	"io"
	"net"
	"os"
	"sync"
	"time"
)

// bufferedPipe returns the two ends of a connection in memory that behaves like
// TCP: what is written waits to be read, and each direction ends by itself.
func bufferedPipe(here, there net.Addr) (net.Conn, net.Conn) {
	a, b := newFlow(), newFlow()
	return &pipeEnd{in: a, out: b, local: here, remote: there}, &pipeEnd{in: b, out: a, local: there, remote: here}
}

// flow is one direction.
type flow struct {
	mu     sync.Mutex
	cond   *sync.Cond
	buf    []byte
	room   int  // bytes that may wait to be read; 0: any number
	ended  bool // nothing more is written
	broken bool // nobody reads any more
	read   pipeLimit
	write  pipeLimit
}

// pipeLimit is when reading or writing fails; the zero time is never.
type pipeLimit struct {
	until time.Time
	timer *time.Timer
}

func newFlow() *flow {
	f := &flow{}
	f.cond = sync.NewCond(&f.mu)
	return f
}

func (f *flow) deadline(l *pipeLimit, t time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	l.until = t
	// A timer for a moment that is over runs at once, on a stack of the runtime, where the
	// race detector breaks down in virtual time: none is wanted for such a moment.
	switch left := time.Until(t); {
	case !t.IsZero() && left > 0 && l.timer != nil:
		l.timer.Reset(left)
	case !t.IsZero() && left > 0:
		l.timer = time.AfterFunc(left, f.cond.Broadcast)
	case l.timer != nil:
		l.timer.Stop()
	}
	f.cond.Broadcast()
}

func (l *pipeLimit) over() bool { return !l.until.IsZero() && !time.Now().Before(l.until) }

// end closes a direction, or breaks it.
func (f *flow) end(broken bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.ended, f.broken = true, f.broken || broken
	f.cond.Broadcast()
}

type pipeEnd struct {
	in, out       *flow
	local, remote net.Addr
	once          sync.Once
}

func (p *pipeEnd) Read(b []byte) (int, error) {
	f := p.in
	f.mu.Lock()
	defer f.mu.Unlock()
	for {
		switch {
		case f.broken:
			return 0, net.ErrClosed
		case f.read.over():
			return 0, os.ErrDeadlineExceeded
		case len(f.buf) > 0:
			n := copy(b, f.buf)
			f.buf = f.buf[n:]
			f.cond.Broadcast() // there is room again
			return n, nil
		case f.ended:
			return 0, io.EOF
		}
		f.cond.Wait()
	}
}

func (p *pipeEnd) Write(b []byte) (int, error) {
	f := p.out
	f.mu.Lock()
	defer f.mu.Unlock()
	n := 0
	for {
		switch {
		case f.ended:
			return n, io.ErrClosedPipe
		case f.write.over():
			return n, os.ErrDeadlineExceeded
		}
		some := b[n:]
		if f.room > 0 {
			some = some[:min(len(some), max(f.room-len(f.buf), 0))]
		}
		f.buf = append(f.buf, some...)
		n += len(some)
		f.cond.Broadcast()
		if n == len(b) {
			return n, nil
		}
		f.cond.Wait()
	}
}

func (p *pipeEnd) Close() error {
	p.once.Do(func() {
		p.out.end(false)
		p.in.end(true)
	})
	return nil
}

// Break resets the connection.
func (p *pipeEnd) Break() {
	p.in.end(true)
	p.out.end(true)
}

func (p *pipeEnd) CloseWrite() error {
	p.out.end(false)
	return nil
}

func (p *pipeEnd) LocalAddr() net.Addr  { return p.local }
func (p *pipeEnd) RemoteAddr() net.Addr { return p.remote }
func (p *pipeEnd) SetReadDeadline(t time.Time) error {
	p.in.deadline(&p.in.read, t)
	return nil
}

func (p *pipeEnd) SetWriteDeadline(t time.Time) error {
	p.out.deadline(&p.out.write, t)
	return nil
}

func (p *pipeEnd) SetDeadline(t time.Time) error {
	_ = p.SetReadDeadline(t)
	return p.SetWriteDeadline(t)
}
