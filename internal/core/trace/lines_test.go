package trace

import (
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// collect reads all lines of a source.
func collect(src io.Reader) (got []string, long int, err error) {
	l := newLines(src)
	for {
		line, tooLong, err := l.next()
		switch {
		case tooLong:
			long++
		case err == nil:
			got = append(got, string(line))
		}
		if errors.Is(err, io.EOF) {
			return got, long, nil
		}
		if err != nil {
			return got, long, err
		}
	}
}

// TestLinesAreCutAsTheyStand compares with a plain split, however the source
// hands its bytes out.
func TestLinesAreCutAsTheyStand(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		parts := rapid.SliceOfN(rapid.SampledFrom([]string{"", "a", "word", "\r", "x\ry", strings.Repeat("long ", 60000)}), 0, 12).Draw(t, "lines")
		end := rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "end")
		text := strings.Join(parts, end)
		if rapid.Bool().Draw(t, "closed") && text != "" {
			text += end
		}
		var want []string
		rest := text
		for rest != "" {
			line, after, _ := strings.Cut(rest, "\n")
			want = append(want, strings.TrimSuffix(line, "\r"))
			rest = after
		}
		for name, src := range map[string]io.Reader{
			"whole": strings.NewReader(text), "data with the end": iotest.DataErrReader(strings.NewReader(text)), "halves": iotest.HalfReader(strings.NewReader(text)),
		} {
			got, long, err := collect(src)
			if err != nil || long != 0 || len(got) != len(want) {
				t.Fatalf("%s: %d lines, %d too long, %v; want %d", name, len(got), long, err, len(want))
			}
			for i := range got {
				if got[i] != want[i] {
					t.Fatalf("%s: line %d is %.40q, want %.40q", name, i, got[i], want[i])
				}
			}
		}
	})
}

func TestALineThatIsTooLongIsPassedOverWhole(t *testing.T) {
	long := strings.Repeat("x", maxLine+1)
	for _, c := range []struct {
		text string
		want []string
	}{
		{"a\n" + long + "\nb\n", []string{"a", "b"}},
		{long, nil},
		{long + "\n", nil},
		{"a\n" + strings.Repeat(long, 3) + "\n\nb", []string{"a", "", "b"}},
		{strings.Repeat("y", maxLine-1) + "\nb", []string{strings.Repeat("y", maxLine-1), "b"}},
	} {
		got, passed, err := collect(strings.NewReader(c.text))
		assert.NoError(t, err)
		assert.Equal(t, len(c.want), len(got))
		for i := range c.want {
			assert.Equal(t, c.want[i], got[i])
		}
		if strings.Contains(c.text, "x") {
			assert.Equal(t, 1, passed)
		}
	}
}

func TestAnErrorOfReadingIsTold(t *testing.T) {
	broken := errors.New("the disk is gone")
	got, _, err := collect(io.MultiReader(strings.NewReader("a\nhalf"), iotest.ErrReader(broken)))
	assert.ErrorIs(t, err, broken)
	assert.Equal(t, []string{"a"}, got, "half a line is none")
	_, _, err = collect(stuck{})
	assert.ErrorIs(t, err, io.ErrNoProgress)
}

// stuck gives nothing and no error.
type stuck struct{}

func (stuck) Read([]byte) (int, error) { return 0, nil }
