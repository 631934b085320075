package pool

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"sync/atomic"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/route"
	"kestrix/internal/core/units"
	"kestrix/internal/core/upstream"
	"kestrix/internal/live/socket"
)

// probeBody is how much of an answer a probe looks at.
const probeBody = 4 << 10

// probeAgain is how long a probe waits that could not be sent for want of
// something that this machine has run out of.
const probeAgain = 200 * time.Millisecond

// probeOnce sends one probe over a connection of its own. That this machine has
// run out of something is no failure of the backend: the probe waits for it.
func probeOnce(b *Backend, p *config.Probe, ended <-chan struct{}) upstream.Probe {
	for {
		r, short := probeNow(b, p)
		if !short {
			return r
		}
		select {
		case <-time.After(probeAgain):
		case <-ended:
			return r
		}
	}
}

// probeNow sends one; short says that it could not be.
func probeNow(b *Backend, p *config.Probe) (r upstream.Probe, short bool) {
	ctx, cancel := context.WithTimeout(context.Background(), p.Timeout)
	defer cancel()
	dial := b.dial
	var scarce atomic.Bool // an HTTP transport dials in a goroutine of its own, which may end after the probe
	b = &Backend{Name: b.Name, Address: b.Address, tls: b.tls, HTTP2: b.HTTP2, dial: func(ctx context.Context, port int) (net.Conn, error) {
		c, err := dial(ctx, port)
		scarce.Store(err != nil && socket.OutOfResources(err))
		return c, err
	}}
	send := probeSenders[p.Kind]
	if send == nil { // the language allows none
		return upstream.Probe{Why: "there is no probe " + p.Kind}, false
	}
	report, why := send(ctx, b, p)
	return upstream.Probe{Passed: why == "", Why: why, Report: report}, scarce.Load()
}

// probeSenders send probes, by the names of config.ProbeKinds. Each returns why its
// probe failed, empty if it passed, and what the backend reports of itself.
var probeSenders = map[string]func(ctx context.Context, b *Backend, p *config.Probe) (report *health.Report, why string){
	"http":        probeHTTP,
	"tcp":         probeTCP,
	"tls":         probeTLS,
	"grpc":        probeGRPC,
	"self-report": probeReport,
}

// probeReport reads the line in which a backend says how it is.
func probeReport(ctx context.Context, b *Backend, p *config.Probe) (*health.Report, string) {
	c, err := b.dial(ctx, p.Port)
	if err != nil {
		return nil, probeFailure(ctx, p, err)
	}
	defer c.Close()
	deadline, _ := ctx.Deadline()
	_ = c.SetReadDeadline(deadline) // where it fails, so will reading
	line, err := bufio.NewReader(io.LimitReader(c, 1<<10)).ReadString('\n')
	if err != nil && (!errors.Is(err, io.EOF) || line == "") {
		if errors.Is(err, io.EOF) {
			return nil, "it said nothing"
		}
		return nil, probeFailure(ctx, p, err)
	}
	r, err := health.ParseReport(line)
	if err != nil {
		return nil, err.Error()
	}
	if r.Down {
		return &r, "it says that it is down"
	}
	return &r, ""
}

// probeHTTP asks for a page.
func probeHTTP(ctx context.Context, b *Backend, p *config.Probe) (*health.Report, string) {
	return nil, askPage(ctx, b, p)
}

func askPage(ctx context.Context, b *Backend, p *config.Probe) string {
	req, err := http.NewRequestWithContext(ctx, p.Method, b.Scheme()+"://"+b.Host()+p.Path, nil)
	if err != nil {
		return "the path cannot be asked for: " + p.Path
	}
	req.Header.Set("User-Agent", "kestrix-probe")
	req.Host = p.Host // empty: as the URL says
	for _, h := range p.Headers {
		req.Header.Set(h.Name.Value, h.Value.Value)
	}
	secure := func(ctx context.Context, _, _ string) (net.Conn, error) { return b.secure(ctx, p.Port) }
	t := &http.Transport{DialContext: secure, DialTLSContext: secure, DisableKeepAlives: true, DisableCompression: true}
	if b.HTTP2 {
		t.Protocols = new(http.Protocols)
		t.Protocols.SetHTTP2(b.tls != nil)
		t.Protocols.SetUnencryptedHTTP2(b.tls == nil)
	}
	defer t.CloseIdleConnections()
	res, err := t.RoundTrip(req)
	if err != nil {
		return probeFailure(ctx, p, err)
	}
	defer res.Body.Close()
	if !p.Passes(res.StatusCode) {
		return fmt.Sprintf("status %d", res.StatusCode)
	}
	// An answer that breaks off is none, whatever its head says.
	body, err := io.ReadAll(io.LimitReader(res.Body, probeBody))
	if err != nil {
		return probeFailure(ctx, p, err)
	}
	if p.Body == "" {
		return ""
	}
	pattern := route.Plain(p.Body)
	if !pattern.Match(string(body)) {
		return fmt.Sprintf("the answer does not match %q", p.Body)
	}
	return ""
}

func probeFailure(ctx context.Context, p *config.Probe, err error) string {
	switch {
	case err == nil:
		return ""
	case ctx.Err() != nil, errors.Is(err, os.ErrDeadlineExceeded):
		return fmt.Sprintf("no answer within %s", units.Duration(p.Timeout))
	}
	return socket.ShortError(err).Error()
}
