package accesslog

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/trace"
)

// failing is a writer that fails for a while.
type failing struct {
	strings.Builder
	broken bool
}

func (f *failing) Write(p []byte) (int, error) {
	if f.broken {
		n, _ := f.Builder.Write(p[:3]) // there was a little space
		return n, errors.New("no space left on device")
	}
	return f.Builder.Write(p)
}

func TestTheAccessLogIsATraceThatCanBeRead(t *testing.T) {
	a := Line{
		Time: time.Unix(1_790_000_000, 250e6), Client: "203.0.113.9", Method: "GET", Protocol: "HTTP/2.0", Host: "tickets.tern.example", Path: "/a\"b?x=1", Status: 200, Bytes: 5,
		Duration: 38 * time.Millisecond, FirstByte: 30 * time.Millisecond, Frontend: "web", Route: "all", Upstream: "app", Backend: "auk", Reason: "round-robin", Attempts: 12, ID: 12, Session: "f00",
	}
	assert.Equal(t, `203.0.113.9 - - [21/Sep/2026:14:13:20 +0000] "GET /a\"b?x=1 HTTP/2.0" 200 5 "-" "-" 0.038000 f00 web/all app.auk round-robin 12 12 -`, string(a.AppendCombined(nil)))
	left := Line{Time: a.Time, Client: "-", Method: "GET", Path: "/", Cause: cause.ClientLeft}
	assert.Equal(t, `- - - [21/Sep/2026:14:13:20 +0000] "GET / HTTP/1.1" 000 0 "-" "-" 0.000000 - -/- -.- - 0 - client_left`, string(left.AppendCombined(nil)))
	for _, line := range [][]byte{a.AppendCombined(nil), a.AppendJSON(nil), left.AppendCombined(nil), left.AppendJSON(nil)} {
		r, err := trace.NewReader("log", strings.NewReader(string(line)+"\n"), trace.Options{})
		require.NoError(t, err)
		var rec trace.Record
		require.NoError(t, r.Next(&rec), "%s", line)
		assert.Equal(t, "GET", string(rec.Method))
	}
	assert.Contains(t, string(a.AppendJSON(nil)), `"route":"all","reason":"round-robin","attempts":12,"id":12,"first_byte":0.030000}`)
}

func TestFieldsAndSyslogLines(t *testing.T) {
	a := Line{Time: time.Unix(1_790_000_000, 250e6), Client: "203.0.113.9", Status: 200, Duration: 38 * time.Millisecond, Backend: "au\"k", Attempts: 1}
	field := func(name, what string) config.FieldPair {
		return config.FieldPair{Name: config.Placed[string]{Value: name}, Value: config.Placed[string]{Value: what}}
	}
	fields := []config.FieldPair{field("host", "host"), field("at", "time"), field("who", "client"), field("took", "duration"), field("by", "backend"), field("first", "first_byte"), field("tries", "attempts")}
	want := `{"at":"2026-09-21T14:13:20.25Z","who":"203.0.113.9","took":0.038000,"by":"au\"k","tries":1}`
	assert.Equal(t, want, string(a.AppendFields(nil, fields)), "what there is not is left out")
	assert.Equal(t, "{}", string(a.AppendFields(nil, fields[:1])))
	full := Line{Time: a.Time, Client: "c", Method: "m", Host: "h", Path: "p", Protocol: "x", Status: 1, Bytes: 1, Duration: 1, Connect: 1, FirstByte: 1, UserAgent: "u", Referer: "r", Session: "s", Frontend: "f", Route: "r", Upstream: "u", Backend: "b", Reason: "r", Cause: cause.Reset, Attempts: 1, TraceID: "t", RequestID: "i", Proxy: "p", Address: "a", Scheme: "s", TLS: "v", SNI: "n", GRPC: "0"}
	large := Line{Upstream: "app", ID: 123456, Bytes: 654321, Attempts: 12, Status: 404}
	for name, want := range map[string]string{"id": "123456", "bytes": "654321", "attempts": "12", "status": "404"} {
		assert.Equal(t, want, string(large.appendField(nil, name)), name)
	}
	for _, name := range config.AccessFields {
		assert.NotEmpty(t, full.appendField(nil, name), "%s is known to the language and not here", name)
	}

	f := &failing{}
	l := New(f, config.AccessLog{To: config.Placed[string]{Value: "syslog"}, Format: "json", Fields: fields}, func(int, error) {})
	l.Add(&a)
	assert.Equal(t, want, f.String(), "each line by itself, at once")
	l.Close()
}

