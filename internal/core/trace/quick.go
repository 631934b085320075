package trace

import (
	"bytes"
	"encoding/binary"
	"math/bits"
)

// quick reads a line of the most frequent shape, eight bytes at a time:
//
//	ADDRESS - - [STAMP] "METHOD PATH HTTP/1.1" STATUS BYTES "REFERER" "AGENT" SECONDS
//
// with or without the last. It gives false, and says nothing, for any other,
// which parse then takes apart and complains about; what it has written into the
// record by then is written again. The line holds no backslash.
func (c *combined) quick(line []byte, r *Record) bool {
	const shortest = len(`a - - [23/Nov/2026:06:55:08 +0000] "G / HTTP/1.1" 200 0 "" ""`)
	if len(line) < shortest {
		return false
	}
	i := spaceIn(line)
	if i <= 0 || i+plainStamp+5 > len(line)-8 || i == 1 && line[0] == '-' {
		return false
	}
	const dashes = uint64(' ') | '-'<<8 | ' '<<16 | '-'<<24 | ' '<<32 | '['<<40
	if binary.LittleEndian.Uint64(line[i:])&(1<<48-1) != dashes {
		return false
	}
	client := line[:i]
	b := line[i+6 : i+plainStamp+8 : i+plainStamp+8] // the stamp, `] "`, and more
	if !c.sameStamp(b) {
		if line[i+plainStamp] != ']' || c.stamp(line[i+6:i+plainStamp], r) != "" {
			return false
		}
	} else {
		r.Time, r.WholeSecond = c.lastTime, true
	}
	i += plainStamp
	if line[i] != ']' || line[i+1] != ' ' || line[i+2] != '"' {
		return false
	}
	i += 3
	// The request: its end first, then its method, from the front.
	n := bytes.IndexByte(line[i:], '"')
	if n < len("G / HTTP/1.1") {
		return false
	}
	request := line[i : i+n]
	const version = uint64(' ') | 'H'<<8 | 'T'<<16 | 'T'<<24 | 'P'<<32 | '/'<<40
	if binary.LittleEndian.Uint64(request[n-9:])&(1<<48-1) != version {
		return false
	}
	m := capitals(request)
	if m == 0 || m+1 >= n-9 || request[m] != ' ' || request[m+1] != '/' {
		return false
	}
	i += n + 1
	// Status and bytes.
	if i+6 > len(line) || line[i] != ' ' || line[i+4] != ' ' {
		return false
	}
	s0, s1, s2 := line[i+1]-'0', line[i+2]-'0', line[i+3]-'0'
	if s0 > 9 || s0 == 0 || s1 > 9 || s2 > 9 {
		return false
	}
	r.Status = int(s0)*100 + int(s1)*10 + int(s2)
	i += 5
	if i+8 > len(line) {
		return false
	}
	eight := binary.LittleEndian.Uint64(line[i:])
	size := digitsOf(eight)
	if size == 8 || size == 0 && line[i] != '-' {
		return false
	}
	r.Bytes = int64(number(eight, size))
	i += max(size, 1) // "-" for none
	// Referer and user agent.
	if i+6 > len(line) || line[i] != ' ' || line[i+1] != '"' {
		return false
	}
	i += 2
	if line[i] == '-' && line[i+1] == '"' {
		i += 2
	} else {
		n := bytes.IndexByte(line[i:], '"')
		if n < 0 {
			return false
		}
		r.Referer = known(line[i : i+n])
		i += n + 1
	}
	if i+2 > len(line) || line[i] != ' ' || line[i+1] != '"' {
		return false
	}
	i += 2
	if n = bytes.IndexByte(line[i:], '"'); n < 0 {
		return false
	}
	r.UserAgent = known(line[i : i+n])
	i += n + 1
	if i < len(line) {
		if line[i] != ' ' || i+1 == len(line) {
			return false
		}
		d, ok := shortFraction(line[i+1:])
		if !ok {
			return false
		}
		r.Duration = d
	}
	r.Client, r.Method, r.Path = client, request[:m], request[m+1:len(request)-9]
	return true
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

// spaceIn gives where the first space of a line of at least 24 bytes is, as long
// as it is among the first 48; else -1.
func spaceIn(line []byte) int {
	const ones, highs, spaces = 0x0101010101010101, 0x8080808080808080, 0x2020202020202020
	for i := 0; i < 48 && i+8 <= len(line); i += 8 {
		x := binary.LittleEndian.Uint64(line[i:]) ^ spaces
		if zero := (x - ones) &^ x & highs; zero != 0 {
			return i + bits.TrailingZeros64(zero)>>3
		}
	}
	return -1
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
	if len(b) < 8 || len(b) > 15 {
		return fraction(b)
	}
	first := binary.LittleEndian.Uint64(b)
	whole := digitsOf(first)
	places := len(b) - whole - 1
	if whole == 0 || whole > 7 || places < 1 || places > 8 || b[whole] != '.' {
		return fraction(b)
	}
	last := binary.LittleEndian.Uint64(b[len(b)-8:]) >> (64 - 8*places)
	if digitsOf(last) < places {
		return fraction(b)
	}
	return (int64(number(first, whole))*tens[places] + int64(number(last, places))) * tens[9-places], true
}
