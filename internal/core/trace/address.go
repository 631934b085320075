package trace

import (
	"encoding/binary"
	"math/bits"
	"net/netip"
	"strings"

	"github.com/cespare/xxhash/v2"
)

// ClientKey is the number by which a client's address is known to the hash
// algorithm and to stickiness: the same for every way of writing an address.
// An address may carry a port, which does not count.
func ClientKey(client string) uint64 {
	// An IPv6 address is known by its bytes: writing it out would cost more.
	var b [16]byte
	if !startsAs4(client) && parse6(client, &b) {
		return xxhash.Sum64(b[:])
	}
	i := strings.IndexByte(client, ':')
	if i < 0 {
		return xxhash.Sum64String(client)
	}
	if client[0] != '[' && strings.IndexByte(client[i+1:], ':') >= 0 {
		if a, err := netip.ParseAddr(client); err == nil && !a.Is4In6() {
			b := a.As16()
			return xxhash.Sum64(b[:])
		}
	}
	canonical := CanonicalClient(client)
	if canonical == client {
		return xxhash.Sum64String(client)
	}
	return ClientKey(canonical)
}

// CanonicalClient strips a port and writes an IPv6 address in its canonical
// form (RFC 5952). An IPv4 address or a name without a port, by far the most
// frequent, is given back as it is.
func CanonicalClient(client string) string {
	var b [16]byte
	if !startsAs4(client) && parse6(client, &b) {
		var text [39]byte
		if t := netip.AddrFrom16(b).AppendTo(text[:0]); string(t) != client {
			return string(t)
		}
		return client
	}
	colons := strings.Count(client, ":")
	if colons == 0 {
		return client
	}
	if client[0] != '[' && colons > 1 {
		if a, err := netip.ParseAddr(client); err == nil {
			return a.Unmap().WithZone("").String()
		}
		return client
	}
	if ap, err := netip.ParseAddrPort(client); err == nil {
		return ap.Addr().Unmap().WithZone("").String()
	}
	if i := strings.IndexByte(client, ':'); colons == 1 && i > 0 {
		return client[:i]
	}
	return client
}

// HasPort reports whether a port may follow a client's address: it begins with a bracket,
// or holds one colon.
func HasPort(client string) bool {
	n := len(client)
	switch {
	case n < 8:
		return strings.Count(client, ":") == 1 || n > 0 && client[0] == '['
	case client[0] == '[':
		return true
	case n <= 16:
		// No jump that could not be predicted: some have none, some have many.
		return bits.OnesCount64(colonsOf(eight(client, 0)))+bits.OnesCount64(colonsOf(eight(client, n-8)>>(8*(16-n)))) == 1
	}
	one := false
	for i := 0; i < n; i += 8 {
		at := min(i, n-8)
		if found := colonsOf(eight(client, at) >> (8 * (i - at))); found != 0 {
			if one || found&(found-1) != 0 {
				return false
			}
			one = true
		}
	}
	return one
}

// colonsOf returns the high bit of each of eight bytes that is a colon.
func colonsOf(x uint64) uint64 {
	const lows, colons = 0x7f7f7f7f7f7f7f7f, 0x3a3a3a3a3a3a3a3a
	x ^= colons
	return ^(x&lows + lows | x | lows)
}

// startsAs4 reports whether a dot stands where it does in an IPv4 address.
func startsAs4(s string) bool {
	return len(s) > 3 && (s[1] == '.' || s[2] == '.' || s[3] == '.')
}

// hexDigits returns the value of a hexadecimal digit, notHex for anything else.
var hexDigits = func() (t [256]uint32) {
	for i := range t {
		t[i] = notHex
	}
	for i, c := range "0123456789abcdef" {
		t[c] = uint32(i)
	}
	for i, c := range "ABCDEF" {
		t[c] = uint32(10 + i)
	}
	return t
}()

const notHex = 1 << 16

// parse6 reads an IPv6 address (RFC 4291 section 2.2) three times as fast as the
// library, a group at a time. It leaves to the library, by giving false, what is
// none, what has a zone, a port or an IPv4 address in it, and the shortest.
func parse6(s string, out *[16]byte) bool {
	const shortest, longest = 8, 39
	if len(s) < shortest || len(s) > longest {
		return false
	}
	at, groups, gap := 0, 0, -1
	if s[0] == ':' {
		if s[1] != ':' {
			return false
		}
		at, gap = 2, 0
	}
	for at < len(s) {
		// Eight bytes from here on; the last group ends with a colon as well.
		var x uint64
		if left := len(s) - at; left >= 8 {
			x = eight(s, at)
		} else {
			x = eight(s, len(s)-8)>>(64-8*left) | uint64(':')<<(8*left)
		}
		colons := x ^ 0x3a3a3a3a3a3a3a3a
		n := bits.TrailingZeros64((colons-0x0101010101010101)&^colons&0x8080808080808080) >> 3
		if n > 4 || groups == 8 {
			return false
		}
		if n == 0 {
			if gap >= 0 || groups == 0 {
				return false
			}
			gap = groups
			at++
			continue
		}
		// The digits stand last, with zeros before them.
		d := uint32(x)<<(32-8*n) | uint32(0x30303030)>>(8*n)
		v := hexDigits[byte(d)]<<12 | hexDigits[byte(d>>8)]<<8 | hexDigits[byte(d>>16)]<<4 | hexDigits[byte(d>>24)]
		if v >= notHex {
			return false
		}
		binary.BigEndian.PutUint16(out[2*groups:], uint16(v))
		groups++
		at += n + 1
	}
	switch {
	case at == len(s) && gap != groups:
		return false // it ends with one colon
	case gap < 0:
		if groups != 8 {
			return false
		}
	case groups == 8:
		return false // :: stands for one group at least
	default:
		after := 2 * (groups - gap)
		copy(out[16-after:], out[2*gap:2*groups])
		clear(out[2*gap : 16-after])
	}
	in4 := binary.BigEndian.Uint64(out[:]) == 0 && binary.BigEndian.Uint32(out[8:]) == 0xffff
	return !in4 // which is the IPv4 address to everybody
}

// eight returns eight bytes of a text.
func eight(s string, at int) uint64 {
	b := s[at : at+8]
	return uint64(b[0]) | uint64(b[1])<<8 | uint64(b[2])<<16 | uint64(b[3])<<24 |
		uint64(b[4])<<32 | uint64(b[5])<<40 | uint64(b[6])<<48 | uint64(b[7])<<56
}
