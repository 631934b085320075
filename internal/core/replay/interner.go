package replay

import (
	"encoding/binary"
	"math/bits"
	"slices"
)

// interner gives each 64-bit hash a dense number. Two clients whose hashes are
// equal are taken for one: among a million that is one chance in 37 million. It
// takes 18 to 26 bytes for each: with slots to spare most are found at once.
type interner struct {
	slots  []uint32 // number+1 of a hash, 0 for an empty slot
	hashes []uint64 // by number
	n      uint32
	near   uint64 // means nothing; keeps fetch from being left out
}

func (t *interner) number(hash uint64) (uint32, bool) {
	if int(t.n)*2 >= len(t.slots) {
		t.grow()
	}
	mask := uint64(len(t.slots) - 1)
	for i := hash * 0x9e3779b97f4a7c15 >> 20 & mask; ; i = (i + 1) & mask {
		id := t.slots[i]
		if id == 0 {
			t.n++
			t.slots[i] = t.n
			if len(t.hashes) == cap(t.hashes) {
				// By a quarter: doubling would leave half of it empty.
				t.hashes = slices.Grow(t.hashes, max(1024, len(t.hashes)/4))
			}
			t.hashes = append(t.hashes, hash)
			return t.n - 1, true
		}
		if t.hashes[id-1] == hash {
			return id - 1, false
		}
	}
}

// fetch brings what is known of some clients near: a processor looks them up side
// by side as long as nothing is to be decided in between.
func (t *interner) fetch(some []caller) {
	if t.n < 1<<13 {
		return
	}
	mask, last := uint64(len(t.slots)-1), uint32(len(t.hashes)-1)
	var where [few]uint32
	for i := range some {
		where[i] = t.slots[some[i].hash*0x9e3779b97f4a7c15>>20&mask]
	}
	for i := range some {
		t.near ^= t.hashes[min(where[i], last)]
	}
}

func (t *interner) grow() {
	t.slots = make([]uint32, max(1024, 2*len(t.slots)))
	mask := uint64(len(t.slots) - 1)
	for n, hash := range t.hashes {
		i := hash * 0x9e3779b97f4a7c15 >> 20 & mask
		for t.slots[i] != 0 {
			i = (i + 1) & mask
		}
		t.slots[i] = uint32(n) + 1
	}
}

// quickHash hashes a text, of up to 16 bytes with one multiplication, and with one
// more for each further 16 or less (the way of folding both halves of a product is
// that of Wang Yi's wyhash). It asks as little as it can of what cannot be foretold,
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
