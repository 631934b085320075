package trace

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"net/netip"
	"strings"
)

// Anonymiser replaces who is told of in records, consistently under a key: the
// same address or session always becomes the same other one, and nobody without
// the key can tell which it was. Paths, queries, referers and user agents stay.
//
// Addresses keep their neighbourhood: two that share their first n bits share
// them afterwards, so that keys and limits by prefix act as before. The method
// is that of Xu, Fan, Ammar and Moon, Prefix-Preserving IP Address Anonymization
// (ICNP 2002): each bit is turned over or not by a keyed function of those
// before it, which makes it one to one.
type Anonymiser struct {
	block cipher.Block
	pad   [16]byte
	key   []byte
	out   []byte
}

// NewAnonymiser makes one of a key of any length.
func NewAnonymiser(key []byte) *Anonymiser {
	material := sha256.Sum256(append([]byte("kestrix anonymise 1 "), key...))
	block, err := aes.NewCipher(material[:16])
	if err != nil {
		panic(err) // a key of 16 bytes is one
	}
	a := &Anonymiser{block: block, key: material[16:]}
	block.Encrypt(a.pad[:], material[16:])
	return a
}

// private are header fields that name a person or let one in.
var private = []string{"authorization", "proxy-authorization", "cookie", "set-cookie", "forwarded", "x-forwarded-for", "x-real-ip", "from"}

// Apply replaces client, session, cookies, and header fields that tell of them.
// What it puts into the record holds until the next call.
func (a *Anonymiser) Apply(r *Record) {
	a.out = a.out[:0]
	if r.Client != nil {
		r.Client = a.client(text(r.Client))
	}
	if r.Session != nil {
		r.Session = a.word("s", r.Session)
	}
	for i := range r.Cookies {
		r.Cookies[i].Value = a.word("c", r.Cookies[i].Value)
	}
	for i := range r.Headers {
		for _, p := range private {
			if strings.EqualFold(text(r.Headers[i].Name), p) {
				r.Headers[i].Value = a.word("h", r.Headers[i].Value)
			}
		}
	}
}

// word returns sixteen letters for a text.
func (a *Anonymiser) word(kind string, v []byte) []byte {
	m := hmac.New(sha256.New, a.key)
	m.Write([]byte(kind))
	m.Write(v)
	from := len(a.out)
	a.out = hex.AppendEncode(a.out, m.Sum(nil)[:8])
	return a.out[from:len(a.out):len(a.out)]
}

func (a *Anonymiser) client(client string) []byte {
	addr, err := netip.ParseAddr(CanonicalClient(client))
	if err != nil {
		from := len(a.out)
		a.out = append(a.out, "client-"...)
		a.word("n", []byte(client))
		return a.out[from:len(a.out):len(a.out)]
	}
	from := len(a.out)
	a.out = a.address(addr).AppendTo(a.out)
	return a.out[from:len(a.out):len(a.out)]
}

// address turns the bits of an address over.
func (a *Anonymiser) address(addr netip.Addr) netip.Addr {
	var in, out [16]byte
	bits := addr.BitLen()
	if bits == 32 {
		v4 := addr.As4()
		copy(in[:], v4[:])
	} else {
		in = addr.As16()
	}
	for i := range bits {
		// The bits before this one, and the key's from here on.
		block := a.pad
		copy(block[:i/8], in[:i/8])
		if k := i % 8; k > 0 {
			mask := byte(0xff << (8 - k))
			block[i/8] = in[i/8]&mask | a.pad[i/8]&^mask
		}
		block[15] ^= byte(bits) // IPv4 and IPv6 apart
		a.block.Encrypt(block[:], block[:])
		flip := block[0] >> 7
		out[i/8] |= (in[i/8]>>(7-i%8)&1 ^ flip) << (7 - i%8)
	}
	if bits == 32 {
		return netip.AddrFrom4([4]byte(out[:4]))
	}
	return netip.AddrFrom16(out)
}
