package trace

import (
	"encoding/binary"
	"math/bits"
	"unsafe"
)

// Plain is a log line of the most frequent shape, as the places of its parts in the
// text it was read from: nothing of it is copied, or turned into more than what
// nearly everybody asks for.
type Plain struct {
	Time     int64 // nanoseconds since the epoch, of a whole second
	Duration int64 // nanoseconds, -1 if unknown
	Status   int   // never 0

	at, client   uint32 // where the client begins, and ends
	method, path uint32 // where the method ends, and the path begins
	quotes       [6]uint32
	digits       uint32 // of the bytes
	end          uint32 // of the line
}

// Client gives how the client is written.
func (l *Plain) Client(text []byte) []byte { return text[l.at:l.client] }

// Method gives the method.
func (l *Plain) Method(text []byte) []byte { return text[l.quotes[0]+1 : l.method] }

// Asked gives method and path as they are written.
func (l *Plain) Asked(text []byte) []byte { return text[l.quotes[0]+1 : l.quotes[1]-9] }

// UserAgent gives the user agent, nil if it is not known.
func (l *Plain) UserAgent(text []byte) []byte { return known(text[l.quotes[4]+1 : l.quotes[5]]) }

// Record gives the line as a record, but for its number.
func (l *Plain) Record(text []byte, r *Record) {
	r.Time, r.WholeSecond, r.Protocol, r.Duration, r.Status = l.Time, true, HTTP, l.Duration, l.Status
	r.Client, r.Method, r.Path = l.Client(text), l.Method(text), text[l.path:l.quotes[1]-9]
	r.Referer, r.UserAgent = known(text[l.quotes[2]+1:l.quotes[3]]), l.UserAgent(text)
	r.Host, r.Session, r.Frontend, r.Upstream, r.Backend = nil, nil, nil, nil, nil
	r.Headers, r.Cookies = r.Headers[:0], r.Cookies[:0]
	r.Bytes = 0 // for none
	if size := l.digits; text[l.quotes[2]-2] != '-' {
		r.Bytes = int64(number(binary.LittleEndian.Uint64(text[l.quotes[2]-9:])>>(64-8*size), int(size)))
	}
}

