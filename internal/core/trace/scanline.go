package trace

import (
	"encoding/binary"
	"math/bits"

	"kestrix/internal/core/trace/scan"
)

// scan reads a line of the most frequent shape, which begins at a place of what is
// marked, eight bytes at a time:
//
//	ADDRESS - - [STAMP] "METHOD PATH HTTP/1.1" STATUS BYTES "REFERER" "AGENT" ...
//
// with any further fields that have no quotes. It returns where the next line begins.
// Any other line it leaves, without a word, to parse, which takes it apart character by
// character and says what is wrong with it. Without it `kestrix replay CONFIG LOG` of two
// million such lines takes a fifth more time on one core (taskset -c 0). With two cores
// free, where reading goes on beside the replay, it takes a tenth more processor time
// and as long.
func (c *combined) scan(buf []byte, m *scan.Marks, start int, r *Record) (next int, ok bool) {
	for m.Next < len(m.Tape) && m.From+int(m.Tape[m.Next]) < start {
		m.Next++ // of a line that parse has read
	}
	if m.Next+7 > len(m.Tape) || start < m.From {
		m.Read(buf, start)
		if len(m.Tape) < 7 {
			return 0, false
		}
	}
	b := buf[m.From:]
	l, path, ok := locate(b, m, start-m.From)
	if !ok {
		return 0, false
	}
	after := word(b, l.q1)
	code := uint32(after>>16)&0xffffff ^ 0x303030
	if (code+0x767676|code)&0x808080 != 0 || code&0xff == 0 {
		return 0, false
	}
	sent := word(b, l.q2-9) >> (64 - 8*l.size)
	if digitsOf(sent) < l.size && sent != '-' { // for none
		return 0, false
	}
	r.reset()
	if stamp := b[l.client+6 : l.client+6+26 : l.client+6+26]; c.sameStamp(stamp) {
		r.Time = c.lastTime
	} else {
		var why string
		if r.Time, _, why = c.stamp(stamp); why != "" {
			return 0, false
		}
	}
	r.WholeSecond, r.Client, r.Method, r.Path = true, b[l.at:l.client], b[l.q0+1:path-1], b[path:l.q1-9]
	r.Referer, r.UserAgent = known(b[l.q2+1:l.q3]), known(b[l.q4+1:l.q5])
	r.Status = int(code&0xff)*100 + int(code>>8&0xff)*10 + int(code>>16)
	if r.Bytes = 0; sent != '-' {
		r.Bytes = int64(number(sent, l.size))
	}
	if !c.tail(b[l.at:l.end], l.q5+1-l.at, r) {
		return 0, false
	}
	m.Next += 7
	return m.From + l.end + 1, true
}

// tail reads the further fields of a line, which begin at a place; false if there is
// something wrong with them.
func (c *combined) tail(line []byte, from int, r *Record) bool {
	if line[len(line)-1] == '\r' {
		line = line[:len(line)-1]
	}
	if from >= len(line) {
		return true
	}
	if line[from] != ' ' {
		return false
	}
	column, _ := c.further(line, skipSpace(line, from), r)
	return column == 0
}

// linePlaces are where a line and its client begin and end, where its quotes are, and
// how many digits its bytes have.
type linePlaces struct {
	at, client, end        int
	q0, q1, q2, q3, q4, q5 int
	size                   int
}

// locate returns where everything of a line is, and where its path begins; false for a
// line of another shape.
func locate(b []byte, m *scan.Marks, at int) (l linePlaces, path int, ok bool) {
	// Where everything is if it is of that shape; that it is has yet to be seen.
	tape := (*[7]uint32)(m.Tape[m.Next:])
	l = linePlaces{
		at: at, q0: int(tape[0]), q1: int(tape[1]), q2: int(tape[2]), q3: int(tape[3]), q4: int(tape[4]), q5: int(tape[5]), end: int(tape[6]),
	}
	l.client, l.size = l.q0-stampWidth-2, l.q2-l.q1-7
	if l.client <= at || l.q1-l.q0 <= len("G / HTTP/1.1") || l.size < 1 || l.size > 8 || l.q5+8 > len(b) || m.Space(at) != l.client-at || b[at] == '#' {
		return l, 0, false
	}
	if !l.shaped(b) || l.client == at+1 && b[at] == '-' {
		return l, 0, false
	}
	n := capitals(b[l.q0+1 : l.q1])
	path = l.q0 + n + 2
	return l, path, n > 0 && path < l.q1-9 && b[path-1] == ' ' && b[path] == '/'
}

