package journal

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fullDisk takes nothing.
type fullDisk struct{ n int }

func (f *fullDisk) Write([]byte) (int, error) { f.n++; return 0, errors.New("the disk is full") }

func TestAJournalThatCannotBeWrittenOrRead(t *testing.T) {
	told := 0
	f := &fullDisk{}
	j := NewWriter(f, Head{}, func(error) { told++ })
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
