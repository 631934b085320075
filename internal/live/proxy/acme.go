package proxy

import (
	"crypto/tls"
	"net/http"

	"golang.org/x/crypto/acme"

	"kestrix/internal/live/certificates"
)

// obtains has handshakes take certificates that are obtained, and answer challenges for them.
func obtains(c *tls.Config, g *certificates.Group) {
	others := len(c.Certificates) > 0
	c.GetCertificate = func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
		return g.Certificate(h.ServerName, others), nil
	}
	c.GetConfigForClient = func(h *tls.ClientHelloInfo) (*tls.Config, error) {
		if certificates.Asks(h) { // by the server, which has no client certificate
			return g.Challenge(h.Context(), h.ServerName), nil
		}
		return nil, nil
	}
}

// wasChallenge reports whether a handshake was one of the ACME server, and has answered it (RFC 8737
// section 3): nothing follows.
func wasChallenge(c *tls.Conn) bool {
	return c.ConnectionState().NegotiatedProtocol == acme.ALPNProto
}

// challenge answers a request of the ACME server, before routes, redirects and limits of rate. What
// is no challenge of a certificate of ours goes the way of others, for a backend may obtain its own.
func (x *exchange) challenge() bool {
	if x.r.Method != http.MethodGet && x.r.Method != http.MethodHead {
		return false
	}
	text := x.proxy.certificates.Token(x.r.Context(), x.r.Host, x.r.URL.Path)
	if text == nil {
		return false
	}
	x.access.Status, x.access.Reason = http.StatusOK, "challenge"
	x.w.Header().Set("Content-Type", "application/octet-stream") // RFC 8555 section 8.3
	x.w.WriteHeader(http.StatusOK)
	x.say(text)
	return true
}