func TestTheAccessLogIsWrittenSoonAndSurvivesAFullDisk(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &failing{}
		told := []string{}
		l := New(f, config.AccessLog{}, func(lost int, err error) { told = append(told, fmt.Sprintf("%d %v", lost, err)) })
		l.Add(&Line{Method: "GET"})
		written := func() int {
			l.mu.Lock()
			defer l.mu.Unlock()
			return f.Len()
		}
		breaks := func(on bool) {
			l.mu.Lock()
			defer l.mu.Unlock()
			f.broken = on
		}
		assert.Zero(t, written(), "gathered for a moment")
		time.Sleep(accessDelay + time.Millisecond)
		synctest.Wait()
		assert.Positive(t, written())
		breaks(true)
		for range 3 {
			l.Add(&Line{Method: "GET"})
			time.Sleep(2 * accessDelay)
		}
		synctest.Wait()
		assert.Len(t, told, 1, "told once")
		breaks(false)
		for range 1000 {
			l.Add(&Line{Method: "GET", Path: "/a/path/of/some/length"})
		}
		l.Close()
		whole := 0
		for line := range strings.Lines(f.String()) {
			if len(line) > 20 {
				whole++
				assert.True(t, strings.HasPrefix(line, "- - - ["), "torn lines stand by themselves: %q", line)
			}
		}
		assert.Equal(t, 1001, whole, "what came before and after the trouble is all there")
		assert.Equal(t, []string{"0 no space left on device", "3 <nil>"}, told)
	})
}

// halting takes so many bytes of each write and then fails, while it is broken.
type halting struct {
	strings.Builder
	takes int // negative: all
}

func (h *halting) Write(p []byte) (int, error) {
	if h.takes < 0 {
		return h.Builder.Write(p)
	}
	n, _ := h.Builder.Write(p[:min(h.takes, len(p))])
	return n, errors.New("no space left on device")
}

// TestALineThatIsTornIsOneLine: what follows half a line begins on a line of its own, and
// what follows a whole one has no empty line before it.
func TestALineThatIsTornIsOneLine(t *testing.T) {
	line := func(path string) *Line { return &Line{Method: "GET", Path: path, Status: 200} }
	whole := len(line("/1").AppendJSON(nil)) + 1
	for takes, want := range map[int]int{0: 1, 5: 2, whole: 2, whole - 1: 2} {
		h := &halting{takes: takes}
		lost := 0
		l := New(h, config.AccessLog{Format: "json"}, func(n int, err error) { lost = max(lost, n) })
		l.Add(line("/1"))
		l.mu.Lock()
		l.writeLocked()
		l.mu.Unlock()
		h.takes = -1
		l.Add(line("/2"))
		l.Close()
		got := strings.Split(strings.TrimSuffix(h.String(), "\n"), "\n")
		assert.Len(t, got, want, "%d bytes: %q", takes, h.String())
		assert.NotContains(t, got, "", "%d bytes", takes)
		assert.Contains(t, got[len(got)-1], `"path":"/2"`)
		assert.Equal(t, 1, lost)
	}
}

// TestAClientThatLeftHasTheStatusThatWasAskedFor: only where nothing was sent, and never a
// connection.
func TestAClientThatLeftHasTheStatusThatWasAskedFor(t *testing.T) {
	for _, x := range []struct {
		key  string
		line Line
		want string
	}{
		{``, Line{Method: "GET", Path: "/", Cause: cause.ClientLeft}, `"GET / HTTP/1.1" 000 0`},
		{`client_left_status = 498`, Line{Method: "GET", Path: "/", Cause: cause.ClientLeft}, `"GET / HTTP/1.1" 498 0`},
		{`client_left_status = 498`, Line{Method: "GET", Path: "/", Cause: cause.ClientLeft, Status: 200}, `"GET / HTTP/1.1" 200 0`},
		{`client_left_status = 498`, Line{Method: "GET", Path: "/", Cause: cause.Reset}, `"GET / HTTP/1.1" 000 0`},
		{`client_left_status = 498`, Line{Kind: trace.TCP, Cause: cause.ClientLeft}, `"-" 000 0`},
	} {
		c, _, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte("access_log {\n" + x.key + "\n}\n")}})
		require.NoError(t, err)
		var out strings.Builder
		l := New(&out, c.AccessLog, func(int, error) {})
		l.Add(&x.line)
		l.Close()
		assert.Contains(t, out.String(), x.want)
		assert.Contains(t, out.String(), " "+x.line.Cause.String()+"\n")
	}
}
