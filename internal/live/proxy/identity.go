package proxy

import (
	"cmp"
	"crypto/tls"
	"math/rand/v2"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"

	"kestrix/internal/core/config"
)

// requestIDs makes ids of requests that no other process makes: 64 random bits of this one,
// and a number. The zero value is not ready.
type requestIDs struct {
	process string
	last    atomic.Uint64
}

func newRequestIDs() *requestIDs {
	// Nothing is kept secret by them, so that they need not be hard to guess.
	bits := strconv.FormatUint(rand.Uint64(), 16)
	return &requestIDs{process: strings.Repeat("0", 16-len(bits)) + bits + "-"}
}

// next returns another id, such as 5f3a9c21d07be846-1042.
func (r *requestIDs) next() string {
	b := make([]byte, 0, 40)
	return string(strconv.AppendUint(append(b, r.process...), r.last.Add(1), 10))
}

// name returns by what the proxy is known in logs.
func (p *Proxy) name(c *config.Config) string { return cmp.Or(c.Identity.Proxy.Value, p.o.Name) }

// requestID returns the id of a request: that of a trusted proxy, or a new one.
func (x *exchange) requestID() string {
	if x.trusted && x.entry.identity.RequestField != "" {
		if said := x.r.Header[x.entry.identity.RequestField]; len(said) == 1 && validID(said[0]) {
			return said[0]
		}
	}
	return x.proxy.ids.next()
}

// validID reports whether an id from elsewhere may stand in logs and header fields.
func validID(id string) bool {
	return id != "" && len(id) <= 128 && strings.Trim(id, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._:/+=@-") == ""
}

// carryID puts the request id into the fields for a backend, and nothing else under its name,
// not even with "_" for "-".
func (x *exchange) carryID(h http.Header) {
	field := x.entry.identity.RequestField
	if field == "" {
		return
	}
	for name := range h {
		if len(name) == len(field) && name != field && config.SameField(name, field) {
			delete(h, name)
		}
	}
	h[field] = []string{x.access.RequestID}
}

// tlsVersion returns a version of TLS as logs have it, such as 1.3.
func tlsVersion(version uint16) string { return strings.TrimPrefix(tls.VersionName(version), "TLS ") }
