package trace

import (
	"encoding/binary"
	"math/bits"
)

// marks tells where in a part of a buffer the characters are by which a line is
// taken apart: they are found many bytes at a time, without regard to lines, which
// is several times as fast as to look for each in turn (Langdale and Lemire: Parsing
// Gigabytes of JSON per Second, The VLDB Journal 28, 2019).
type marks struct {
	from int // where the part of the buffer begins

	// Where, from the beginning of the part on, there is a quote, a backslash or the
	// end of a line.
	tape []uint32
	next int // the first that has not been used

	// Where there is a space: a bit for each byte of the part, the lowest first.
	spaces []uint64
}

// markedPart is how much of a buffer is marked at once: what there is to say of it
// stays in the first cache of a processor.
const markedPart = 16 << 10

// markBlock is how many bytes are looked at in one go.
const markBlock = 64

// read marks the buffer from there on, as far as a part goes.
func (m *marks) read(buf []byte, from int) {
	if m.tape == nil {
		m.tape = make([]uint32, markedPart+markBlock)
		m.spaces = make([]uint64, markedPart/markBlock+2) // and one to look into behind the last
	}
	part := buf[from:min(len(buf), from+markedPart)]
	m.from, m.next = from, 0
	whole := len(part) / markBlock
	tape := m.tape[:cap(m.tape)]
	n := 0
	if whole > 0 {
		n = mark(part[:whole*markBlock], tape, m.spaces)
	}
	if rest := part[whole*markBlock:]; len(rest) > 0 {
		var last [markBlock]byte
		copy(last[:], rest)
		k := mark(last[:], tape[n:], m.spaces[whole:])
		for i := n; i < n+k; i++ {
			tape[i] += uint32(whole * markBlock)
		}
		n += k
		whole++
	}
	m.spaces[whole] = 0
	m.tape = tape[:n]
}

// spaceFrom gives how far the first space is from a place of the part, if there is
// one less than 64 bytes away; 64 if not.
func spaceFrom(spaces []uint64, at int) int {
	w, b := spaces[at/64:at/64+2], at%64
	return bits.TrailingZeros64(w[0]>>b | w[1]<<(64-b))
}

// markPlain is mark for any processor. The text is as many whole blocks; the tape
// must have room for an entry a byte and eight more.
func markPlain(text []byte, tape []uint32, spaces []uint64) int {
	const ones, highs = 0x0101010101010101, 0x8080808080808080
	n := 0
	for at := 0; at < len(text); at += markBlock {
		var found, space uint64
		for i := 0; i < markBlock; i += 8 {
			x := binary.LittleEndian.Uint64(text[at+i:])
			q, b, e, s := x^ones*'"', x^ones*'\\', x^ones*'\n', x^ones*' '
			// The high bit of each byte that is zero, and of no other.
			q = ^((q&^highs + ones*0x7f) | q | ones*0x7f)
			b = ^((b&^highs + ones*0x7f) | b | ones*0x7f)
			e = ^((e&^highs + ones*0x7f) | e | ones*0x7f)
			s = ^((s&^highs + ones*0x7f) | s | ones*0x7f)
			// They are gathered into one byte by a multiplication.
			const gather = 0x0102040810204080
			found |= (q | b | e) >> 7 * gather >> 56 << i
			space |= s >> 7 * gather >> 56 << i
		}
		spaces[at/markBlock] = space
		for ; found != 0; found &= found - 1 {
			tape[n] = uint32(at + bits.TrailingZeros64(found))
			n++
		}
	}
	return n
}
