package drive

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"syscall"
	"time"

	"github.com/pires/go-proxyproto"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/trace"
)

// hopFields are of one connection, and not sent on from a trace (RFC 9110
// section 7.6.1); a length is that of the body there is.
var hopFields = map[string]bool{
	"Connection": true, "Keep-Alive": true, "Proxy-Connection": true, "Te": true, "Trailer": true, "Transfer-Encoding": true, "Upgrade": true, "Content-Length": true, "Host": true, "Cookie": true,
}

// build makes the request of a record.
func (d *Driver) build(ctx context.Context, c *client, t Target, r *trace.Record) (*http.Request, error) {
	method := string(r.Method)
	if d.o.Method != "" {
		method = d.o.Method
	}
	if method == "" {
		method = http.MethodGet
	}
	host := string(r.Host)
	if host == "" {
		host = t.Host
	}
	path := string(r.Path)
	if !strings.HasPrefix(path, "/") {
		path = "/" + strings.TrimPrefix(path, "*")
	}
	u, err := url.ParseRequestURI(path)
	if err != nil {
		raw, query, _ := strings.Cut(path, "?")
		u = &url.URL{Path: raw, RawQuery: url.PathEscape(query)} // what cannot be sent as it was
	}
	u.Scheme, u.Host = t.Scheme, host
	// With a body that cannot be had again, empty as it is, the library never sends a
	// request twice by itself, which would hide what the proxy did with the first.
	q, err := http.NewRequestWithContext(context.WithValue(ctx, targetKey{}, t), method, u.String(), io.MultiReader())
	if err != nil {
		return nil, err
	}
	h := q.Header
	for _, f := range r.Headers {
		if name := http.CanonicalHeaderKey(string(f.Name)); !hopFields[name] && name != "" {
			h.Add(name, string(f.Value))
		}
	}
	for _, k := range r.Cookies {
		q.AddCookie(&http.Cookie{Name: string(k.Name), Value: string(k.Value)})
	}
	if r.UserAgent != nil {
		h.Set("User-Agent", string(r.UserAgent))
	} else if h.Get("User-Agent") == "" {
		h.Set("User-Agent", "kestrix-drive")
	}
	if r.Referer != nil {
		h.Set("Referer", string(r.Referer))
	}
	if h.Get("Accept") == "" {
		h.Set("Accept", "*/*, application/problem+json") // so that a proxy says what a failure is
	}
	if d.o.Forward != "" && c.address.IsValid() {
		h.Set(d.o.Forward, c.address.Addr().String())
		if strings.EqualFold(d.o.Forward, "Forwarded") {
			h.Set("Forwarded", "for="+forwardedNode(c.address.Addr()))
		}
	}
	for name, values := range d.o.Headers {
		h[name] = values
		if name == "Host" {
			q.Host = values[0]
			delete(h, name)
		}
	}
	return q, nil
}

// forwardedNode writes an address as RFC 7239 section 6 does.
func forwardedNode(ip netip.Addr) string {
	if ip.Is6() {
		return `"[` + ip.String() + `]"`
	}
	return ip.String()
}

