package proxy

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// written gives the journal of a world as a file.
func (w *world) written() []byte {
	w.mu.Lock()
	defer w.mu.Unlock()
	var b bytes.Buffer
	j := NewJournalWriter(&b, JournalHead{Version: "t", Seed: w.proxy.o.Seed, Began: w.began}, func(err error) { assert.NoError(w.t, err) })
	for _, e := range w.journal {
		j.Add(e)
	}
	j.Flush()
	return b.Bytes()
}

// TestTheJournalTellsWhy follows requests that are retried, wait and are refused
// through the journal, by the ids in the access log.
func TestTheJournalTellsWhy(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, strings.ReplaceAll(app("retry {\n attempts = 2\n on = [\"connect\"]\n}\nqueue {\n limit = 1\n timeout = \"1s\"\n}\nsticky {\n by = \"cookie\"\n name = \"seat\"\n secret = \"low tide at noon\"\n}"), "\"192.0.2.3:80\"", "{ address = \"192.0.2.3:80\", max_in_flight = 1 }"))
		defer w.close()
		for i, a := range addresses() {
			if i > 0 {
				w.start(a, func(out http.ResponseWriter, r *http.Request) { time.Sleep(2 * time.Second) })
			}
		}
		w.get(base + "/")
		w.get(base + "/")
		w.get(base + "/")
		synctest.Wait()
		file := w.written()
		assert.NotContains(t, string(file), "low tide at noon")
		j, err := ReadJournal(bytes.NewReader(file))
		require.NoError(t, err)
		retried := 0
		for _, a := range w.log() {
			story, err := j.Story(a.ID)
			require.NoError(t, err)
			assert.Equal(t, "choose", story[0].Call)
			assert.Len(t, story[0].Backends, 3)
			assert.Equal(t, fmt.Sprintf("answered %d", a.Status), story[len(story)-1].Outcome)
			if a.Attempts == 2 {
				retried++
				assert.Equal(t, []any{"a", "connection refused", true, a.Backend, 2}, []any{story[0].Backend, story[1].Outcome, story[1].Again, story[2].Backend, story[2].Attempt})
				assert.Equal(t, []string{"a"}, a.Tried)
			}
		}
		assert.Positive(t, retried)
		_, err = j.Story(1 << 40)
		assert.EqualError(t, err, "the journal has no request 1099511627776")
		// Whatever is changed in it is found.
		for i := range j.Entries {
			if e := &j.Entries[i]; e.Call == "choose" {
				e.Said += "!"
				assert.ErrorContains(t, Retell(j.Entries, j.Seed), "the core says")
				break
			}
		}
	})
}

// fullDisk takes nothing.
type fullDisk struct{ n int }

func (f *fullDisk) Write([]byte) (int, error) { f.n++; return 0, errors.New("the disk is full") }

func TestAJournalThatCannotBeWrittenOrRead(t *testing.T) {
	told := 0
	f := &fullDisk{}
	j := NewJournalWriter(f, JournalHead{}, func(error) { told++ })
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
		head + "{\"call\":3}\n":          "2:1: the line is none of a journal: json: cannot unmarshal number into Go struct field journalLine.call of type string",
		head + "{}\n":                    "2:1: the line is none of a journal: it says of no call",
		head + "{\"call\":\"new\"}\n":    "2:1: the line is none of a journal: it says of no call",
		head + "{\"call\":\"choose\" \n": "2:18: the line is none of a journal: unexpected end of JSON input",
	} {
		_, err := ReadJournal(strings.NewReader(text))
		assert.EqualError(t, err, want, text)
	}
	cut, err := ReadJournal(strings.NewReader(head + "{\"call\":\"cho"))
	require.NoError(t, err)
	assert.True(t, cut.Cut)
	assert.ErrorContains(t, Retell([]Entry{{Upstream: "app", Call: "choose"}}, 1), "choose of an upstream that was not made")
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
		j, err := ReadJournal(bytes.NewReader(text))
		if err != nil {
			return
		}
		_ = Retell(j.Entries, j.Seed)
		_, _ = j.Story(3)
	})
}
