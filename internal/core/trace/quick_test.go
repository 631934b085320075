package trace

import (
	"encoding/binary"
	"strconv"
	"testing"

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
