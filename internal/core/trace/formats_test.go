package trace

import (
	"bytes"
	"io"
	"math"
	"net/netip"
	"strconv"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const at = "2026-11-23T06:55:08"

// TestFormatsAreRead reads samples of every format, with what real files have:
// fields missing, zones, marks and comments.
func TestFormatsAreRead(t *testing.T) {
	for _, c := range []struct {
		name, format string
		o            Options
		text         string
		want         []string
	}{
		{"CSV", "csv", Options{}, "\xef\xbb\xbfTime,Client,extra,Path,Status,Duration,Protocol\r\n" +
			at + ".5Z,203.0.113.9,x,\"/a,\"\"b\"\"\",200,0.25,HTTP/1.1\r\n# note\r\n\r\n" + at + "+00:00,,,-,,,tcp\r\n",
			[]string{at + `.5Z client=203.0.113.9 path=/a,"b" 200 -1 250ms`, at + "Z 0 -1"}},
		{"CSV with a cell over two lines", "csv", Options{}, "path;user_agent\n/a;\"one\ntwo\"\n/b;x\n", []string{"path=/a agent=one\ntwo 0 -1", "path=/b agent=x 0 -1"}},
		{"CSV with tabs, renamed", "csv", Options{Map: "duration/ms=took,time/ms=ts,header:X-Seat=seat"},
			"ts\ttook\tseat\tduration\n1790000000250\t38\t14\tignored\n", []string{"2026-09-21T14:13:20.25Z 0 -1 38ms X-Seat:14"}},
		{"CSV with header fields", "csv", Options{}, "path,headers,cookies\n/,\"{\"\"X\"\":\"\"y\"\"}\",a=b; c=d\n", []string{"path=/ 0 -1 X:y a=b c=d"}},
		{"JSON Lines, renamed", "jsonl", Options{Map: "duration=took,path=req.uri,session=uid"},
			`{"took":0.25,"duration":"no","req":{"uri":"/a","host":"h"},"uid":17,"protocol":"HTTP/2"}`, []string{"path=/a session=17 0 -1 250ms"}},
		{"JSON Lines, an object called as a key", "jsonl", Options{Map: "path=request.uri,method=request.method"}, `{"request":{"uri":"/a","method":"GET"},"host":"h"}`, []string{"method=GET host=h path=/a 0 -1"}},
		{"JSON array", "json", Options{Map: "duration=took"}, "[\n  {\"time\":1790000001,\"path\":\"/b\",\"took\":\"1.5s\"},\n  {\"time\":1790000000,\n  \"path\":\"/a\"}\n]\n",
			[]string{"2026-09-21T14:13:20Z path=/a 0 -1", "2026-09-21T14:13:21Z path=/b 0 -1 1.5s"}},
		{"durations as they are written", "csv", Options{}, "path;duration\n/a;134ms\n/b;0,134\n/c;2m3s\n/d;1e-3\n", []string{"path=/a 0 -1 134ms", "path=/b 0 -1 134ms", "path=/c 0 -1 2m3s", "path=/d 0 -1 1ms"}},
		{"a log with the host first", "combined", Options{}, `www.tern.example:443 203.0.113.9 - - [23/Nov/2026:06:55:08 +0000] "GET /a HTTP/1.1" 200 12 "-" "u"` + "\n" + `203.0.113.9 - Mary Celeste [23/Nov/2026:06:55:08 +0000] "GET /a HTTP/1.1" 200 12 "-" "u"`,
			[]string{at + "Z client=203.0.113.9 method=GET host=www.tern.example:443 path=/a agent=u 200 12", at + "Z client=203.0.113.9 method=GET path=/a agent=u 200 12"}},
		{"HAR indented", "har", Options{}, "{\n    \"log\": {\n        \"entries\": [\n            {\"startedDateTime\": \"2026-11-23T06:55:08Z\", \"request\": {\"url\": \"https://h.example/\"}}\n        ]\n    }\n}\n", []string{at + "Z host=h.example path=/ 0 -1"}},
		{"W3C Extended", "w3c", Options{}, "#Software: x\n#Version: 1.0\n#Fields: date time c-ip cs-method cs-uri-stem cs-uri-query sc-status sc-bytes time-taken cs(User-Agent) cs(Cookie) cs(X-Seat) s-ip\n" +
			"2026-11-23 06:55:08 2001:db8::9 GET /a x=1 200 12 0.25 \"Tern \"\"App\"\"\" a=b;+c=d 14 192.0.2.1\n" +
			"#Fields: time date c-ip cs-uri\n06:55:08.5\t2026-11-23\t-\thttp://h.example?q#top\n",
			[]string{at + `Z client=2001:db8::9 method=GET path=/a?x=1 agent=Tern "App" 200 12 250ms X-Seat:14 a=b c=d`, at + ".5Z host=h.example path=/?q 0 -1"}},
		{"W3C Extended past midnight", "w3c", Options{Map: "duration/ms=time-taken"}, "#Fields: time time-taken\n#Date: 2026-11-22 23:59:59\n23:59:59 38\n00:00:01 -\n",
			[]string{"2026-11-22T23:59:59Z 0 -1 38ms", "2026-11-23T00:00:01Z 0 -1"}},
		{"HAR", "har", Options{}, `{"log": {"version": "1.2", "pages": [{"x": []}], "entries": [
			{"startedDateTime": "2026-11-23T08:55:09+02:00", "time": 38.5, "request": {"method": "GET", "url": "https://h.example/a?b#c", "headers": [{"name": "User-Agent", "value": "u"}, {"name": "X-Seat", "value": "14"}, {"value": 1}], "cookies": [{"name": "k", "value": "v"}]},
			 "response": {"status": 200, "bodySize": -1, "content": {"size": 12, "text": "\"{["}}},
			{"startedDateTime": "2026-11-23T06:55:08Z", "time": -1, "request": {"url": "wss://h.example", "method": null}, "response": {"status": 0}, "_resourceType": "websocket"},
			{"request": null}]}}`,
			[]string{"0 -1", at + "Z host=h.example path=/ 0 -1 stream", "2026-11-23T06:55:09Z method=GET host=h.example path=/a?b agent=u 200 12 38.5ms X-Seat:14 k=v"}},
		{"a form of one's own", "line", Options{Line: `{client} [{time:02/Jan/2006:15:04:05 -0700}] "{method} {path} {*}" {status} {bytes} {duration/ms}`},
			`203.0.113.9   [23/Nov/2026:07:55:08 +0100] "GET /a\"b HTTP/1.1" 200 - 38` + "\n# note\n" + `::1 [23/Nov/2026:06:55:08 +0000] "-" 400 0 -` + "\n" +
				`::1 [23/Nov/2026:06:55:08 +0000] "\x16\x03" 400 0 -`,
			[]string{at + `Z client=203.0.113.9 method=GET path=/a"b 200 -1 38ms`, at + "Z client=::1 400 0", at + "Z client=::1 400 0"}},
		{"a form with names", "line", Options{Line: `ts={time} h="{host}" {header:X-Seat}|{cookie:k}| "{request}" "{*}"`},
			`ts=1790000000.5 h="h.example" 14|v| "POST /b HTTP/1.1" "more"`, []string{"2026-09-21T14:13:20.5Z method=POST host=h.example path=/b 0 -1 X-Seat:14 k=v"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, r, err := all(t, c.text, c.o)
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
			assert.Equal(t, FormatOf(c.format), r.Format)
		})
	}
}

// TestWhatCannotBeReadSaysWhere holds every format's complaints to their place.
func TestWhatCannotBeReadSaysWhere(t *testing.T) {
	w3c := "#Fields: date time sc-status\n"
	form := Options{Line: `{client} "{method} {path}" {status}`}
	for _, c := range []struct {
		name  string
		o     Options
		text  string
		want  string
		after int // records that -bad skip still gives, -1 if it cannot
	}{
		{"CSV row too long", Options{}, "path,status\n/a,200,x\n/b,200\n", "t.log:2:8: the row has more cells than the header's 2", 1},
		{"CSV row too short", Options{}, "path,status\n/a\n/b,200\n", "t.log:2:3: the row has 1 cells, the header 2", 1},
		{"CSV value", Options{}, "path,status\n/a,20\n/b,200\n", `t.log:2:4: the status "20" is not a number of three digits`, 1},
		{"CSV quote", Options{}, "path,status\n\"/a\"b,200\n/b,200\n", "t.log:2:5: after the closing quote", 1},
		{"CSV quote never closed", Options{}, "path,status\n\"/a,200\n/b,200\n", "t.log:2:1: the quote that opens this cell is never closed", 0},
		{"CSV twice", Options{}, "path,path\n/a,/b\n", `t.log:1:1: the header names the column "path" twice`, -1},
		{"milliseconds", Options{}, "time,path\n1790000000250,/\n1790000000,/\n", "could be milliseconds: -map time/ms=COLUMN says so", 1},
		{"no zone", Options{}, "time,path\n2026-11-23 06:55:08,/\n", `t.log:2:1: the time "2026-11-23 06:55:08" has no zone`, 0},
		{"W3C columns", Options{}, w3c + "2026-11-23 06:55:08\n2026-11-23 06:55:08 200\n", "t.log:2:20: the line ends after 2 of the 3 columns", 1},
		{"W3C too many", Options{}, w3c + "2026-11-23 06:55:08 200 x\n", "t.log:2:25: the line has more columns than the 3", 0},
		{"W3C time", Options{}, w3c + "2026-11-23 6:55 200\n", `t.log:2:12: the time "6:55" is not like 06:55:08`, 0},
		{"W3C date", Options{}, w3c + "23.11.2026 06:55:08 200\n", `the date "23.11.2026" is not like 2026-11-23`, 0},
		{"W3C no date", Options{}, "#Fields: time\n06:55:08\n", "the time has no date", 0},
		{"W3C no fields", Options{}, "#Version: 1.0\n06:55:08\n", "no #Fields: directive has named the columns", 0},
		{"W3C empty fields", Options{}, "#Fields:\n", "#Fields: names no columns", -1},
		{"HAR entry", Options{}, "{\"log\":{\"entries\":[\n{\"startedDateTime\":\"noon\"},\n{}]}}", `t.log:2:20: the time "noon" is not like`, 1},
		{"HAR cut short", Options{}, "{\"log\":{\"entries\":[\n{\"time\":1}", "t.log:2:11: \",\" or \"]\" is expected", -1},
		{"no HAR", Options{}, "{\n\"a\": 1\n}", "there is no log with entries", -1},
		{"JSON array of no objects", Options{}, "[{\"path\":\"/\"},\n1]", "t.log:2:1: an object in braces is expected", 1},
		{"JSON array cut short", Options{}, "[{\"path\":\"/\"}", "t.log:1:14: \",\" or \"]\" is expected", -1},
		{"a duration below 0", Options{}, "path,duration\n/a,-3s\n/b,1\n", `the duration "-3s" is not a number of 0 or more, nor a time such as 134ms`, 1},
		{"form", form, "a \"GET /\" 200\na GET / 200\n", `t.log:2:3: a quote is expected`, 1},
		{"form status", form, "a \"GET /\" 20\n", `t.log:1:11: the status "20"`, 0},
		{"form goes on", Options{Line: "{client}|{status}|"}, "a|200|b\n", `the line goes on with "b" where the template ends`, 0},
		{"form ends", Options{Line: "{client}|{status}|"}, "a|200\n", `{status} is not followed by "|"`, 0},
		{"-map for a log", Options{Map: "duration=took"}, "a - - [23/Nov/2026:06:55:08 +0000] \"-\" 200 -\n", "-map names columns, which Common log lines do not have", -1},
		{"-fields for CSV", Options{Fields: "host"}, "{\"path\":\"/\"}\n", "-fields names further fields of log lines; this is JSON Lines", -1},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, _, err := all(t, c.text, c.o)
			var le *LineError
			require.ErrorAs(t, err, &le)
			assert.Contains(t, err.Error(), c.want)
			assert.Equal(t, c.after < 0, le.CannotBeSkip)
			c.o.Skip = true
			got, r, err := all(t, c.text, c.o)
			if c.after < 0 {
				require.Error(t, err)
				return
			}
			require.NoError(t, err)
			assert.Len(t, got, c.after)
			assert.EqualValues(t, 1, r.BadLines)
		})
	}
}