// quick reads the lines from a place of what is marked on that are of the most
// frequent shape, eight bytes at a time:
//
//	ADDRESS - - [STAMP] "METHOD PATH HTTP/1.1" STATUS BYTES "REFERER" "AGENT" SECONDS
//
// with or without the last, as many as there is room for. It gives how many they
// were, and leaves the line after them, saying nothing, to parse, which then takes it
// apart and complains about it.
func (c *combined) quick(buf []byte, m *marks, start int, lines []Plain) int {
	for m.next < len(m.tape) && m.from+int(m.tape[m.next]) < start {
		m.next++
	}
	const (
		dashes  = uint64(' ') | '-'<<8 | ' '<<16 | '-'<<24 | ' '<<32 | '['<<40
		request = uint64(']')<<40 | ' '<<48 | '"'<<56
		version = uint64(' ') | 'H'<<8 | 'T'<<16 | 'T'<<24 | 'P'<<32 | '/'<<40
		status  = uint64('"') | ' '<<8 | ' '<<40
		referer = uint64(' ')<<48 | '"'<<56
		agent   = uint64('"') | ' '<<8 | '"'<<16
		shut    = uint64('"')
		newline = uint64('\n')
	)
	i, next, marked, spaces := 0, m.next, m.tape, m.spaces
	b := buf[min(m.from, len(buf)):]
	for ; i < len(lines); i++ {
		if next+7 > len(marked) || start < m.from {
			m.read(buf, start)
			next, marked, spaces, b = 0, m.tape, m.spaces, buf[m.from:]
			if len(marked) < 7 {
				break
			}
		}
		// Where everything is if it is of that shape; that it is has yet to be seen.
		tape := (*[7]uint32)(marked[next:])
		q0, q1, q2, q3, q4, q5, end := int(tape[0]), int(tape[1]), int(tape[2]), int(tape[3]), int(tape[4]), int(tape[5]), int(tape[6])
		at := start - m.from
		client := q0 - plainStamp - 2 // where it ends
		size := q2 - q1 - 7           // how many digits the bytes have
		if end+8 > len(b) || client <= at || q1-q0 <= len("G / HTTP/1.1") || size < 1 || size > 8 || spaceFrom(spaces, at) != client-at || b[at] == '#' {
			break
		}
		// The entries of the tape ascend, and eight bytes follow the last: with what was
		// found above, every place from here on lies in b with the eight bytes there.
		p := unsafe.Pointer(unsafe.SliceData(b))
		after := eightAt(p, q1)
		if (eightAt(p, client)^dashes)&(1<<48-1)|
			(eightAt(p, q0-7)^request)&(0xffffff<<40)|
			(eightAt(p, q1-9)^version)&(1<<48-1)|
			(after^status)&0x0000ff000000ffff|
			(eightAt(p, q2-7)^referer)&(0xffff<<48)|
			(eightAt(p, q3)^agent)&0xffffff|uint64(q4-q3-2)|
			(eightAt(p, q5)^shut)&0xff|(eightAt(p, end)^newline)&0xff != 0 {
			break
		}
		l := &lines[i]
		if stamp := b[client+6 : client+6+26 : client+6+26]; c.sameStamp(stamp) {
			l.Time = c.lastTime
		} else {
			var why string
			if l.Time, _, why = c.stamp(stamp); why != "" {
				break
			}
		}
		if client == at+1 && b[at] == '-' {
			break
		}
		n := capitals(b[q0+1 : q1])
		path := q0 + n + 2
		if n == 0 || path >= q1-9 || uint16(eightAt(p, path-1)) != ' '|'/'<<8 {
			break
		}
		// Status and bytes.
		code := uint32(after>>16)&0xffffff ^ 0x303030
		if (code+0x767676|code)&0x808080 != 0 || code&0xff == 0 {
			break
		}
		l.Status = int(code&0xff)*100 + int(code>>8&0xff)*10 + int(code>>16)
		if sent := eightAt(p, q2-9) >> (64 - 8*size); digitsOf(sent) < size && sent != '-' { // for none
			break
		}
		l.Duration = -1
		tail := end
		if b[tail-1] == '\r' {
			tail--
		}
		if tail -= q5 + 2; tail >= 0 {
			if b[q5+1] != ' ' {
				break
			}
			var ok bool
			if l.Duration, ok = shortFraction(b[q5+2 : q5+2+tail]); !ok {
				break
			}
		}
		from := uint32(m.from)
		l.at, l.client, l.method, l.path = uint32(start), from+uint32(client), from+uint32(path-1), from+uint32(path)
		l.quotes[0], l.quotes[1], l.quotes[2] = from+uint32(q0), from+uint32(q1), from+uint32(q2)
		l.quotes[3], l.quotes[4], l.quotes[5] = from+uint32(q3), from+uint32(q4), from+uint32(q5)
		l.digits, l.end = uint32(size), from+uint32(end)
		next += 7
		start = m.from + end + 1
	}
	m.next = next
	return i
}

// eightAt gives the eight bytes at a place, the first lowest.
func eightAt(p unsafe.Pointer, at int) uint64 {
	return binary.LittleEndian.Uint64((*[8]byte)(unsafe.Add(p, at))[:])
}

// sameStamp says whether what begins with a stamp of 26 bytes begins with that
// of the line before.
func (c *combined) sameStamp(b []byte) bool {
	l := &c.last
	return len(b) >= 26 &&
		binary.LittleEndian.Uint64(b[16:]) == binary.LittleEndian.Uint64(l[16:]) && // what changes most, first
		binary.LittleEndian.Uint64(b[8:]) == binary.LittleEndian.Uint64(l[8:]) &&
		binary.LittleEndian.Uint64(b) == binary.LittleEndian.Uint64(l[:]) &&
		binary.LittleEndian.Uint64(b[18:]) == binary.LittleEndian.Uint64(l[18:])
}

// capitals gives how many letters from A to Z a text of at least 8 bytes begins
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

// digitsOf gives with how many digits eight bytes begin.
func digitsOf(x uint64) int {
	x ^= 0x3030303030303030
	return bits.TrailingZeros64((x+0x7676767676767676|x)&0x8080808080808080) >> 3
}

// number gives the number that the first n of eight bytes write: pairs of digits
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
