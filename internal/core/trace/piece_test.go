package trace

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"pgregory.net/rapid"
)

// inPieces reads as a replay does: the first record alone, then pieces by helpers
// in turn.
func inPieces(text string, o Options, size int) ([]string, *Reader, error) {
	r, err := NewReader("t.log", strings.NewReader(text), o)
	if err != nil {
		return nil, nil, err
	}
	defer r.Close()
	r.lines.size = size
	var out []string
	var rec Record
	for {
		err := r.Next(&rec)
		if err != nil {
			return out, r, err
		}
		out = append(out, fmt.Sprint(rec.Line, flat(&rec)))
		if r.Divisible() {
			break
		}
	}
	helpers, bufs := []*Reader{r.Helper(), r.Helper()}, [2][]byte{}
	lines := r.Lines()
	for turn := 0; ; turn = 1 - turn {
		p, err := r.Piece(bufs[turn])
		if errors.Is(err, io.EOF) {
			return out, r, err
		}
		if err != nil {
			return out, r, r.Failed(err, lines)
		}
		if p.TooLong {
			if err := r.Add(Found{Lines: 1, TooLong: true}, lines); err != nil {
				return out, r, err
			}
			lines++
			continue
		}
		bufs[turn] = p.Text
		h := helpers[turn]
		h.Take(p)
		for err == nil {
			if err = h.Next(&rec); err == nil {
				out = append(out, fmt.Sprint(lines+rec.Line, flat(&rec)))
			}
		}
		if e := r.Add(h.Found(), lines); e != nil {
			return out, r, e
		}
		var at *LineError
		if errors.As(err, &at) {
			at.Line += lines
		}
		if !errors.Is(err, io.EOF) {
			return out, r, err
		}
		lines += h.Found().Lines
	}
}

// sameInPieces holds reading in pieces against reading line by line.
func sameInPieces(t interface {
	Fatalf(format string, args ...any)
}, text string, o Options, size int) {
	r, err := NewReader("t.log", strings.NewReader(text), o)
	if err != nil {
		return
	}
	defer r.Close()
	var want []string
	var rec Record
	for err == nil {
		if err = r.Next(&rec); err == nil {
			want = append(want, fmt.Sprint(rec.Line, flat(&rec)))
		}
	}
	got, p, failed := inPieces(text, o, size)
	if fmt.Sprint(got, failed) != fmt.Sprint(want, err) {
		t.Fatalf("%q in pieces of %d:\n%q %v\nline by line:\n%q %v", clip([]byte(text)), size, got, failed, want, err)
	}
	if fmt.Sprint(p.Records+int64(p.BadLines), p.BadLines, p.Bad) != fmt.Sprint(r.Records+r.BadLines, r.BadLines, r.Bad) {
		t.Fatalf("%q in pieces of %d: %d records, %v; line by line %d, %v", clip([]byte(text)), size, p.Records, p.Bad, r.Records, r.Bad)
	}
}

func TestPiecesAreReadLikeLines(t *testing.T) {
	const good, other = `203.0.113.9 - - [23/Nov/2026:06:55:08 +0000] "GET /seats HTTP/1.1" 200 1234 "-" "TernApp/4.0" 0.038`, `2001:db8::7 - ann [23/Nov/2026:06:55:09.25 +0100] "POST /a\"b HTTP/1.1" 201 - "x" "y"`
	long := strings.Repeat("x", maxLine+10)
	for _, text := range []string{
		good + "\n" + long + "\n" + other + "\nrubbish\n" + good, good + "\n" + good + strings.Repeat("y", 300<<10) + "\n" + other, good + "\n" + long,
	} {
		for _, skip := range []bool{false, true} {
			sameInPieces(t, text, Options{Skip: skip}, 256)
			sameInPieces(t, text, Options{Skip: skip}, pieceSize)
		}
	}
	rapid.Check(t, func(t *rapid.T) {
		kind := rapid.SampledFrom([][]string{
			{good, other, `a - - [23/Nov/2026:06:55:08 +0000] "GET / HTTP/1.1" 200 7`},
			{`{"time":"2026-11-23T06:55:08.25Z","client":"a","path":"\u00e9"}`, `{"time":1790000000.1}`},
			{"time,client", "2026-11-23T06:55:08Z,\"a\nb\"", "2026-11-23T06:55:08Z,c"},
		}).Draw(t, "kind")
		var b strings.Builder
		for range rapid.IntRange(1, 30).Draw(t, "lines") {
			b.WriteString(rapid.SampledFrom(append(kind, kind[len(kind)-1], "# said", "", "rubbish", "\xef\xbb\xbfx", "\x16\x03")).Draw(t, "line"))
			b.WriteString(rapid.SampledFrom([]string{"\n", "\n", "\r\n"}).Draw(t, "end"))
		}
		text := b.String()
		if rapid.Bool().Draw(t, "cut") {
			text = strings.TrimSpace(text)
		}
		sameInPieces(t, text, Options{Skip: rapid.Bool().Draw(t, "skip")}, rapid.SampledFrom([]int{1, 40, 200, 1000}).Draw(t, "size"))
	})
}
