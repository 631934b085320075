package request

import (
	"net/netip"

	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/config"
)

// HashKey returns the key by which a hash places a request; client is the hash of
// its address, and the key of a request that does not have what the hash asks for.
// h may be nil.
func HashKey(h *config.Hash, q *Request, client uint64) uint64 {
	if h == nil {
		return client
	}
	value, ok := "", false
	look := func(f Lookup) {
		if f != nil {
			value, ok = f(h.Name)
		}
	}
	switch h.Key {
	case "client-prefix":
		return prefixKey(q.Client, client)
	case "path":
		value, ok = q.Path, q.Unknown&AskPath == 0
	case "header":
		look(q.Header)
	case "cookie":
		look(q.Cookie)
	case "query":
		look(q.Query)
	}
	if !ok {
		return client
	}
	return xxhash.Sum64String(value)
}

// prefixKey returns the key of a client's network: a /24 of IPv4, a /64 of IPv6.
func prefixKey(a netip.Addr, client uint64) uint64 {
	if !a.IsValid() {
		return client
	}
	bits := 24
	if a = a.Unmap(); a.Is6() {
		bits = 64
	}
	p, _ := a.Prefix(bits) // the bits fit the address
	n := p.Addr().As16()
	return xxhash.Sum64(n[:])
}

// SeatKey returns the key by which an upstream remembers the seat of a client: of
// its address, of which client is the hash, or of the value of a header field or
// cookie. It is 0 where there is none.
func SeatKey(s *config.Sticky, q *Request, client uint64) uint64 {
	var look Lookup
	switch s.By {
	case "address":
		return client | 1
	case "header":
		look = q.Header
	case "existing-cookie":
		look = q.Cookie
	}
	if look == nil {
		return 0
	}
	value, ok := look(s.Name)
	if !ok || value == "" {
		return 0
	}
	return SeatValue(value)
}

// SeatValue returns SeatKey for a value that is at hand.
func SeatValue(value string) uint64 { return xxhash.Sum64String(value) | 1 }
