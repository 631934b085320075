package ingest

import (
	"encoding/binary"
	"math/bits"
	"slices"
)

// interner maps 64-bit hashes to dense numbers. Two clients whose hashes are equal are
// taken for one: among a million that is one chance in 37 million.
//
// It takes 18 to 26 bytes for each, and the slots are half empty at least, so that most
// are found at the first.
type interner struct {
	slots  []uint32 // plus 1, the number of a hash; 0 for an empty slot
	hashes []uint64 // by number
}

// number returns the number of a hash, and whether it is new.
func (t *interner) number(hash uint64) (uint32, bool) {
	if 2*len(t.hashes) >= len(t.slots) {
		t.grow()
	}
	i := t.place(hash)
	if n := t.slots[i]; n != 0 {
		return n - 1, false
	}
	if len(t.hashes) == cap(t.hashes) {
		// By a quarter: doubling would leave half of it empty.
		t.hashes = slices.Grow(t.hashes, max(1024, len(t.hashes)/4))
	}
	t.hashes = append(t.hashes, hash)
	t.slots[i] = uint32(len(t.hashes))
	return uint32(len(t.hashes) - 1), true
}

// place returns the slot of a hash, or the empty one where it belongs.
func (t *interner) place(hash uint64) uint64 {
	mask := uint64(len(t.slots) - 1)
	i := hash * 0x9e3779b97f4a7c15 >> bits.LeadingZeros64(mask)
	for n := t.slots[i]; n != 0 && t.hashes[n-1] != hash; n = t.slots[i] {
		i = (i + 1) & mask
	}
	return i
}

func (t *interner) grow() {
	t.slots = make([]uint32, max(1024, 2*len(t.slots)))
	for n, hash := range t.hashes {
		t.slots[t.place(hash)] = uint32(n) + 1
	}
}

// quickHash hashes a text, of up to 16 bytes with one multiplication, and with one
// more for each further 16 or less (the way of folding both halves of a product is
// that of Wang Yi's wyhash). It asks as little as it can of what cannot be predicted,
// as how long a text is.
func quickHash(b []byte) uint64 {
	h := uint64(len(b)) * hashLength
	if len(b) <= 16 {
		return shortHash(b, h)
	}
	last := b[len(b)-16:] // some of which may be taken in twice
	for len(b) > 16 {
		h = fold(binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[8:]), h)
		b = b[16:]
	}
	return fold(binary.LittleEndian.Uint64(last), binary.LittleEndian.Uint64(last[8:]), h)
}

// identityHash is quickHash for what results depend on, which stay what they were: it
// takes every byte in once.
func identityHash(b []byte) uint64 {
	h := uint64(len(b)) * hashLength
	for len(b) > 16 {
		h = fold(binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[8:]), h)
		b = b[16:]
	}
	return shortHash(b, h)
}

// shortHash ends the hash of a text of which up to 16 bytes are left.
func shortHash(b []byte, h uint64) uint64 {
	n := len(b)
	switch {
	case n >= 8:
		return fold(binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[n-8:]), h)
	case n >= 4:
		return fold(uint64(binary.LittleEndian.Uint32(b)), uint64(binary.LittleEndian.Uint32(b[n-4:])), h)
	case n > 0:
		return fold(uint64(b[0])<<16|uint64(b[n/2])<<8|uint64(b[n-1]), 0, h)
	}
	return fold(0, 0, h)
}

const hashLength = 0x8ebc6af09c88c6e3

func fold(x, y, h uint64) uint64 {
	hi, lo := bits.Mul64(x^0xa0761d6478bd642f^h, y^0xe7037ed1a0b428db)
	return hi ^ lo
}
