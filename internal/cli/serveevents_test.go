package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/report"
)

func logged(file string, size int64, format string) *config.Config {
	return &config.Config{EventLog: config.EventLog{Format: format, File: config.Placed[string]{Value: file}, Size: size}}
}

// TestEventsAreKeptInAFile within its size, and read again in their order by the next process;
// a file that cannot be written is reported once, and again when it can.
func TestEventsAreKeptInAFile(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "kept")
	name := filepath.Join(dir, "events.jsonl")
	c := logged(name, 64<<10, "text")
	var out bytes.Buffer
	n := newEventLog(&out, report.Style{})
	n.use(c)
	for range 3 {
		n.say(status.EventServing, "nowhere to be kept")
	}
	n.close()
	assert.Equal(t, 1, strings.Count(out.String(), "events cannot be kept in "+name), out.String())
	assert.Empty(t, earlierEvents(&c.EventLog))

	require.NoError(t, os.Mkdir(dir, 0o755))
	out.Reset()
	n = newEventLog(&out, report.Style{})
	n.use(c)
	for i := range 600 {
		n.say(status.EventReloaded, "%03d %s", i, strings.Repeat("x", 100))
	}
	n.close()
	total := int64(0)
	for _, f := range []string{name, name + ".1"} {
		info, err := os.Stat(f)
		require.NoError(t, err)
		total += info.Size()
	}
	assert.LessOrEqual(t, total, int64(64<<10))
	assert.Greater(t, total, int64(32<<10), "the one before it is kept")
	f, err := os.OpenFile(name, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = io.WriteString(f, "{\"at\": torn\n")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	earlier := earlierEvents(&c.EventLog)
	require.Greater(t, len(earlier), 150)
	for i, e := range earlier {
		assert.True(t, strings.HasPrefix(e.Text, fmt.Sprintf("%03d", 600-len(earlier)+i)), e.Text)
	}

	out.Reset()
	n = newEventLog(&out, report.Style{})
	n.use(c)
	n.say(status.EventServing, "before")
	n.use(logged(filepath.Join(dir, "away", "events.jsonl"), 64<<10, "json"))
	n.say(status.EventServing, "lost")
	n.use(c)
	n.say(status.EventStopped, "kept")
	n.close()
	assert.Equal(t, 1, strings.Count(out.String(), "cannot be kept"), out.String())
	assert.Contains(t, out.String(), `"object":"kestrix","kind":"serving","severity":"info","text":"lost"`)
	assert.Contains(t, out.String(), "events are kept again")
}

// TestLinesForTheJournalHavePriorities, and no others.
func TestLinesForTheJournalHavePriorities(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "stderr"))
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	stat := info.Sys().(*syscall.Stat_t)
	for _, stream := range []string{fmt.Sprintf("%d:%d", stat.Dev, stat.Ino), "1:1", ""} {
		t.Setenv("JOURNAL_STREAM", stream)
		require.NoError(t, f.Truncate(0))
		_, err := f.Seek(0, io.SeekStart)
		require.NoError(t, err)
		n := newEventLog(f, report.Style{})
		n.of("booking", status.EventUnavailable, "a")
		n.of("booking.auk", "down", "b")
		n.of("booking.auk", "up", "c")
		n.close()
		text, err := os.ReadFile(f.Name())
		require.NoError(t, err)
		lines := strings.Split(string(text), "\n")
		require.Len(t, lines, 4)
		for i, prefix := range []string{"<3>", "<4>", "<6>"} {
			assert.Equal(t, len(stream) > 3, strings.HasPrefix(lines[i], prefix), "%q %s", stream, lines[i])
		}
	}
}

// TestAReaderThatHangsDelaysNobody: events beyond the queue are lost, and counted.
func TestAReaderThatHangsDelaysNobody(t *testing.T) {
	r, w := io.Pipe() // which holds nothing
	n := newEventLog(w, report.Style{})
	n.use(logged("", 0, "text"))
	began := time.Now()
	for range waitingEvents + 100 {
		n.say(status.EventServing, "x")
	}
	n.use(logged("", 0, "json")) // as a reload does
	assert.Less(t, time.Since(began), 5*time.Second)
	text := make(chan string)
	go func() {
		all, _ := io.ReadAll(r) // which a pipe always can
		text <- string(all)
	}()
	n.close()
	require.NoError(t, w.Close())
	assert.Regexp(t, `event-log +\d+ events lost: stderr or the file was too slow`, <-text)
}