func TestOptionsThatCannotBeUsed(t *testing.T) {
	for want, o := range map[string]Options{
		`-map: "took" is not KEY=COLUMN`:                          {Map: "took"},
		`-map: there is no field "duraton"; did you mean`:         {Map: "duraton=x"},
		`-map: the column "x" is named twice`:                     {Map: "path=x,host=x"},
		`only duration, connect, first_byte and time have a unit`: {Map: "path/ms=x"},
		`a key of the record is expected before =`:                {Map: "-=x"},
		`-line: {path} follows {method} with nothing`:             {Line: "{method}{path}"},
		`-line: a quote is never closed`:                          {Line: `"{path}`},
		`is never closed`:                                         {Line: "{path"},
		`a closing brace without`:                                 {Line: "path}"},
		`names no field in braces`:                                {Line: "path {*}"},
		`"noon" is no layout of a time`:                           {Line: "{time:noon}"},
		`names no header, as in header:NAME`:                      {Line: "{header}"},
		`it does not go with -fields or -map`:                     {Line: "{path}", Fields: "host"},
	} {
		assert.ErrorContains(t, o.Check(), want)
	}
}

// TestEveryFormatIsWrittenAndReadBack writes records of every shape in every
// format and holds what comes back against what that format has a place for.
func TestEveryFormatIsWrittenAndReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[ -~é]{0,8}[!-,.-~]`)
		maybe := func(name string) []byte {
			if !rapid.Bool().Draw(t, "has "+name) {
				return nil
			}
			return []byte(strings.TrimSpace(word.Draw(t, name)))
		}
		var records []Record
		for range rapid.IntRange(1, 5).Draw(t, "records") {
			r := Record{Time: 1_790_000_000e9 + int64(len(records))*5e8 + rapid.Int64Range(0, 499_999_999).Draw(t, "time"), Status: rapid.IntRange(100, 999).Draw(t, "status"), Bytes: -1, Duration: -1}
			if rapid.Bool().Draw(t, "sized") {
				r.Bytes = rapid.Int64Range(1, 1e12).Draw(t, "bytes")
			}
			if rapid.Bool().Draw(t, "timed") {
				r.Duration = 1000 * rapid.Int64Range(1, 1e9).Draw(t, "duration")
			}
			if rapid.Bool().Draw(t, "asked") {
				r.Method, r.Path = []byte("GET"), []byte("/"+strings.ReplaceAll(word.Draw(t, "path"), "#", "?"))
			}
			r.Client = []byte(rapid.SampledFrom([]string{"203.0.113.9", "2001:db8::9", "kiosk.example"}).Draw(t, "client"))
			r.UserAgent, r.Referer, r.Session, r.Frontend = maybe("agent"), maybe("referer"), maybe("session"), maybe("frontend")
			r.Upstream, r.Backend = maybe("upstream"), maybe("backend")
			if r.Path != nil && rapid.Bool().Draw(t, "hosted") {
				r.Host = []byte("h.example:8080")
			}
			r.Protocol = Protocol(rapid.IntRange(0, 2).Draw(t, "protocol"))
			if v := maybe("header"); v != nil {
				r.Headers, r.Cookies = []KV{{[]byte("X-Seat"), v}}, []KV{{[]byte("k"), v}}
			}
			records = append(records, r)
		}
		for _, format := range WrittenAs() {
			var out bytes.Buffer
			w, err := NewWriter(&out, format)
			if err != nil {
				t.Fatal(err)
			}
			var want []string
			for _, r := range records {
				if err := w.Write(&r); err != nil {
					t.Fatal(err)
				}
				if format == "common" || format == "combined" {
					r.Time -= r.Time % 1e9
					r.Session, r.Frontend, r.Host, r.Headers, r.Cookies, r.Protocol = nil, nil, nil, nil, nil, HTTP
					r.Upstream, r.Backend = nil, nil
					r.Bytes = max(r.Bytes, 0) // "-" stands for none
				}
				if format == "common" {
					r.UserAgent, r.Referer, r.Duration = nil, nil, -1
				}
				want = append(want, flat(&r))
			}
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
			got := []string{}
			r, err := NewReader(format, bytes.NewReader(out.Bytes()), Options{})
			for err == nil {
				var rec Record
				if err = r.Next(&rec); err == nil {
					got = append(got, flat(&rec))
				}
			}
			if err != io.EOF || strings.Join(got, "\n") != strings.Join(want, "\n") {
				t.Fatalf("%s: %v\nwrote\n%s\nread\n%s\nin\n%s", format, err, strings.Join(want, "\n"), strings.Join(got, "\n"), out.String())
			}
		}
	})
}

func TestZstdIsUnpacked(t *testing.T) {
	text := made(t, 20, 50, false)
	w, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	z := w.EncodeAll(text, nil)
	plain, _, err := all(t, string(text), Options{})
	require.NoError(t, err)
	got, r, err := all(t, string(z), Options{})
	require.NoError(t, err)
	assert.Equal(t, plain, got)
	assert.EqualValues(t, len(z), r.Offset(), "progress counts bytes as stored")
	_, _, err = all(t, string(z[:len(z)/2]), Options{})
	assert.ErrorContains(t, err, "cut short after this line")
	damaged := bytes.Clone(z)
	damaged[len(z)/2] ^= 0xff
	_, _, err = all(t, string(damaged), Options{})
	assert.ErrorContains(t, err, "damaged after this line")
}

// TestAnonymising holds it to what it promises: one to one, neighbours stay
// neighbours, the same under one key and not under another.
func TestAnonymising(t *testing.T) {
	a, b := NewAnonymiser([]byte("one")), NewAnonymiser([]byte("two"))
	shared := func(x, y netip.Addr) int {
		p, q := x.As16(), y.As16()
		for i := range 128 {
			if (p[i/8]^q[i/8])>>(7-i%8)&1 == 1 {
				return i
			}
		}
		return 128
	}
	rapid.Check(t, func(t *rapid.T) {
		bytes16 := rapid.SliceOfN(rapid.Byte(), 16, 16)
		x, y := netip.AddrFrom16([16]byte(bytes16.Draw(t, "x"))), netip.AddrFrom16([16]byte(bytes16.Draw(t, "y")))
		if rapid.Bool().Draw(t, "v4") {
			x, y = netip.AddrFrom4([4]byte(x.AsSlice()[:4])), netip.AddrFrom4([4]byte(y.AsSlice()[:4]))
		}
		if got, want := shared(a.address(x), a.address(y)), shared(x, y); got != want {
			t.Fatalf("%s and %s share %d bits, their stand-ins %d", x, y, want, got)
		}
	})
	r := Record{Client: []byte("203.0.113.9:80"), Session: []byte("s1"), Cookies: []KV{{[]byte("k"), []byte("v")}}, Headers: []KV{{[]byte("X-Forwarded-For"), []byte("203.0.113.9")}, {[]byte("Accept"), []byte("*")}}}
	x, y := r, r
	x.Cookies, x.Headers = []KV{r.Cookies[0]}, []KV{r.Headers[0], r.Headers[1]}
	a.Apply(&x)
	first := flat(&x)
	b.Apply(&y)
	assert.NotEqual(t, string(x.Client), string(y.Client))
	assert.NotContains(t, first, "203.0.113")
	assert.Contains(t, first, "Accept:*")
	z := Record{Client: []byte("203.0.113.9"), Session: []byte("s1"), Status: 0, Bytes: -1}
	a.Apply(&z)
	assert.Equal(t, string(x.Client), string(z.Client), "a port does not count")
	assert.Equal(t, string(x.Session), string(z.Session))
	named := Record{Client: []byte("kiosk.example")}
	a.Apply(&named)
	assert.Regexp(t, "^client-[0-9a-f]{16}$", string(named.Client))
}

// TestPartsAndSamples cuts a made trace.
func TestPartsAndSamples(t *testing.T) {
	from, err := ParseMoment("5s")
	require.NoError(t, err)
	until, err := ParseMoment("2026-11-23T06:30:15Z")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		change Change
		look   func(kept, clients map[string]int, records int)
	}{
		"part": {Change{Part: Span{from, until}, Sample: 1, Speed: 1}, func(_, _ map[string]int, n int) {
			assert.InDelta(t, 1000, n, 160, "ten of thirty seconds of a hundred a second, five standard deviations")
		}},
		"sample": {Change{Sample: 0.25, Speed: 1}, func(kept, clients map[string]int, n int) {
			for client, n := range kept {
				assert.Equal(t, clients[client], n, "all of a client's requests or none")
			}
			assert.InDelta(t, 0.25, float64(len(kept))/float64(len(clients)), 0.08)
		}},
		"speed": {Change{Sample: 1, Speed: 10}, func(_, _ map[string]int, n int) {}},
	} {
		text := made(t, 30, 100, true)
		r, err := NewReader("t", bytes.NewReader(text), Options{})
		require.NoError(t, err)
		kept, clients, n, last := map[string]int{}, map[string]int{}, 0, int64(0)
		first := int64(0)
		var rec Record
		for r.Next(&rec) == nil {
			who := string(rec.Client) + string(rec.UserAgent)
			clients[who]++
			ok, err := c.change.Apply(&rec)
			require.NoError(t, err)
			if ok {
				kept[who]++
				n++
				if first == 0 {
					first = rec.Time
				}
				last = rec.Time
			}
		}
		c.look(kept, clients, n)
		if name == "speed" {
			assert.InDelta(t, 3e9, float64(last-first), 0.2e9)
		}
	}
	for _, bad := range []string{"-5s", "noon", "2026-11-23"} {
		_, err := ParseMoment(bad)
		assert.Error(t, err, bad)
	}
	assert.Error(t, (&Span{From: from, Until: from}).Check())
	_, err = (&Change{Speed: 2, Sample: 1}).Apply(&Record{Time: NoTime})
	assert.ErrorContains(t, err, "no time")
}

func FuzzCSV(f *testing.F) {
	f.Add([]byte("time,path,headers\n1,\"/a\nb\",\"{}\"\n,,\n"))
	fuzz(f, Options{Skip: true})
}

func FuzzW3C(f *testing.F) {
	f.Add([]byte("#Fields: date time cs-uri cs-uri-query cs(Cookie)\n2026-11-23 06:55:08 http://h/ x \"a=\"\"b\"\"; c\"\n#Date: 2026-11-23\n"))
	fuzz(f, Options{Skip: true})
}

func FuzzHAR(f *testing.F) {
	f.Add([]byte("[{\"path\":\"/\"},\n {\"duration\":\"0,5\"}]"))
	f.Add([]byte(`{"log":{"entries":[{"startedDateTime":"2026-11-23T06:55:08Z","time":1,"request":{"url":"http://h/","headers":[{"name":"a","value":"b"}]}},{}]}}`))
	fuzz(f, Options{Skip: true})
}

func FuzzForm(f *testing.F) {
	f.Add([]byte("a [1] \"GET /\\\" x\" 200|b\n"))
	fuzz(f, Options{Skip: true, Line: `{client} [{time}] "{method} {path} {*}" {status}|{session}`})
}

// TestEveryFormatIsWhole walks the table: what is written is read again, as what it is,
// and every format can be found.
func TestEveryFormatIsWhole(t *testing.T) {
	seen := map[string]bool{}
	for _, f := range Formats {
		assert.False(t, seen[f.Name], "%s is there twice", f.Name)
		seen[f.Name] = true
		assert.NotEmpty(t, f.Title, "%s: Title", f.Name)
		assert.False(t, f.IsLog && f.Whole, f.Name)
		assert.Same(t, f, FormatOf(f.Name))
		if f.append == nil {
			assert.Same(t, ownLines, f, "%s: append; only what users describe themselves is not written", f.Name)
			continue
		}
		assert.NotEmpty(t, f.end+f.foot, "%s: end", f.Name)
		var b bytes.Buffer
		w, err := NewWriter(&b, f.Name)
		require.NoError(t, err)
		require.NoError(t, w.Write(&Record{Time: 1_790_000_000e9, Client: []byte("203.0.113.9"), Method: []byte("GET"), Path: []byte("/seats"), UserAgent: []byte("TernApp/4.0"), Status: 200, Bytes: 5, Duration: -1}))
		require.NoError(t, w.Close())
		r, err := NewReader("x", &b, Options{})
		require.NoError(t, err)
		var rec Record
		require.NoError(t, r.Next(&rec), f.Name)
		assert.Same(t, f, r.Format, "%s is found by its content", f.Name)
		assert.Equal(t, "/seats", string(rec.Path), f.Name)
	}
	last := Formats[0]
	for _, f := range Formats {
		if f.begins != nil {
			last = f
		}
	}
	reads, _, _ := last.begins(&Reader{log: &combined{}}, []byte("anything"))
	assert.NotNil(t, reads, "the last that is told by a line takes any")
}

// TestNumbersHaveAnyNumberOfDigits reads durations and times as programs write floating point
// numbers, with as many digits as tell them from all others.
func TestNumbersHaveAnyNumberOfDigits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		x := rapid.Float64Range(0, 1).Draw(t, "x") * math.Pow(10, float64(rapid.IntRange(-12, 6).Draw(t, "size")))
		text := strconv.FormatFloat(x, rapid.SampledFrom([]byte{'f', 'e', 'g'}).Draw(t, "form"), rapid.SampledFrom([]int{-1, -1, 3, 25}).Draw(t, "digits"), 64)
		want, err := strconv.ParseFloat(text, 64)
		require.NoError(t, err)
		for format, line := range map[string]string{
			"jsonl": `{"duration":` + text + `}`, "csv": "path,duration\n/," + text, "combined": `192.0.2.7 - - [23/Nov/2026:06:55:08 +0000] "GET / HTTP/1.1" 200 1 "-" "u" ` + text,
		} {
			var o Options
			if format == "combined" {
				o.Fields = "duration"
			}
			r, err := NewReader("x", strings.NewReader(line+"\n"), o)
			require.NoError(t, err, format)
			var rec Record
			require.NoError(t, r.Next(&rec), "%s %s", format, text)
			assert.InDelta(t, want*1e9, rec.Duration, 1+want*1e9*1e-12, "%s %s", format, text)
		}
	})
}
