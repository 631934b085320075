package trace

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestNumbersAreReadEightBytesAtATime holds what is read many bytes at once
// against what is read one by one.
func TestNumbersAreReadEightBytesAtATime(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := []byte(rapid.StringMatching(`([0-9]{0,9}|[A-Z]{0,9})[\x00-\xff]{8}`).Draw(t, "text"))
		digits, letters := 0, 0
		for digits < 8 && b[digits]-'0' <= 9 {
			digits++
		}
		for letters < len(b) && b[letters]-'A' < 26 {
			letters++
		}
		x := binary.LittleEndian.Uint64(b)
		if got := digitsOf(x); got != digits {
			t.Fatalf("%q begins with %d digits, not %d", b, digits, got)
		}
		if want, _ := strconv.Atoi("0" + string(b[:digits])); number(x, digits) != uint64(want) {
			t.Fatalf("%q is %d, not %d", b[:digits], want, number(x, digits))
		}
		if got := capitals(b); got != letters {
			t.Fatalf("%q begins with %d letters, not %d", b, letters, got)
		}
		f := []byte(rapid.OneOf(rapid.StringMatching(`[0-9]{0,9}\.[0-9]{0,11}`), rapid.StringMatching(`[0-9.x:/]{0,17}`)).Draw(t, "fraction"))
		want, ok := fraction(f)
		if got, quick := shortFraction(f); got != want || quick != ok {
			t.Fatalf("%q is %d %v, not %d %v", f, want, ok, got, quick)
		}
	})
}

// TestMarks holds what finds many bytes at once against looking at each.
func TestMarks(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.SliceOfN(rapid.SampledFrom([]byte(" \"\\\n\x0b!#a\x00\x8a\xa2\xa0\xdc\xff\"\"")), 0, 400).Draw(t, "text")
		from := rapid.IntRange(0, len(text)).Draw(t, "from")
		var tape []uint32
		spaces := make([]uint64, len(text)/markBlock+2)
		for i, c := range text[from:] {
			switch c {
			case '"', '\\', '\n':
				tape = append(tape, uint32(i))
			case ' ':
				spaces[i/64] |= 1 << (i % 64)
			}
		}
		var m marks
		m.read(bytes.Repeat([]byte("\" "), markedPart), rapid.IntRange(0, 9).Draw(t, "before")) // which must leave nothing
		m.read(text, from)
		require.Equal(t, fmt.Sprint(tape), fmt.Sprint(m.tape))
		for i := range text[from:] {
			want := bytes.IndexByte(text[from+i:min(len(text), from+i+64)], ' ')
			if want < 0 {
				want = 64
			}
			require.Equal(t, want, spaceFrom(m.spaces, i), "of byte %d", i)
		}
		whole := text[:len(text)/markBlock*markBlock]
		for from := range 2 {
			if len(whole) <= from*markBlock {
				continue
			}
			a, b := make([]uint32, 500), make([]uint32, 500)
			c, d := make([]uint64, 9), make([]uint64, 9)
			n, k := mark(whole[from*markBlock:], a, c), markPlain(whole[from*markBlock:], b, d)
			require.Equal(t, fmt.Sprint(b[:k], d), fmt.Sprint(a[:n], c))
		}
	})
}

// TestTheQuickWayReadsTheSame spoils lines at random and reads them both ways.
func TestTheQuickWayReadsTheSame(t *testing.T) {
	lines := strings.Split(strings.TrimSpace(string(made(t, 20, 100, false))), "\n")
	lines = append(lines, `a - - [23/Nov/2026:06:55:08 +0000] "GET / HTTP/1.0" 304 - "http://a.example/" "-"`, `::1 - - [23/Nov/2026:06:55:08 +0000] "PUT /x HTTP/1.1" 200 1 "-" "u" 1.5 more`)
	taken := 0
	rapid.Check(t, func(rt *rapid.T) {
		line := []byte(rapid.SampledFrom(lines).Draw(rt, "line"))
		for range rapid.IntRange(0, 3).Draw(rt, "spoilt") {
			if len(line) == 0 {
				break
			}
			at := rapid.IntRange(0, len(line)-1).Draw(rt, "at")
			switch rapid.IntRange(0, 2).Draw(rt, "how") {
			case 0:
				line[at] = rapid.SampledFrom([]byte(" -[]\"09./:GHa\\\r\xff")).Draw(rt, "byte")
			case 1:
				line = append(line[:at], line[at+1:]...)
			default:
				line = line[:at+1]
			}
		}
		// The way for any line, and the quick one among other lines, having seen a
		// stamp before or not.
		var a, b Record
		a.reset()
		bare := bytes.TrimSuffix(line, []byte("\r"))
		slow := &combined{escapes: true}
		at, why := slow.parse(bare, &a)
		before := strings.Repeat(lines[0]+"\n", rapid.IntRange(0, 2).Draw(rt, "before")) + lines[1][:rapid.IntRange(0, 64).Draw(rt, "shift")] + "\n"
		text := []byte(before + string(line) + "\n" + lines[2] + "\n")
		quick, from := &combined{}, &marks{}
		if rapid.Bool().Draw(rt, "warm") {
			quick.parse([]byte(lines[0]), &b)
		}
		room := make([]Plain, rapid.IntRange(1, 3).Draw(rt, "room"))
		if rapid.Bool().Draw(rt, "marked before") {
			quick.quick(text, from, 0, room)
		}
		if quick.quick(text, from, len(before), room) == 0 {
			return
		}
		room[0].Record(text, &b)
		end := int(room[0].end)
		taken++
		if at != 0 || end != len(before)+len(line) || flat(&a) != flat(&b) {
			rt.Fatalf("%q: %d %s\n%s\n%d of %d\n%s", line, at, why, flat(&a), end-len(before), len(line), flat(&b))
		}
	})
	assert.Positive(t, taken, "some lines were read the quick way")
}

// FuzzQuick holds the quick way of reading the most frequent lines against the other.
func FuzzQuick(f *testing.F) {
	f.Add([]byte(strings.Repeat(`203.0.113.9 - - [23/Nov/2026:06:55:08 +0000] "GET /seats HTTP/1.1" 200 1234 "-" "TernApp/4.0" 0.038`+"\n", 3)))
	f.Add([]byte("a - - [23/Nov/2026:06:55:08 +0000] \"GET / HTTP/1.1\" 304 - \"http://b/\" \"\\\"\" 1\r\n2001:db8::7 - - [23/Nov/2026:06:55:09 +0100] \"PUT /x HTTP/1.0\" 201 7 \"-\" \"y\"\n#\n\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		read := func(quick bool) string {
			r, err := NewReader("f", bytes.NewReader(text), Options{Skip: true})
			if err != nil {
				return err.Error()
			}
			defer r.Close()
			var out []string
			var rec Record
			var room [3]Plain
			for err = r.Next(&rec); err == nil; err = r.Next(&rec) {
				out = append(out, fmt.Sprint(rec.Line, flat(&rec)))
				r.plain = r.plain && quick
				for line, some := r.Lines(), r.Plains(room[:]); len(some) > 0; line, some = r.Lines(), r.Plains(room[:]) {
					for i := range some { // which are none where there is no quick way
						some[i].Record(r.lines.buf, &rec)
						out = append(out, fmt.Sprint(line+int64(i)+1, flat(&rec)))
					}
				}
			}
			return fmt.Sprint(out, err, r.Records, r.BadLines, r.Bad)
		}
		if a, b := read(true), read(false); a != b {
			t.Fatalf("%q:\n%s\n%s", clip(text), a, b)
		}
	})
}
