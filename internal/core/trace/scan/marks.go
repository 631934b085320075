// Package scan finds the characters by which lines of a log are taken apart, many
// bytes at a time. Package trace uses it. It is the only package of the core with
// assembly and with package unsafe, and must never know what a line means.
package scan

import (
	"encoding/binary"
	"math/bits"
	"unsafe"
)

// Text returns bytes as a string without copying them. It holds as long as they are
// not written to.
func Text(b []byte) string {
	if len(b) == 0 {
		return ""
	}
	return unsafe.String(&b[0], len(b))
}

// Marks are the places of quotes, backslashes, ends of lines and spaces in a part of a
// buffer. They are found without regard to lines, which is several times as fast as
// looking for each in turn (Langdale and Lemire: Parsing Gigabytes of JSON per Second,
// The VLDB Journal 28, 2019). The zero value has none.
type Marks struct {
	From int // where the part of the buffer begins

	// Tape has the places of quotes, backslashes and ends of lines, counted from From.
	Tape []uint32
	Next int // the first of Tape that has not been used

	// spaces has a bit for each byte of the part, the lowest first: set for a space.
	spaces []uint64
}

// Clear drops all marks, as when the buffer has changed.
func (m *Marks) Clear() { m.Tape = m.Tape[:0] }

// Part is how much of a buffer is marked at once: the marks of it
// stay in the first cache of a processor.
const Part = 16 << 10

// markBlock is how many bytes are compared at once.
const markBlock = 64

// Read marks the buffer from a place on, as far as a part goes.
func (m *Marks) Read(buf []byte, from int) {
	if m.Tape == nil {
		m.Tape = make([]uint32, Part+markBlock)
		m.spaces = make([]uint64, Part/markBlock+2) // and one to look into behind the last
	}
	part := buf[from:min(len(buf), from+Part)]
	m.From, m.Next = from, 0
	whole := len(part) / markBlock
	tape := m.Tape[:cap(m.Tape)]
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
	m.Tape = tape[:n]
}

// Space returns how far the first space is from a place of the part, if there is one
// less than 64 bytes away; 64 if not.
func (m *Marks) Space(at int) int {
	w, b := m.spaces[at/64:at/64+2], at%64
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
