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
	ended  bool // nothing more is written
	broken bool // nobody reads any more
	until  time.Time
	timer  *time.Timer
}

func newFlow() *flow {
	f := &flow{}
	f.cond = sync.NewCond(&f.mu)
	return f
}

func (f *flow) deadline(t time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.until = t
	switch {
	case !t.IsZero() && f.timer != nil:
		f.timer.Reset(time.Until(t))
	case !t.IsZero():
		f.timer = time.AfterFunc(time.Until(t), f.cond.Broadcast)
	case f.timer != nil:
		f.timer.Stop()
	}
	f.cond.Broadcast()
}

func (f *flow) late() bool { return !f.until.IsZero() && !time.Now().Before(f.until) }

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
		case f.late():
			return 0, os.ErrDeadlineExceeded
		case len(f.buf) > 0:
			n := copy(b, f.buf)
			f.buf = f.buf[n:]
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
	if f.ended {
		return 0, io.ErrClosedPipe
	}
	f.buf = append(f.buf, b...)
	f.cond.Broadcast()
	return len(b), nil
}

func (p *pipeEnd) Close() error {
	p.once.Do(func() {
		p.out.end(false)
		p.in.end(true)
	})
	return nil
}

func (p *pipeEnd) CloseWrite() error {
	p.out.end(false)
	return nil
}

func (p *pipeEnd) LocalAddr() net.Addr                { return p.local }
func (p *pipeEnd) RemoteAddr() net.Addr               { return p.remote }
func (p *pipeEnd) SetDeadline(t time.Time) error      { p.in.deadline(t); return nil }
func (p *pipeEnd) SetReadDeadline(t time.Time) error  { p.in.deadline(t); return nil }
func (p *pipeEnd) SetWriteDeadline(_ time.Time) error { return nil } // a write never waits
