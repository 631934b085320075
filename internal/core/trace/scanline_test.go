package trace

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kestrix/internal/core/trace/scan"
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

// TestScannedLinesAreReadAlike spoils lines at random, and compares scan with parse.
func TestScannedLinesAreReadAlike(t *testing.T) {
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
		fields, _ := ParseFields(rapid.SampledFrom([]string{"duration", "-,duration/ms", "host,duration"}).Draw(rt, "fields"))
		if rapid.Bool().Draw(rt, "unnamed") {
			fields = nil
		}
		slow := &combined{escapes: true, fields: fields}
		at, why := slow.parse(bare, &a)
		before := strings.Repeat(lines[0]+"\n", rapid.IntRange(0, 2).Draw(rt, "before")) + lines[1][:rapid.IntRange(0, 64).Draw(rt, "shift")] + "\n"
		text := []byte(before + string(line) + "\n" + lines[2] + "\n")
		quick, from := &combined{fields: fields}, &scan.Marks{}
		if rapid.Bool().Draw(rt, "warm") {
			quick.parse([]byte(lines[0]), &b)
		}
		if rapid.Bool().Draw(rt, "marked before") {
			quick.scan(text, from, 0, &b)
		}
		end, ok := quick.scan(text, from, len(before), &b)
		if !ok {
			return
		}
		taken++
		if at != 0 || end != len(before)+len(line)+1 || flat(&a) != flat(&b) {
			rt.Fatalf("%q: %d %s\n%s\n%d of %d\n%s", line, at, why, flat(&a), end-len(before), len(line), flat(&b))
		}
	})
	assert.Positive(t, taken, "some lines were scanned")
}

// FuzzScan compares scan with parse.
func FuzzScan(f *testing.F) {
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
			for err = r.Next(&rec); err == nil; err = r.Next(&rec) {
				out = append(out, fmt.Sprint(rec.Line, flat(&rec)))
				r.scans = r.scans && quick
			}
			return fmt.Sprint(out, err, r.Records, r.BadLines, r.Bad)
		}
		if a, b := read(true), read(false); a != b {
			t.Fatalf("%q:\n%s\n%s", clip(text), a, b)
		}
	})
}
