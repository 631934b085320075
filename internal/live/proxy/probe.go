package proxy

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"

	"kestrix/internal/core/config"
	"kestrix/internal/core/route"
	"kestrix/internal/core/upstream"
)

// probeBody is how much of an answer a probe looks at.
const probeBody = 4 << 10

// probeOnce sends one probe over a connection of its own.
func probeOnce(b *backend, p *config.Probe) upstream.Probe {
	ctx, cancel := context.WithTimeout(context.Background(), p.Timeout)
	defer cancel()
	why := ""
	if p.Kind == "tcp" {
		c, err := b.dial(ctx, "", "")
		if err == nil {
			c.Close()
		}
		why = probeFailure(ctx, p, err)
	} else {
		why = probeHTTP(ctx, b, p)
	}
	return upstream.Probe{Passed: why == "", Why: why}
}

// probeHTTP gives why an http probe failed, empty if it passed.
func probeHTTP(ctx context.Context, b *backend, p *config.Probe) string {
	host := b.address.String()
	if b.address.Unix != "" {
		host = "localhost"
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, b.scheme()+"://"+host+p.Path, nil)
	if err != nil {
		return "the path cannot be asked for: " + p.Path
	}
	req.Header.Set("User-Agent", "kestrix-probe")
	secure := func(ctx context.Context, _, _ string) (net.Conn, error) { return b.secure(ctx) }
	t := &http.Transport{DialContext: secure, DialTLSContext: secure, DisableKeepAlives: true, DisableCompression: true}
	defer t.CloseIdleConnections()
	res, err := t.RoundTrip(req)
	if err != nil {
		return probeFailure(ctx, p, err)
	}
	defer res.Body.Close()
	if !p.Passes(res.StatusCode) {
		return fmt.Sprintf("status %d", res.StatusCode)
	}
	if p.Body == "" {
		return ""
	}
	body, err := io.ReadAll(io.LimitReader(res.Body, probeBody))
	if err != nil {
		return probeFailure(ctx, p, err)
	}
	pattern := route.Plain(p.Body)
	if !pattern.Match(string(body)) {
		return fmt.Sprintf("the answer does not fit %q", p.Body)
	}
	return ""
}

func probeFailure(ctx context.Context, p *config.Probe, err error) string {
	switch {
	case err == nil:
		return ""
	case ctx.Err() != nil:
		return fmt.Sprintf("no answer within %s", p.Timeout)
	}
	return plainError(err).Error()
}