// request sends a request and reads its answer to the end, or for as long as a
// stream lasts.
func (d *Driver) request(ctx context.Context, c *client, t Target, r *trace.Record, s *Sample) {
	limit := d.o.Timeout
	stream := r.Protocol == trace.Stream
	lasts := d.o.Lasts
	if r.Duration >= 0 && stream {
		lasts = time.Duration(float64(r.Duration) / d.o.Speed)
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	timer := time.AfterFunc(limit, func() { cancel(errSlow) })
	defer timer.Stop()
	head := func() {} // stops the patience, which ends with the head of the answer
	if d.o.Patience != nil {
		patience := time.AfterFunc(d.o.Patience(), func() { cancel(errLeft) })
		head = func() { patience.Stop() }
		defer head()
	}
	q, err := d.build(ctx, c, t, r)
	if err != nil {
		s.Fail, s.Why = cause.Reset, "the record cannot be sent: "+words(err)
		return
	}
	res, err := c.http.Do(q)
	head()
	if err != nil {
		s.Fail, s.Why, s.Left = failure(ctx, err), words(err), errors.Is(context.Cause(ctx), errLeft)
		return
	}
	defer res.Body.Close()
	s.Status, s.Backend = res.StatusCode, res.Header.Get(d.o.Names)
	s.Fail = d.refusal(res)
	if stream && s.Fail == cause.None {
		s.Kind, s.Took, s.Held = trace.Stream, time.Since(d.began)-s.Due, begunNow
		timer.Stop()
		over := time.AfterFunc(lasts, func() { cancel(errOver) })
		defer over.Stop()
	}
	_, err = io.Copy(io.Discard, res.Body)
	switch {
	case errors.Is(context.Cause(ctx), errOver):
	case err != nil && stream:
		s.Fail = cause.BrokenStream
	case err != nil && s.Fail == cause.None:
		s.Fail = failure(ctx, err)
	case stream && s.Fail == cause.None && time.Since(d.began)-s.Due < lasts*9/10 && r.Duration > 0:
		s.Fail = cause.BrokenStream // it ended before its client wanted
	}
}

// Why a request was given up.
var (
	errSlow = errors.New("no answer in time")
	errLeft = errors.New("the client left")
	errOver = errors.New("the stream has lasted")
)

// failure returns why a request failed.
func failure(ctx context.Context, err error) cause.Cause {
	var op *net.OpError
	dialing := errors.As(err, &op) && op.Op == "dial"
	switch {
	case errors.Is(err, syscall.ECONNREFUSED), dialing && errors.Is(err, os.ErrNotExist):
		return cause.Refused
	case dialing:
		return cause.ConnectTimeout
	case errors.Is(context.Cause(ctx), errSlow), errors.Is(err, context.DeadlineExceeded):
		return cause.AnswerTimeout
	}
	return cause.Reset
}

// words returns an error without the request that it is about.
func words(err error) string {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return err.Error()
}

// refusal returns why a response is a failure, cause.None if it is none: the cause in
// problem details, where there are some, else the status.
func (d *Driver) refusal(res *http.Response) cause.Cause {
	if res.StatusCode < 400 {
		return cause.None
	}
	if strings.HasPrefix(res.Header.Get("Content-Type"), "application/problem+json") {
		var p struct {
			Cause string `json:"cause"`
		}
		text, err := io.ReadAll(io.LimitReader(res.Body, 8<<10))
		if err == nil && json.Unmarshal(text, &p) == nil {
			if c, ok := cause.Parse(p.Cause); ok {
				return c
			}
		}
	}
	if res.StatusCode >= 500 {
		return cause.Status5xx
	}
	return cause.None
}

// connection opens a connection, says something, and holds it for as long as the
// record says.
func (d *Driver) connection(ctx context.Context, c *client, t Target, r *trace.Record, s *Sample) {
	dialCtx, cancel := context.WithTimeout(ctx, d.o.Timeout)
	defer cancel()
	conn, err := d.connect(dialCtx, t, c)
	if err != nil {
		s.Fail = failure(dialCtx, err)
		return
	}
	defer conn.Close()
	raw := conn
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	defer stop()
	if t.Scheme == "tls" {
		name := string(r.Host)
		if name == "" {
			name, _, _ = net.SplitHostPort(t.Host)
		}
		secure := tls.Client(conn, &tls.Config{ServerName: name, RootCAs: d.o.Roots, InsecureSkipVerify: d.o.Insecure, MinVersion: tls.VersionTLS12}) // only if one says -insecure
		if err := secure.HandshakeContext(dialCtx); err != nil {
			s.Fail, s.Why = failure(dialCtx, err), words(err)
			return
		}
		conn = secure
	}
	lasts := d.o.Lasts
	if r.Duration >= 0 {
		lasts = time.Duration(float64(r.Duration) / d.o.Speed)
	}
	end := time.Now().Add(lasts)
	_ = conn.SetDeadline(end.Add(time.Second))
	said := []byte("who is there?\n")
	if _, err := conn.Write(said); err != nil {
		s.Fail = cause.Reset
		return
	}
	_ = conn.SetReadDeadline(end)
	b := make([]byte, 512)
	heard := 0
	for {
		n, err := conn.Read(b)
		if heard == 0 && n > 0 {
			s.Took, s.Held = time.Since(d.began)-s.Due, begunNow
		}
		heard += n
		var ne net.Error
		switch {
		case err == nil:
			continue
		case errors.As(err, &ne) && ne.Timeout():
			if heard == 0 && lasts > time.Second {
				s.Fail = cause.AnswerTimeout
			}
		case heard == 0:
			s.Fail = cause.Reset
		default:
			s.Fail = cause.BrokenStream
		}
		if s.Fail == cause.None {
			s.Status = 200
		}
		return
	}
}

// writeProxyHeader names the client as the PROXY protocol does, version 2.
func writeProxyHeader(conn net.Conn, client netip.AddrPort) error {
	h := proxyproto.Header{Version: 2, Command: proxyproto.LOCAL, TransportProtocol: proxyproto.UNSPEC}
	if client.IsValid() {
		to := netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), 80)
		h.Command, h.TransportProtocol = proxyproto.PROXY, proxyproto.TCPv4
		if client.Addr().Is6() {
			to = netip.AddrPortFrom(netip.IPv6Loopback(), 80)
			h.TransportProtocol = proxyproto.TCPv6
		}
		h.SourceAddr, h.DestinationAddr = net.TCPAddrFromAddrPort(client), net.TCPAddrFromAddrPort(to)
	}
	_, err := h.WriteTo(conn)
	return err
}
