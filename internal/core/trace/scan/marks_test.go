package scan

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestMarks compares what finds many bytes at once with looking at each.
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
		var m Marks
		m.Read(bytes.Repeat([]byte("\" "), Part), rapid.IntRange(0, 9).Draw(t, "before")) // which must leave nothing
		m.Read(text, from)
		require.Equal(t, fmt.Sprint(tape), fmt.Sprint(m.Tape))
		for i := range text[from:] {
			want := bytes.IndexByte(text[from+i:min(len(text), from+i+64)], ' ')
			if want < 0 {
				want = 64
			}
			require.Equal(t, want, m.Space(i), "of byte %d", i)
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
