package proxy

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/scenario"
)

// streamEnds are the ways in which a stream of up to 40 s can end, with idle = "5s" and
// stream = "20s", and what each is: answered, or failed for a cause; and whether the backend
// is to blame. They hold for event streams, WebSockets and connections of tcp, live and in
// the replay.
var streamEnds = []struct {
	ends  string
	quiet bool // nothing moves after the first piece
	lasts time.Duration
	want  string // answered, or the cause
	blame bool
}{
	{"its own end", false, 10 * time.Second, "answered", false},
	{"the client", false, 10 * time.Second, "answered", false},
	{"idle", true, 40 * time.Second, "idle_timeout", false},
	{"stream", false, 40 * time.Second, "answered", false},
	{"the backend breaks", false, 40 * time.Second, "broken_stream", true},
}

// TestStreamsEndAlikeLiveAndInTheReplay walks that table on both sides.
func TestStreamsEndAlikeLiveAndInTheReplay(t *testing.T) {
	for _, kind := range []string{"events", "websocket", "tcp"} {
		text := front + "upstream \"app\" {\n backends = { a = \"" + here + "\" }\n timeouts {\n idle = \"5s\"\n stream = \"20s\"\n }\n}\n"
		if kind == "tcp" {
			text = strings.Replace(text, "  route", "  protocol = \"tcp\"\n  route", 1)
		}
		for _, c := range streamEnds {
			t.Run(kind+", "+c.ends, func(t *testing.T) {
				want := fmt.Sprint(c.want, ", failures of the backend: ", map[bool]int{true: 1}[c.blame])
				assert.Equal(t, want, replayedStream(t, text, kind, c.quiet, c.lasts, c.blame), "in the replay")
				synctest.Test(t, func(t *testing.T) {
					w := newWorld(t, text)
					defer w.close()
					assert.Equal(t, want, w.stream(kind, c.ends, c.quiet), "live")
					time.Sleep(time.Minute) // until the backend has noticed
				})
			})
		}
	}
}

// replayedStream replays one stream, and words what came of it.
func replayedStream(t *testing.T, text, kind string, quiet bool, lasts time.Duration, breaks bool) string {
	c := parse(t, text)
	sc := fmt.Sprintf("streams {\n path = \"/**\"\n lasts = \"%s\"\n quiet = \"%s\"\n}\n", lasts, map[bool]time.Duration{true: 30 * time.Second, false: time.Second}[quiet])
	if breaks {
		sc += "fault \"f\" {\n backend = \"app.a\"\n kind = \"reset\"\n at = \"7s\"\n}\n"
	}
	s, found, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte(sc)}, c)
	require.NoError(t, err)
	require.Empty(t, found)
	log := `{"time":1000,"path":"/stream","client":"a","method":"GET"` + map[string]string{"tcp": `,"protocol":"tcp"`, "websocket": `,"status":101`}[kind] + "}\n"
	r, err := replay.Run(t.Context(), c, s, []ingest.Source{{Name: "t.jsonl", Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(log)), nil }}}, replay.Options{Seed: 7})
	require.NoError(t, err)
	what := "answered"
	if r.Answered == 0 {
		for _, x := range r.Errors.List() {
			if x.Requests > 0 {
				what = x.Cause.String()
			}
		}
	}
	return fmt.Sprint(what, ", failures of the backend: ", r.Upstreams["app"].Backends["a"].Failed)
}

// stream opens one and words what came of it; the bytes that its client got are those of
// the access line.
func (w *world) stream(kind, ends string, quiet bool) string {
	last := 40
	switch {
	case ends == "its own end":
		last = 10
	case ends == "the backend breaks":
		last = 7
	}
	l := w.raw(here, func(l *line) {
		if kind != "tcp" {
			l.head()
		}
		switch kind {
		case "events":
			l.say("HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nTransfer-Encoding: chunked\r\n\r\n")
		case "websocket":
			l.say("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n")
		}
		piece := map[string]string{"events": "6\r\ntide\n\n\r\n"}[kind]
		if piece == "" {
			piece = "tide\n\n"
		}
		for n := range last {
			if n > 0 && quiet {
				time.Sleep(40 * time.Second)
				break
			}
			if _, err := io.WriteString(l, piece); err != nil {
				return
			}
			time.Sleep(time.Second)
		}
		switch {
		case ends == "the backend breaks":
			if b, ok := l.Conn.(interface{ Break() }); ok {
				b.Break()
			}
		case kind == "events":
			_, _ = io.WriteString(l, "0\r\n\r\n") // it may have been cut
		}
	})
	defer l.Close()
	c := w.call()
	switch kind {
	case "events":
		c.say("GET /stream HTTP/1.1\r\nHost: a\r\n\r\n")
	case "websocket":
		c.say("GET /stream HTTP/1.1\r\nHost: a\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
	}
	got := make(chan int, 1)
	go func() {
		text, _ := io.ReadAll(c.r)
		got <- strings.Count(string(text), "tide\n\n") * 6
	}()
	if ends == "the client" {
		time.Sleep(10500 * time.Millisecond)
	} else {
		time.Sleep(45 * time.Second)
	}
	c.Close()
	bytes := <-got
	time.Sleep(2 * time.Second)
	log := w.log()
	require.Len(w.t, log, 1)
	assert.Positive(w.t, bytes)
	assert.InDelta(w.t, bytes, log[0].Bytes, 6, "what its client got")
	what := log[0].Cause.String()
	if what == "" {
		what = "answered"
	}
	return fmt.Sprint(what, ", failures of the backend: ", w.proxy.Status().Upstreams[0].Backends[0].Failed)
}
