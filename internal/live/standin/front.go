package standin

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/pires/go-proxyproto"
)

// A stand-in does not know beforehand what is spoken with it: it looks at the
// first bytes of a connection. A PROXY protocol header is read and told of, TLS
// is taken with a certificate made on the spot, HTTP is answered, and everything
// else is sent back as it came.

// silence is how long a peer that is to be told how the backend is may say
// nothing before it is told.
const silence = 100 * time.Millisecond

// guest is a connection whose first bytes have been looked at.
type guest struct {
	net.Conn
	r     *bufio.Reader
	how   []string // it was reached: "TLS for NAME", "PROXY protocol"
	names net.Addr // whom a PROXY protocol header names; nil for nobody
}

func (g *guest) Read(p []byte) (int, error) { return g.r.Read(p) }

// front is a listener that hands those connections to the http server that
// speak HTTP, and looks after the others itself.
type front struct {
	net.Listener
	s     *StandIn
	ready chan *guest
	ended chan struct{}
	once  sync.Once

	mu   sync.Mutex
	open map[net.Conn]struct{} // that the http server does not know
}

func newFront(s *StandIn, l net.Listener) *front {
	f := &front{Listener: l, s: s, ready: make(chan *guest), ended: make(chan struct{}), open: map[net.Conn]struct{}{}}
	go f.accept()
	return f
}

func (f *front) accept() {
	for {
		c, err := f.Listener.Accept()
		if err != nil {
			return // those that are open go on until the front is closed
		}
		f.mu.Lock()
		f.open[c] = struct{}{}
		f.mu.Unlock()
		go func() {
			handed := f.look(c)
			f.mu.Lock()
			delete(f.open, c)
			f.mu.Unlock()
			if !handed {
				c.Close()
			}
		}()
	}
}

// Accept returns the next connection that speaks HTTP.
func (f *front) Accept() (net.Conn, error) {
	select {
	case g := <-f.ready:
		return g, nil
	case <-f.ended:
		return nil, net.ErrClosed
	}
}

// Close ends it. What the http server has taken is that one's.
func (f *front) Close() error {
	f.once.Do(func() { close(f.ended) })
	return f.Listener.Close()
}

// cut breaks the connections that the http server does not know.
func (f *front) cut() {
	f.mu.Lock()
	defer f.mu.Unlock()
	for c := range f.open {
		c.Close()
	}
}

// look finds out what is spoken, and says whether the http server has taken
// the connection over.
func (f *front) look(c net.Conn) bool {
	g := &guest{Conn: c, r: bufio.NewReader(c)}
	if f.s.Reports {
		_ = c.SetReadDeadline(time.Now().Add(silence))
		if _, err := g.r.Peek(1); errors.Is(err, os.ErrDeadlineExceeded) {
			f.s.report(c)
			return false
		}
		_ = c.SetReadDeadline(time.Time{})
	}
	first, _ := g.r.Peek(1) // an error comes back when it is read
	if slices.Contains([]string{"P", "\r"}, string(first)) {
		if h, err := proxyproto.Read(g.r); err == nil {
			g.how = append(g.how, fmt.Sprintf("a PROXY protocol header of version %d", h.Version))
			if src, _, ok := h.TCPAddrs(); ok && !h.Command.IsLocal() {
				g.names = src
			}
		}
		first, _ = g.r.Peek(1)
	}
	if len(first) == 1 && first[0] == 0x16 {
		t := tls.Server(g, &tls.Config{GetCertificate: selfSigned, NextProtos: []string{"http/1.1"}})
		if t.Handshake() != nil {
			return false
		}
		how := append(g.how, "TLS")
		if name := t.ConnectionState().ServerName; name != "" {
			how[len(how)-1] += " for " + name
		}
		g = &guest{Conn: t, r: bufio.NewReader(t), how: how, names: g.names}
	}
	if !speaksHTTP(g.r) {
		f.s.echo(g)
		return false
	}
	select {
	case f.ready <- g:
		return true
	case <-f.ended:
		return false
	}
}

// speaksHTTP reports whether what comes first looks like a request: a word in
// capitals and a space (RFC 9112 section 3).
func speaksHTTP(r *bufio.Reader) bool {
	for n := 1; n <= 16; n++ {
		b, err := r.Peek(n)
		if err != nil {
			return false
		}
		switch c := b[n-1]; {
		case c == ' ':
			return n > 1
		case c < 'A' || c > 'Z':
			return false
		}
	}
	return false
}

// echo sends back what comes, until its end, as far as the faults let it.
func (s *StandIn) echo(g *guest) {
	buf := make([]byte, 32<<10)
	for {
		n, err := g.Read(buf)
		for c := s.now(); n > 0 && c.hang; c = s.now() {
			<-c.changed
		}
		if s.now().reset {
			resets(g)
			return
		}
		if n > 0 {
			if _, err := g.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			if half, ok := g.Conn.(interface{ CloseWrite() error }); ok && errors.Is(err, io.EOF) {
				_ = half.CloseWrite()
			}
			return
		}
	}
}

// report returns how it is, for the probe of that name.
func (s *StandIn) report(c net.Conn) {
	switch now := s.now(); {
	case now.hang:
		<-now.changed
	case now.probeFails:
		fmt.Fprintln(c, "state=down")
	default:
		fmt.Fprintln(c, "state=up")
	}
}

var own = struct {
	sync.Mutex
	byName map[string]*tls.Certificate
}{byName: map[string]*tls.Certificate{}}

// selfSigned makes a certificate for whatever name is asked for, once.
func selfSigned(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
	own.Lock()
	defer own.Unlock()
	if c := own.byName[h.ServerName]; c != nil {
		return c, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour)}
	if h.ServerName != "" {
		t.DNSNames = []string{h.ServerName}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	c := &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	if len(own.byName) < 1000 {
		own.byName[h.ServerName] = c
	}
	return c, nil
}

type guestKey struct{}

// welcome has requests know their connection. It is called by the http server.
func welcome(ctx context.Context, c net.Conn) context.Context {
	return context.WithValue(ctx, guestKey{}, c)
}
