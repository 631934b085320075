package replay

import (
	"encoding/binary"
	"math/bits"
	"slices"

	"github.com/cespare/xxhash/v2"
)

// interner gives each 64-bit hash a dense number. Two clients whose hashes are
// equal are taken for one: among a million that is one chance in 37 million. It
// takes 14 to 18 bytes for each.
type interner struct {
	slots  []uint32 // number+1 of a hash, 0 for an empty slot
	hashes []uint64 // by number
	n      uint32
}

func (t *interner) number(hash uint64) (uint32, bool) {
	if int(t.n)*5 >= len(t.slots)*4 {
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

// quickHash hashes a text for a table of what was seen lately. Up to 16 bytes,
// as of most addresses, it is one multiplication (the way of folding both halves
// of a product is that of Wang Yi's wyhash).
func quickHash(b []byte) uint64 {
	const a, c = 0xa0761d6478bd642f, 0xe7037ed1a0b428db
	n := len(b)
	var x, y uint64
	switch {
	case n > 16:
		return xxhash.Sum64(b)
	case n >= 8:
		x, y = binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[n-8:])
	case n >= 4:
		x, y = uint64(binary.LittleEndian.Uint32(b)), uint64(binary.LittleEndian.Uint32(b[n-4:]))
	case n > 0:
		x, y = uint64(b[0])<<16|uint64(b[n/2])<<8|uint64(b[n-1]), 0
	}
	hi, lo := bits.Mul64(x^a, y^c^uint64(n))
	return hi ^ lo
}
