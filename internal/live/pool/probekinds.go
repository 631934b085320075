package pool

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"

	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/route"
	"kestrix/internal/core/units"
	"kestrix/internal/live/socket"
)

// probeTCP opens the port. Where something is expected it writes what is sent and
// reads until that comes.
func probeTCP(ctx context.Context, b *Backend, p *config.Probe) (*health.Report, string) {
	connect := b.dial
	if p.Body != "" {
		connect = b.secure
	}
	c, err := connect(ctx, p.Port)
	if err != nil {
		return nil, probeFailure(ctx, p, err)
	}
	defer c.Close()
	if p.Body == "" {
		return nil, ""
	}
	deadline, _ := ctx.Deadline()
	_ = c.SetDeadline(deadline) // where it fails, so will reading
	if p.Send != "" {           // else the backend speaks first, and may have closed since
		if _, err := io.WriteString(c, p.Send); err != nil {
			return nil, probeFailure(ctx, p, err)
		}
	}
	pattern, got := route.Plain(p.Body), make([]byte, 0, probeBody)
	for len(got) < cap(got) {
		n, err := c.Read(got[len(got):cap(got)])
		got = got[:len(got)+n]
		switch {
		case pattern.Match(string(got)):
			return nil, ""
		case err == io.EOF && len(got) == 0:
			return nil, "it closed the connection without an answer"
		case err == io.EOF:
			return nil, fmt.Sprintf("the answer %s does not match %q", clipped(got), p.Body)
		case err != nil && len(got) > 0:
			return nil, fmt.Sprintf("the answer %s does not match %q within %s", clipped(got), p.Body, units.Duration(p.Timeout))
		case err != nil:
			return nil, probeFailure(ctx, p, err)
		}
	}
	return nil, fmt.Sprintf("nothing in the first %d bytes of the answer matches %q", cap(got), p.Body)
}

// clipped quotes the beginning of an answer.
func clipped(b []byte) string {
	if len(b) > 40 {
		return fmt.Sprintf("%.40q...", b)
	}
	return fmt.Sprintf("%q", b)
}

// probeTLS shakes hands. A certificate is verified by the upstream's tls block, where
// there is one, else by the authorities of the system.
func probeTLS(ctx context.Context, b *Backend, p *config.Probe) (*health.Report, string) {
	c := b.tls.Clone()
	if c == nil {
		c = &tls.Config{ServerName: b.Address.Host}
	}
	if p.Name != "" {
		c.ServerName = p.Name
	}
	c.InsecureSkipVerify = c.InsecureSkipVerify || !p.Verify
	raw, err := b.dial(ctx, p.Port)
	if err != nil {
		return nil, probeFailure(ctx, p, err)
	}
	t := tls.Client(raw, c)
	defer t.Close()
	if err := t.HandshakeContext(ctx); err != nil {
		if ctx.Err() != nil {
			return nil, probeFailure(ctx, p, err)
		}
		return nil, "the handshake failed: " + socket.TLSError(err).Error()
	}
	return nil, ""
}

// probeGRPC calls the public health-checking protocol of gRPC: Check of
// grpc.health.v1.Health, whose request has the name of a service as field 1, and whose
// response has its status as field 1, of which 1 is SERVING.
func probeGRPC(ctx context.Context, b *Backend, p *config.Probe) (*health.Report, string) {
	own := &Backend{Name: b.Name, Address: b.Address, dial: b.dial, HTTP2: true}
	if b.tls != nil {
		own.tls = b.tls.Clone()
		own.tls.NextProtos = []string{"h2"}
	}
	message := []byte{}
	if p.Service != "" {
		message = append(binary.AppendUvarint([]byte{1<<3 | 2}, uint64(len(p.Service))), p.Service...)
	}
	frame := append(binary.BigEndian.AppendUint32([]byte{0}, uint32(len(message))), message...)
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, own.Scheme()+"://"+own.Host()+"/grpc.health.v1.Health/Check", bytes.NewReader(frame))
	if err != nil {
		return nil, "the backend's address cannot be asked: " + own.Host()
	}
	req.Header = http.Header{"Content-Type": {"application/grpc"}, "Te": {"trailers"}, "User-Agent": {"kestrix-probe"}}
	secure := func(ctx context.Context, _, _ string) (net.Conn, error) { return own.secure(ctx, p.Port) }
	t := &http.Transport{DialContext: secure, DialTLSContext: secure, Protocols: new(http.Protocols), DisableCompression: true}
	t.Protocols.SetHTTP2(own.tls != nil)
	t.Protocols.SetUnencryptedHTTP2(own.tls == nil)
	defer t.CloseIdleConnections()
	res, err := t.RoundTrip(req)
	if err != nil {
		return nil, probeFailure(ctx, p, err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, probeBody))
	if err != nil {
		return nil, probeFailure(ctx, p, err)
	}
	code := res.Trailer.Get("Grpc-Status")
	if code == "" {
		code = res.Header.Get("Grpc-Status") // of an answer without a body
	}
	switch {
	case res.StatusCode != http.StatusOK:
		return nil, fmt.Sprintf("status %d", res.StatusCode)
	case code == "5":
		return nil, fmt.Sprintf("it knows no service %q (grpc:NOT_FOUND)", p.Service)
	case code == "12":
		return nil, "it does not implement grpc.health.v1.Health (grpc:UNIMPLEMENTED)"
	case code != "0":
		return nil, fmt.Sprintf("grpc status %q", code)
	}
	return nil, servingStatus(body)
}

// servingStatuses are the names of the statuses of a health check, by number.
var servingStatuses = []string{"UNKNOWN", "SERVING", "NOT_SERVING", "SERVICE_UNKNOWN"}

// servingStatus reads the frame of a response. It returns why that does not pass, empty
// if it does.
func servingStatus(frame []byte) string {
	if len(frame) < 5 || frame[0] != 0 || int64(binary.BigEndian.Uint32(frame[1:])) != int64(len(frame)-5) {
		return "the answer is not one gRPC message"
	}
	status := uint64(0) // what is absent
	for m := frame[5:]; len(m) > 0; {
		key, n := binary.Uvarint(m)
		if n <= 0 {
			return "the answer is not a health check's"
		}
		value, k := binary.Uvarint(m[n:])
		if k <= 0 {
			return "the answer is not a health check's"
		}
		m = m[n+k:]
		switch key & 7 {
		case 0:
			if key>>3 == 1 {
				status = value
			}
		case 2: // of a later version
			if value > uint64(len(m)) {
				return "the answer is not a health check's"
			}
			m = slices.Clip(m[value:])
		default:
			return "the answer is not a health check's"
		}
	}
	if status == 1 {
		return ""
	}
	if status < uint64(len(servingStatuses)) {
		return "it is " + servingStatuses[status]
	}
	return fmt.Sprintf("its status is %d", status)
}
