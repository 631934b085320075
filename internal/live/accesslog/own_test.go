package accesslog

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/config"
	"kestrix/internal/core/template"
	"kestrix/internal/core/trace"
)

// ownLine writes a line in a form of one's own.
func ownLine(t require.TestingT, a *Line, form string) string {
	pieces, err := template.Parse(form)
	require.NoError(t, err)
	return string(a.AppendLine(nil, pieces))
}

func TestLinesOfAFormOfOnesOwn(t *testing.T) {
	a := &Line{
		Time: time.Unix(1_790_000_000, 250_000_001), Client: "203.0.113.9", Method: "GET", Protocol: "HTTP/1.1", Host: "tickets.tern.example", Path: "/a|b?x=\"1\"", Status: 200, Bytes: 5,
		Duration: 38_250_001, FirstByte: 30 * time.Millisecond, Route: "seats", Upstream: "app", Backend: "auk", Address: "192.0.2.1:80", ID: 7, RequestID: "f0-1", Proxy: "quay-1", TLS: "1.3",
		UserAgent: `a "b" \ c`, Referer: "/?token=MASKED", Header: http.Header{"Tern-Voyage": {"1", "2"}, "Cookie": {"a=b; voyage=9"}, "Referer": {"/?token=s3cret"}},
	}
	for form, want := range map[string]string{
		`{client} [{time:02/Jan/2006:15:04:05 -0700}] "{request}" {status}`: `203.0.113.9 [21/Sep/2026:14:13:20 +0000] "GET /a|b?x=\"1\" HTTP/1.1" 200`,
		`{time} {time/s} {time/ms} {time/us} {time/ns}`:                     `2026-09-21T14:13:20.250000001Z 1790000000.250000001 1790000000250.000001 1790000000250000.001 1790000000250000001`,
		`{duration} {duration/s} {duration/ms} {duration/ns} {connect/ms}`:  `0.038250 0.038250001 38.250001 38250001 -`,
		`{path}|{route}`: `/a%7Cb?x="1"|seats`,
		`"{user_agent}" "{header:tern-voyage}" "{cookie:voyage}" "{cookie:other}"`:                                            `"a \"b\" \\ c" "1, 2" "9" "-"`,
		`"{header:referer}" {backend_address}, {proxy_name} {tls_version} {sni} {id} {request_id} {attempts} {first_byte/ms}`: `"/?token=MASKED" 192.0.2.1:80, quay-1 1.3 - 7 f0-1 0 30`,
	} {
		assert.Equal(t, want, ownLine(t, a, form))
	}
}

// TestWhatIsWrittenIsRead holds lines of one's own against the reader of -line: whatever
// clients send, the fields come back.
func TestWhatIsWrittenIsRead(t *testing.T) {
	forms := []string{
		`{client} [{time}] "{method} {path} {protocol}" {status} {bytes} {duration/ns} "{user_agent}" {cause} {request_id}`,
		`{status}|{time/ns}|{client}|{method}|{path}|{bytes}|{duration/ns}|"{user_agent}"|{reason}`,
		`at={time/us}, by={client}; "{request}" {status} {bytes} {duration/us} "{user_agent}"`,
	}
	nasty := rapid.StringOfN(rapid.RuneFrom([]rune(`ab/|,; "\[]{}=-%é`+"\t\x01\x7f")), 1, 12, -1)
	rapid.Check(t, func(t *rapid.T) {
		a := &Line{
			Time: time.Unix(1_790_000_000, int64(rapid.IntRange(0, 999_999).Draw(t, "us"))*1000), Client: "203.0.113.9", Method: "GET", Protocol: "HTTP/1.1",
			Path: "/" + strings.ReplaceAll(nasty.Draw(t, "path"), " ", ""), Status: 200, Bytes: 5, Duration: time.Duration(rapid.IntRange(1, 1e9).Draw(t, "took")) * 1000, UserAgent: "x" + nasty.Draw(t, "agent"), RequestID: "f0-1",
		}
		for _, form := range forms {
			line := ownLine(t, a, form)
			r, err := trace.NewReader("log", strings.NewReader(line+"\n"), trace.Options{Line: form})
			require.NoError(t, err)
			var rec trace.Record
			require.NoError(t, r.Next(&rec), "%s\n%s", form, line)
			assert.Equal(t, a.Time.UnixNano(), rec.Time, line)
			assert.Equal(t, []any{"203.0.113.9", "GET", 200, int64(5), int64(a.Duration)}, []any{string(rec.Client), string(rec.Method), rec.Status, rec.Bytes, rec.Duration}, line)
			escapes := strings.NewReplacer("|", "%7C", `"`, "%22", "\t", "%09", "\x01", "%01", "\x7f", "%7F")
			assert.Equal(t, escapes.Replace(a.Path), escapes.Replace(string(rec.Path)), line)
			agent := strings.NewReplacer("\t", "%09", "\x01", "%01", "\x7f", "%7F").Replace(a.UserAgent)
			assert.Equal(t, strings.TrimSpace(agent), strings.TrimSpace(string(rec.UserAgent)), line)
		}
	})
}

func TestWhichLogHasALine(t *testing.T) {
	a := &Line{Frontend: "web", Route: "seats", Status: 503, Duration: time.Second, RequestID: "f0-1"}
	logs := func(text string) config.AccessLog {
		c, found, err := config.Read([]config.File{{Name: "x.hcl", Source: []byte("frontend \"web\" {\n listen = \"127.0.0.1:8080\"\n route \"seats\" {\n send_to = upstream.app\n }\n" + text + "\n}\nupstream \"app\" {\n backends = {\n a = \"192.0.2.1:80\"\n }\n}\n")}})
		require.NoError(t, err)
		require.Empty(t, found)
		return c.AccessLogs()[1]
	}
	for when, want := range map[string]bool{
		`when { route = "seats" }`: true, `when { route = ["web/seats"] }`: true, `when { status = "500-599" }`: true, `when { status = ["404"] }`: false, `when { at_least = "1s" }`: true,
		`when { at_least = "1001ms" }`: false, `when { cause = "*" }`: false, "when {\n cause = \"*\"\n }\n when {\n status = \"503\"\n }": true, "when {\n status = \"503\"\n at_least = \"2s\"\n }": false,
	} {
		l := logs("access_log \"x\" {\n" + when + "\n}")
		assert.Equal(t, want, a.In(&l), when)
	}
	l := logs("access_log \"x\" {\n share = \"10%\"\n}")
	n := 0
	for i := range 10_000 {
		a.RequestID = "f0-" + string(rune(i))
		if a.In(&l) {
			n++
		}
	}
	assert.InDelta(t, 1000, n, 150)
	l = logs("access_log \"x\" {\n to = \"off\"\n}")
	assert.True(t, a.In(&l))
	a.Frontend = "other"
	assert.False(t, a.In(&l))
}
