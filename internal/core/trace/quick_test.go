package trace

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strconv"
	"testing"

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
			require.Equal(t, want, m.spaceFrom(i), "of byte %d", i)
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
