package proxy

import (
	"bytes"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/live/journal"
)

// written returns the journal of a world as a file.
func (w *world) written() []byte {
	w.mu.Lock()
	defer w.mu.Unlock()
	var b bytes.Buffer
	j := journal.NewWriter(&b, journal.Head{Version: "t", Seed: w.proxy.o.Seed, Began: w.began}, journal.WriterOptions{Broken: func(err error) { assert.NoError(w.t, err) }})
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
		j, err := journal.Read(bytes.NewReader(file))
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
				assert.Equal(t, []any{1, "a", cause.Refused, 0, ""}, []any{len(a.Tried()), a.Tries[0].Backend, a.Tries[0].Cause, a.Tries[0].Status, a.Tries[1].Cause.String()})
			}
		}
		assert.Positive(t, retried)
		later := *j
		later.Part = 2
		for _, a := range w.log() { // the same without the beginning, but for how backends stood
			story, err := j.Story(a.ID)
			require.NoError(t, err)
			written, err := later.Story(a.ID)
			require.NoError(t, err)
			for i := range story {
				story[i].Backends = nil
			}
			assert.Equal(t, story, written)
		}
		_, err = j.Story(1 << 40)
		assert.EqualError(t, err, "the journal has no request 1099511627776")
		// Whatever is changed in it is found.
		for i := range j.Entries {
			if e := &j.Entries[i]; e.Call == "choose" {
				e.Said += "!"
				assert.ErrorContains(t, journal.Verify(j.Entries, j.Seed), "the core says")
				break
			}
		}
	})
}