// shaped reports whether what stands between the places is as it should be, eight bytes
// at a time and branch-free.
func (l *linePlaces) shaped(b []byte) bool {
	const (
		dashes  = uint64(' ') | '-'<<8 | ' '<<16 | '-'<<24 | ' '<<32 | '['<<40
		request = uint64(']')<<40 | ' '<<48 | '"'<<56
		version = uint64(' ') | 'H'<<8 | 'T'<<16 | 'T'<<24 | 'P'<<32 | '/'<<40
		status  = uint64('"') | ' '<<8 | ' '<<40
		referer = uint64(' ')<<48 | '"'<<56
		agent   = uint64('"') | ' '<<8 | '"'<<16
	)
	return (word(b, l.client)^dashes)&(1<<48-1)|
		(word(b, l.q0-7)^request)&(0xffffff<<40)|
		(word(b, l.q1-9)^version)&(1<<48-1)|
		(word(b, l.q1)^status)&0x0000ff000000ffff|
		(word(b, l.q2-7)^referer)&(0xffff<<48)|
		(word(b, l.q3)^agent)&0xffffff|uint64(l.q4-l.q3-2) == 0 && b[l.q5] == '"' && b[l.end] == '\n'
}

// word returns the eight bytes at a place, the first lowest.
func word(b []byte, at int) uint64 { return binary.LittleEndian.Uint64(b[at : at+8]) }

// sameStamp reports whether what begins with a stamp of 26 bytes begins with that
// of the line before.
func (c *combined) sameStamp(b []byte) bool {
	l := &c.last
	return len(b) >= 26 &&
		binary.LittleEndian.Uint64(b[16:]) == binary.LittleEndian.Uint64(l[16:]) && // what changes most, first
		binary.LittleEndian.Uint64(b[8:]) == binary.LittleEndian.Uint64(l[8:]) &&
		binary.LittleEndian.Uint64(b) == binary.LittleEndian.Uint64(l[:]) &&
		binary.LittleEndian.Uint64(b[18:]) == binary.LittleEndian.Uint64(l[18:])
}

// capitals returns how many letters from A to Z a text of at least 8 bytes begins
// with.
func capitals(b []byte) int {
	const highs = 0x8080808080808080
	x := binary.LittleEndian.Uint64(b)
	// A byte from A on gets its high bit by the first sum, one after Z by the
	// second as well. What carries over from a byte goes to those after it, which
	// no longer count.
	letters := (x + 0x3f3f3f3f3f3f3f3f) &^ (x + 0x2525252525252525) & highs
	if n := bits.TrailingZeros64(^letters&highs) >> 3; n < 8 {
		return n
	}
	n := 8
	for n < len(b) && b[n] >= 'A' && b[n] <= 'Z' {
		n++
	}
	return n
}

// digitsOf returns with how many digits eight bytes begin.
func digitsOf(x uint64) int {
	x ^= 0x3030303030303030
	return bits.TrailingZeros64((x+0x7676767676767676|x)&0x8080808080808080) >> 3
}

// number returns the number that the first n of eight bytes write: pairs of digits
// are put together, then pairs of those, then pairs of those (Lamport: Multiple
// Byte Processing with Full-Word Instructions, Communications of the ACM 18,
// 1975).
func number(x uint64, n int) uint64 {
	x = (x ^ 0x3030303030303030) << (64 - 8*n)
	x = (x&0x00ff00ff00ff00ff)*10 + x>>8&0x00ff00ff00ff00ff
	x = (x&0x0000ffff0000ffff)*100 + x>>16&0x0000ffff0000ffff
	return (x&0xffffffff)*10000 + x>>32
}

// shortFraction is fraction for a number of the most frequent length.
func shortFraction(b []byte) (int64, bool) {
	if len(b) < 8 || len(b) > 10 || b[1] != '.' {
		return fraction(b)
	}
	places := len(b) - 2
	first, last := uint64(b[0]-'0'), binary.LittleEndian.Uint64(b[len(b)-8:])>>(64-8*places)
	if first > 9 || digitsOf(last) < places {
		return fraction(b)
	}
	return int64(first)*1e9 + int64(number(last, places))*tens[9-places], true
}
