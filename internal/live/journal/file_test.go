package journal

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/tick"
)

// fullDisk takes nothing.
type fullDisk struct{ n int }

func (f *fullDisk) Write([]byte) (int, error) { f.n++; return 0, errors.New("the disk is full") }

func TestAJournalThatCannotBeWrittenOrRead(t *testing.T) {
	told := 0
	f := &fullDisk{}
	j := NewWriter(f, Head{}, WriterOptions{Broken: func(error) { told++ }})
	for range 5000 {
		j.Add(Entry{Upstream: "app", Call: "advance"})
	}
	j.Flush()
	j.Flush()
	assert.Equal(t, []int{1, 1}, []int{told, f.n}, "it is told once, and tried no more")
	head := "{\"journal\":2,\"version\":\"1\",\"seed\":7}\n"
	for text, want := range map[string]string{
		"":                               "1:1: there is no journal in it; kestrix serve -journal writes one",
		"upstream \"a\" {}\n":            "1:1: this is no journal; kestrix serve -journal writes one",
		"{\"journal\":9}\n":              "1:1: the journal has form 9, and this program reads form 2; version  wrote it",
		head + "{\"call\":3}\n":          "2:1: the line is none of a journal: call cannot be a number",
		head + "{}\n":                    "2:1: the line is none of a journal: it says of no call",
		head + "{\"call\":\"new\"}\n":    "2:1: the line is none of a journal: it says of no call",
		head + "{\"call\":\"choose\" \n": "2:18: the line is none of a journal: unexpected end of JSON input",
	} {
		_, err := Read(strings.NewReader(text))
		assert.EqualError(t, err, want, text)
	}
	cut, err := Read(strings.NewReader(head + "{\"call\":\"cho"))
	require.NoError(t, err)
	assert.True(t, cut.Cut)
	made := head + `{"upstream":"a","at":0,"call":"new","config":{"Name":"a","Algorithm":"round-robin","Backends":[{"Name":"x","Weight":1,"Tier":1}]}}` + "\n"
	for more, want := range map[string]string{
		`{"upstream":"a","at":1,"call":"advance"}` + "\n" + `{"upstream":"b","at":2,"call":"choose"}`:      "entry 3: choose of an upstream that was not made",
		`{"upstream":"a","at":1,"call":"operate","backend":9,"operation":0}`:                               "entry 2: operate of a backend",
		`{"upstream":"a","at":1,"call":"sing"}`:                                                            `entry 2: there is no call "sing"`,
		`{"upstream":"a","at":7,"call":"choose","said":"x","request":{"ID":3,"Seat":-1}}`:                  `entry 2, choose at 7: the core says "{0 0 algorithm -1}" where it said "x"`,
		`{"upstream":"a","at":7,"call":"choose","said":"{0 0 algorithm -1}","request":{"ID":3,"Seat":-1}}`: "",
	} {
		j, err := Read(strings.NewReader(made + more + "\n"))
		require.NoError(t, err)
		if err = Verify(j.Entries, 7); want != "" {
			assert.ErrorContains(t, err, want)
		} else {
			assert.NoError(t, err)
		}
	}
}

// TestAJournalInParts is written in parts of some size, and read together again.
func TestAJournalInParts(t *testing.T) {
	var parts []*bytes.Buffer
	next := func(part int) (io.Writer, error) {
		parts = append(parts, &bytes.Buffer{})
		assert.Equal(t, len(parts), part)
		return parts[len(parts)-1], nil
	}
	first, err := next(1)
	require.NoError(t, err)
	j := NewWriter(first, Head{Seed: 7}, WriterOptions{PartSize: 100_000, Next: next, Broken: func(err error) { assert.NoError(t, err) }})
	for i := range 5000 {
		j.Add(Entry{Upstream: "app", At: tick.Time(i), Call: "advance", Chosen: []Choice{{Request: uint64(i), Backend: "auk", Reason: "round-robin"}}})
	}
	j.Flush()
	require.Len(t, parts, 6)
	read := func(part int) *Journal {
		assert.InDelta(t, 95_000, parts[part-1].Len(), 6000)
		j, err := Read(bytes.NewReader(parts[part-1].Bytes()))
		require.NoError(t, err)
		return j
	}
	whole := read(1)
	for part := 2; part <= len(parts)-1; part++ {
		require.NoError(t, whole.Append(read(part)))
	}
	assert.True(t, whole.Whole())
	assert.False(t, read(2).Whole())
	require.EqualError(t, read(2).Append(read(4)), "it does not continue the part before it")
	for i := range whole.Entries {
		assert.Equal(t, tick.Time(i), whole.Entries[i].At)
	}
	story, err := read(2).Story(1500)
	require.NoError(t, err)
	assert.Equal(t, "granted auk round-robin", story[0].Call+" "+story[0].Backend+" "+story[0].Reason)

	broken := 0
	j = NewWriter(&bytes.Buffer{}, Head{}, WriterOptions{PartSize: 10, Next: func(int) (io.Writer, error) { return nil, errors.New("the disk is full") }, Broken: func(error) { broken++ }})
	for range 10 {
		j.Add(Entry{Call: "advance"})
	}
	assert.Equal(t, 1, broken)
}

// FuzzJournal reads journals of anybody, and tells them to cores.
func FuzzJournal(f *testing.F) {
	head := "{\"journal\":2,\"version\":\"1\",\"seed\":7}\n"
	made := `{"upstream":"a","at":0,"call":"new","config":{"Name":"a","Algorithm":"round-robin","Backends":[{"Name":"x","Weight":1,"Tier":1},{"Name":"y","Weight":1,"Tier":1}]}}` + "\n"
	f.Add([]byte(head + made + `{"upstream":"a","at":1,"call":"choose","said":"{0 1 0 -1 false}","request":{"ID":3,"Seat":-1}}` + "\n"))
	f.Add([]byte(head + made + `{"upstream":"a","at":1,"call":"settle","request":{"ID":3},"outcome":{"Kind":0,"Status":200}}` + "\n"))
	f.Add([]byte(head + made + `{"upstream":"a","at":1,"call":"operate","backend":1,"operation":0}` + "\n" + `{"upstream":"a","at":2,"call":"probe","backend":0,"probe":{"Passed":true}}` + "\n"))
	f.Add([]byte(head + made + `{"upstream":"a","at":-5,"call":"choose","request":{"ID":3,"Seat":77}}` + "\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		j, err := Read(bytes.NewReader(text))
		if err != nil {
			return
		}
		_ = Verify(j.Entries, j.Seed)
		_, _ = j.Story(3)
	})
}
