package trace

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// flat is a record written out for a comparison.
func flat(r *Record) string {
	out := []string{}
	add := func(name string, b []byte) {
		if b != nil {
			out = append(out, name+"="+string(b))
		}
	}
	if r.Time != NoTime {
		out = append(out, time.Unix(0, r.Time).UTC().Format(time.RFC3339Nano))
	}
	add("client", r.Client)
	add("method", r.Method)
	add("host", r.Host)
	add("path", r.Path)
	add("session", r.Session)
	add("agent", r.UserAgent)
	add("referer", r.Referer)
	add("frontend", r.Frontend)
	add("upstream", r.Upstream)
	add("backend", r.Backend)
	out = append(out, fmt.Sprintf("%d %d", r.Status, r.Bytes))
	if r.Duration >= 0 {
		out = append(out, time.Duration(r.Duration).String())
	}
	for _, h := range r.Headers {
		out = append(out, string(h.Name)+":"+string(h.Value))
	}
	for _, c := range r.Cookies {
		out = append(out, string(c.Name)+"="+string(c.Value))
	}
	if r.Protocol == Stream {
		out = append(out, "stream")
	}
	return strings.Join(out, " ")
}

// all reads a text to its end.
func all(t testing.TB, text string, o Options) ([]string, *Reader, error) {
	r, err := NewReader("t.log", strings.NewReader(text), o)
	require.NoError(t, err)
	defer r.Close()
	var out []string
	var rec Record
	for {
		err := r.Next(&rec)
		if errors.Is(err, io.EOF) {
			return out, r, nil
		}
		if err != nil {
			return out, r, err
		}
		out = append(out, flat(&rec))
	}
}

func TestLogLines(t *testing.T) {
	const stamp = `[23/Nov/2026:06:55:08 +0000]`
	for _, c := range []struct{ name, fields, line, want string }{
		{"common", "", `203.0.113.9 - - ` + stamp + ` "GET /seats HTTP/1.1" 200 1234`,
			"2026-11-23T06:55:08Z client=203.0.113.9 method=GET path=/seats 200 1234"},
		{"combined", "", `203.0.113.9 - kim ` + stamp + ` "GET /seats?x=1 HTTP/1.1" 200 1234 "http://a.example/" "TernApp/4.1 (phone)"`,
			"2026-11-23T06:55:08Z client=203.0.113.9 method=GET path=/seats?x=1 agent=TernApp/4.1 (phone) referer=http://a.example/ 200 1234"},
		{"trailing duration", "", `a - - ` + stamp + ` "GET / HTTP/1.1" 200 - "-" "-" 0.038`,
			"2026-11-23T06:55:08Z client=a method=GET path=/ 200 0 38ms"},
		{"a whole number is no duration", "", `a - - ` + stamp + ` "GET / HTTP/1.1" 200 1 "-" "-" 38`,
			"2026-11-23T06:55:08Z client=a method=GET path=/ 200 1"},
		{"named fields", "host,-,duration/ms,session,frontend", `a - - ` + stamp + ` "GET / HTTP/1.1" 200 1 "-" "-" "b.example" x 38 s1 web more`,
			"2026-11-23T06:55:08Z client=a method=GET host=b.example path=/ session=s1 frontend=web 200 1 38ms"},
		{"named field not known", "duration,session", `a - - ` + stamp + ` "GET / HTTP/1.1" 200 1 "-" "-" - -`,
			"2026-11-23T06:55:08Z client=a method=GET path=/ 200 1"},
		{"zone", "", `a - - [23/Nov/2026:08:55:08 +0200] "GET / HTTP/1.1" 304 -`, "2026-11-23T06:55:08Z client=a method=GET path=/ 304 0"},
		{"negative zone", "", `a - - [22/Nov/2026:23:25:08 -0730] "GET / HTTP/1.1" 304 -`, "2026-11-23T06:55:08Z client=a method=GET path=/ 304 0"},
		{"leap second", "", `a - - [31/Dec/2016:23:59:60 +0000] "GET / HTTP/1.1" 304 -`, "2017-01-01T00:00:00Z client=a method=GET path=/ 304 0"},
		{"fraction", "", `a - - [23/Nov/2026:06:55:08.25 +0000] "GET / HTTP/1.1" 200 1`, "2026-11-23T06:55:08.25Z client=a method=GET path=/ 200 1"},
		{"IPv6", "", `2001:db8::9 - - ` + stamp + ` "GET / HTTP/1.1" 200 1`, "2026-11-23T06:55:08Z client=2001:db8::9 method=GET path=/ 200 1"},
		{"no request", "", `a - - ` + stamp + ` "-" 408 0`, "2026-11-23T06:55:08Z client=a 408 0"},
		{"empty request", "", `a - - ` + stamp + ` "" 400 0 "-" "-"`, "2026-11-23T06:55:08Z client=a 400 0"},
		{"TLS sent to a plain port", "", `a - - ` + stamp + ` "\x16\x03\x01\x02" 400 0 "-" "-"`, "2026-11-23T06:55:08Z client=a 400 0"},
		{"escaped quotes", "", `a - - ` + stamp + ` "GET /a\"b HTTP/1.1" 200 1 "-" "say \"hi\" \\ \x41"`, `2026-11-23T06:55:08Z client=a method=GET path=/a"b agent=say "hi" \ \x41 200 1`},
		{"old protocol", "", `a - - ` + stamp + ` "GET /a" 200 1`, "2026-11-23T06:55:08Z client=a method=GET path=/a 200 1"},
		{"a space in the path", "", `a - - ` + stamp + ` "GET /a b HTTP/1.0" 200 1`, "2026-11-23T06:55:08Z client=a method=GET path=/a b 200 1"},
		{"absolute form", "", `a - - ` + stamp + ` "GET http://b.example:80/c HTTP/1.1" 200 1`, "2026-11-23T06:55:08Z client=a method=GET host=b.example:80 path=/c 200 1"},
		{"asterisk form", "", `a - - ` + stamp + ` "OPTIONS * HTTP/1.1" 200 1`, "2026-11-23T06:55:08Z client=a method=OPTIONS path=* 200 1"},
		{"user with spaces", "", `a - kim of the quay ` + stamp + ` "GET / HTTP/1.1" 200 1`, "2026-11-23T06:55:08Z client=a method=GET path=/ 200 1"},
		{"not UTF-8", "", "a - - " + stamp + " \"GET /\xff\xfe HTTP/1.1\" 200 1", "2026-11-23T06:55:08Z client=a method=GET path=/\xff\xfe 200 1"},
		{"no status was sent", "", `a - - ` + stamp + ` "GET / HTTP/1.1" 000 0`, "2026-11-23T06:55:08Z client=a method=GET path=/ 0 0"},
		{"no bytes", "", `a - - ` + stamp + ` "GET / HTTP/1.1" 200`, "2026-11-23T06:55:08Z client=a method=GET path=/ 200 -1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, _, err := all(t, "# a comment\n\n"+c.line+"\r\n", Options{Fields: c.fields})
			require.NoError(t, err)
			assert.Equal(t, []string{c.want}, got)
		})
	}
}

func TestLinesThatCannotBeRead(t *testing.T) {
	const stamp = `[23/Nov/2026:06:55:08 +0000]`
	for _, c := range []struct{ name, fields, line, want string }{
		{"garbage", "", "garbage", "t.log:2:1: this is not a Common or Combined log line"},
		{"no time", "", `a - - "GET / HTTP/1.1" 200 1`, "t.log:2:3: no [time] follows the client"},
		{"time cut short", "", `a - - [23/Nov/2026`, "t.log:2:7: the time in brackets does not end"},
		{"no such day", "", `a - - [31/Feb/2026:06:55:08 +0000] "GET / HTTP/1.1" 200 1`, `t.log:2:8: the time "31/Feb/2026:06:55:08 +0000" does not exist`},
		{"no such month", "", `a - - [01/Foo/2026:06:55:08 +0000] "GET / HTTP/1.1" 200 1`, "is not like 23/Nov/2026:06:55:08 +0000"},
		{"month across two", "", `a - - [01/anF/2026:06:55:08 +0000] "GET / HTTP/1.1" 200 1`, "is not like 23/Nov/2026:06:55:08 +0000"},
		{"no such hour", "", `a - - [01/Jan/2026:24:55:08 +0000] "GET / HTTP/1.1" 200 1`, "does not exist"},
		{"no such second", "", `a - - [01/Jan/2026:23:55:61 +0000] "GET / HTTP/1.1" 200 1`, "no seconds from 00 to 60"},
		{"no such zone", "", `a - - [01/Jan/2026:23:55:01 +9900] "GET / HTTP/1.1" 200 1`, "no such zone"},
		{"year out of reach", "", `a - - [01/Jan/9999:23:55:01 +0000] "GET / HTTP/1.1" 200 1`, "out of reach"},
		{"fraction", "", `a - - [01/Jan/2026:23:55:01.x +0000] "GET / HTTP/1.1" 200 1`, "a fraction that is no number"},
		{"no request", "", `a - - ` + stamp + ` 200 1`, "t.log:2:35: the quoted request is expected"},
		{"request does not end", "", `a - - ` + stamp + ` "GET / 200 1`, "the quoted request does not end"},
		{"status of two digits", "", `a - - ` + stamp + ` "GET / HTTP/1.1" 20 1`, "a status of three digits is expected"},
		{"status of four", "", `a - - ` + stamp + ` "GET / HTTP/1.1" 2000 1`, "a status of three digits is expected"},
		{"bytes", "", `a - - ` + stamp + ` "GET / HTTP/1.1" 200 many`, "a number of bytes or - is expected"},
		{"agent does not end", "", `a - - ` + stamp + ` "GET / HTTP/1.1" 200 1 "-" "half`, "the quoted user agent does not end"},
		{"duration", "duration", `a - - ` + stamp + ` "GET / HTTP/1.1" 200 1 "-" "-" soon`, `the duration "soon" is not a number`},
		{"too long", "", "a" + strings.Repeat("b", maxLine+10), "t.log:2:1: the line is longer than 1 MiB"},
	} {
		t.Run(c.name, func(t *testing.T) {
			good := `a - - ` + stamp + ` "GET / HTTP/1.1" 200 1` + "\n"
			got, _, err := all(t, good+c.line+"\n"+good, Options{Fields: c.fields})
			var le *LineError
			require.ErrorAs(t, err, &le)
			assert.Contains(t, err.Error(), c.want)
			assert.Contains(t, err.Error(), "-bad skip skips such lines")
			assert.Len(t, got, 1, "what stands before it was read")
			got, r, err := all(t, good+c.line+"\n"+good, Options{Fields: c.fields, Skip: true})
			require.NoError(t, err)
			assert.Len(t, got, 2)
			assert.EqualValues(t, 1, r.BadLines)
			assert.EqualValues(t, 2, r.Bad[0].Line)
		})
	}
}

func TestJSONLines(t *testing.T) {
	for _, c := range []struct{ name, line, want string }{
		{"all keys", `{"time":"2026-11-23T06:55:08.25Z","client":"a","method":"GET","host":"h","path":"/p","status":200,"bytes":5,"duration":0.038,"session":"s","user_agent":"u","referer":"r","frontend":"f","protocol":"http","headers":{"X":"y"},"cookies":{"c":"d"}}`,
			"2026-11-23T06:55:08.25Z client=a method=GET host=h path=/p session=s agent=u referer=r frontend=f 200 5 38ms X:y c=d"},
		{"none", `{}`, "0 -1"},
		{"null is unknown", `{"time":null,"client":null,"status":null,"duration":null,"headers":null}`, "0 -1"},
		{"seconds since the epoch", `{"time":1790000000.123456789}`, "2026-09-21T14:13:20.123456789Z 0 -1"},
		{"whole seconds", ` { "time" : 1790000000 , "path" : "/" } `, "2026-09-21T14:13:20Z path=/ 0 -1"},
		{"other keys", `{"a":[1,{"b":[true,false,null]}],"c":"x","path":"/p","d":-1e5}`, "path=/p 0 -1"},
		{"escapes", `{"path":"\/a\"\\\u00e9\n\t\b\f\r"}`, "path=/a\"\\é\n\t\b\f\r 0 -1"},
		{"numbers as texts", `{"status":"200","duration":"0.5","bytes":"12"}`, "200 12 500ms"},
		{"zone", `{"time":"2026-11-23T08:55:08+02:00"}`, "2026-11-23T06:55:08Z 0 -1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, r, err := all(t, "\xef\xbb\xbf"+c.line+"\n", Options{})
			require.NoError(t, err)
			assert.Equal(t, []string{c.want}, got)
			assert.Equal(t, jsonLines, r.Format)
		})
	}
	r, err := NewReader("a.scenario.hcl", strings.NewReader("seed = 7\n"), Options{Skip: true})
	require.NoError(t, err)
	assert.ErrorContains(t, r.Next(&Record{}), "a.scenario.hcl:1:1: this is a configuration or a scenario")
	for line, want := range map[string]string{
		`{"time":"yesterday"}`: "is not like 2026-11-23T06:55:08.25Z",
		`{"time":1e300}`:       "not seconds since the epoch",
		`{"status":20}`:        "not a number of three digits",
		`{"status":200.5}`:     "not a number of three digits",
		`{"duration":-1}`:      `the duration "-1" is not a number of 0 or more`,
		`{"bytes":-1}`:         `"-1" is not a number of bytes`,
		`{"path":1}`:           "a text in quotes is expected",
		`{"path":"x}`:          "a text in quotes does not end",
		`{"path":"\q"}`:        "an escape that JSON does not have",
		`{"path":"\u12"}`:      "an escape",
		`{"path":"x"`:          "\",\" or \"}\" is expected",
		`{"path" "x"}`:         "\":\" is expected",
		`{path:"x"}`:           "a key in quotes is expected",
		`{"path":"x"} {}`:      "something follows the object",
		`{"a":`:                "a value is expected",
		`{"a":[1 2]}`:          "\",\" or \"]\" is expected",
		`{"a":tru}`:            "a number is expected",
		`{"a":` + strings.Repeat("[", 100) + strings.Repeat("]", 100) + `}`: "nested more than 64 deep",
	} {
		_, _, err := all(t, line+"\n", Options{})
		if assert.Error(t, err, line) {
			assert.Contains(t, err.Error(), want, line)
			assert.Contains(t, err.Error(), "t.log:1:", line)
		}
	}
}

func TestCompressedFiles(t *testing.T) {
	text := made(t, 20, 50, false)
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	_, err := w.Write(text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	plain, _, err := all(t, string(text), Options{})
	require.NoError(t, err)
	packed, _, err := all(t, z.String(), Options{})
	require.NoError(t, err)
	assert.Equal(t, plain, packed)
	assert.Greater(t, len(plain), 500)

	cut := z.String()[:z.Len()/2]
	got, _, err := all(t, cut, Options{Skip: true})
	require.ErrorContains(t, err, "the compressed file is cut short after this line")
	assert.NotEmpty(t, got, "what could be read was")
	damaged := bytes.Clone(z.Bytes())
	damaged[len(damaged)-6] ^= 0xff
	_, _, err = all(t, string(damaged), Options{})
	assert.ErrorContains(t, err, "damaged")
	_, err = NewReader("t", strings.NewReader("\x1f\x8bxxxxxxxxxxxx"), Options{})
	assert.ErrorContains(t, err, "begins like a gzip file but is none")
}

func TestFieldsAreNamed(t *testing.T) {
	for list, want := range map[string]string{"durtion": `there is no field "durtion"`, "duration/min": "no unit", "": "no field"} {
		_, err := ParseFields(list)
		assert.ErrorContains(t, err, want)
	}
	f, err := ParseFields("duration/us, - ,host")
	require.NoError(t, err)
	assert.Len(t, f, 3)
}

// TestWhatIsWrittenIsReadBack holds both text forms to it, for made traces and
// for texts that need escaping.
func TestWhatIsWrittenIsReadBack(t *testing.T) {
	asLog, _, err := all(t, string(made(t, 30, 100, false)), Options{})
	require.NoError(t, err)
	asJSON, _, err := all(t, string(made(t, 30, 100, true)), Options{})
	require.NoError(t, err)
	require.Len(t, asJSON, len(asLog))
	assert.Greater(t, len(asLog), 2500)
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringN(1, 12, 40).Filter(func(s string) bool { return s != "-" }) // which stands for nothing
		r := Record{
			Time: 1_790_000_000_000_000_000 + rapid.Int64Range(0, 1e12).Draw(t, "time"), Bytes: rapid.Int64Range(0, 1e12).Draw(t, "bytes"),
			Client: []byte("203.0.113.7"), Method: []byte("GET"), Path: []byte("/" + text.Draw(t, "path")), Host: []byte("h"),
			UserAgent: []byte(text.Draw(t, "agent")), Session: []byte(text.Draw(t, "session")), Status: rapid.IntRange(100, 599).Draw(t, "status"),
			Duration: rapid.Int64Range(0, 1e9).Draw(t, "duration") * 1000,
		}
		rd, err := NewReader("t", bytes.NewReader(append(AppendJSON(nil, &r), '\n')), Options{})
		if err != nil {
			t.Fatal(err)
		}
		var got Record
		if err := rd.Next(&got); err != nil {
			t.Fatal(err)
		}
		if a, b := flat(&r), flat(&got); a != b {
			t.Fatalf("wrote %q\nread  %q", a, b)
		}
	})
	line := AppendCombined(nil, &Record{Time: 0, Client: []byte("a"), Method: []byte("GET"), Path: []byte(`/"x\`), Status: 200, Bytes: -1, Duration: -1, UserAgent: []byte("tab\there")})
	assert.Equal(t, `a - - [01/Jan/1970:00:00:00 +0000] "GET /\"x\\ HTTP/1.1" 200 - "-" "tab\x09here" -`, string(line))
	got, _, err := all(t, string(line)+"\n", Options{})
	require.NoError(t, err)
	assert.Contains(t, got[0], `path=/"x\`)
}

func TestClientsAreKnownHoweverTheyAreWritten(t *testing.T) {
	for _, same := range [][]string{
		{"203.0.113.9", "203.0.113.9:5123", "::ffff:203.0.113.9", "[::ffff:203.0.113.9]:80"},
		{"2001:db8::9", "2001:DB8:0:0::9", "[2001:db8::9]:443", "2001:db8:0:0:0:0:0:9"},
		{"kiosk.example", "kiosk.example:99"},
	} {
		for _, s := range same[1:] {
			assert.Equal(t, ClientKey(same[0]), ClientKey(s), "%s and %s", same[0], s)
			assert.Equal(t, CanonicalClient(same[0]), CanonicalClient(s))
		}
	}
	assert.NotEqual(t, ClientKey("2001:db8::9"), ClientKey("2001:db8::a"))
	rapid.Check(t, func(t *rapid.T) {
		// Addresses, things like them, and rubbish.
		s := rapid.OneOf(
			rapid.StringMatching(`([0-9a-fA-F]{1,4}:){7}[0-9a-f]{1,4}`), rapid.StringMatching(`([0-9a-f]{1,4}:){0,6}:(:?[0-9A-F]{0,5}){0,6}`),
			rapid.StringMatching(`::(ffff:)?[0-9a-f.]{1,9}(:[0-9a-f]{1,4}){0,2}`), rapid.StringMatching(`[0-9a-f:%.\[\]]{0,42}`),
			rapid.StringMatching(`[0-9a-z.]{0,20}:[0-9a-z.]{0,20}:?`),
		).Draw(t, "address")
		var got [16]byte
		ok := parse6(s, &got)
		want, err := netip.ParseAddr(s)
		if err == nil && CanonicalClient(s) != want.Unmap().WithZone("").String() {
			t.Fatalf("%q: %s, the library has %s", s, CanonicalClient(s), want)
		}
		plain := err == nil && want.Is6() && !want.Is4In6() && want.Zone() == "" && !strings.Contains(s, ".") && len(s) >= 8
		if HasPort(s) != (strings.Count(s, ":") == 1 || strings.HasPrefix(s, "[")) {
			t.Fatalf("%q: HasPort is %v", s, HasPort(s))
		}
		if ok != plain || ok && got != want.As16() {
			t.Fatalf("%q: %v %x, the library has %v %v", s, ok, got, want, err)
		}
	})
	for _, odd := range []string{"", ":", "::", "a:b:c", "[", "[]:1", "%"} {
		assert.NotPanics(t, func() { ClientKey(odd) }, odd)
	}
}

func TestTheGeneratorObeysItsSpec(t *testing.T) {
	paths := []WeightedPath{{"GET", "/a", 3}, {"POST", "/b/{n}", 1}, {"GET", "/never", 0}}
	spec := Spec{Seed: 3, Start: time.Unix(1000, 0), For: 100 * time.Second, Rate: 200, Arrivals: "poisson", Clients: 50, Popularity: 1, Paths: paths, Mean: 80 * time.Millisecond, CV: 1}
	for shape := range Shapes {
		spec.Shape = shape
		require.NoError(t, spec.Validate())
		g := NewGenerator(spec)
		var r Record
		n, posts, middle := 0, 0, 0
		duration := 0.0
		clients := map[string]int{}
		last := int64(0)
		for g.Next(&r) {
			n++
			assert.GreaterOrEqual(t, r.Time, last)
			last = r.Time
			clients[string(r.Client)]++
			duration += float64(r.Duration)
			if string(r.Method) == "POST" {
				posts++
				assert.Regexp(t, `^/b/[0-9]+$`, string(r.Path))
			}
			if s := (r.Time - 1000e9) / 1e9; s >= 45 && s < 55 {
				middle++
			}
			assert.NotEqual(t, "/never", string(r.Path))
		}
		// Five standard deviations of a Poisson count of mean 20,000.
		assert.InDelta(t, 20000, n, 5*math.Sqrt(20000), shape)
		assert.InDelta(t, 0.25, float64(posts)/float64(n), 0.02)
		assert.InDelta(t, 80e6, duration/float64(n), 4e6)
		assert.Len(t, clients, 50)
		assert.Greater(t, clients["203.0.113.1"], 5*clients["2001:db8:1::28"], "zipf: the first is asked most")
		if shape == "spike" {
			assert.Greater(t, middle, n/4)
		}
	}
	spec.Shape, spec.Arrivals = "steady", "even"
	g := NewGenerator(spec)
	var r Record
	n := 0
	for g.Next(&r) {
		require.InDelta(t, 1000e9+float64(n)*5e6, float64(r.Time), 1000)
		n++
	}
	assert.Equal(t, 20000, n)
	assert.Equal(t, made(t, 10, 50, false), made(t, 10, 50, false), "same seed, same bytes")
	for name, spoil := range map[string]func(*Spec){
		"rate": func(s *Spec) { s.Rate = 0 }, "rate NaN": func(s *Spec) { s.Rate = math.NaN() }, "for": func(s *Spec) { s.For = -1 },
		"clients": func(s *Spec) { s.Clients = 0 }, "popularity": func(s *Spec) { s.Popularity = -1 }, "shape": func(s *Spec) { s.Shape = "x" },
		"arrivals": func(s *Spec) { s.Arrivals = "x" }, "cv": func(s *Spec) { s.CV = -1 }, "paths": func(s *Spec) { s.Paths = []WeightedPath{{"GET", "/", 0}} },
	} {
		s := spec
		spoil(&s)
		assert.Error(t, s.Validate(), name)
	}
	for _, bad := range []string{"seats", "/a=x", "/a=-1", "get /a", "/a b", "/a=NaN", `/"`} {
		_, err := ParsePath(bad)
		assert.Error(t, err, bad)
	}
}

func TestDescribe(t *testing.T) {
	d := NewDescriber()
	r, err := NewReader("t", strings.NewReader(`2001:db8::9 - - [23/Nov/2026:06:00:10 +0000] "GET /a?x=1 HTTP/1.1" 200 10 "-" "u" 0.1
2001:DB8::9 - - [23/Nov/2026:06:00:00 +0000] "GET /a?x=2 HTTP/1.1" 200 10 "-" "u" 0.3
garbage
203.0.113.9 - - [23/Nov/2026:06:00:10 +0000] "POST /b HTTP/1.1" 503 - "-" "u" 0.2
203.0.113.9 - - [23/Nov/2026:06:00:10 +0000] "-" 408 - "-" "-"
`), Options{Skip: true})
	require.NoError(t, err)
	var rec Record
	for r.Next(&rec) == nil {
		d.Add(&rec)
	}
	s := d.Summary()
	assert.Equal(t, combinedLog, r.Format)
	assert.EqualValues(t, 4, s.Records)
	assert.EqualValues(t, 1, r.BadLines)
	assert.Equal(t, []Bad{{3, 1, "this is not a Common or Combined log line: a client and a space are expected first"}}, r.Bad)
	assert.Equal(t, 2, s.Clients, "one address written in two ways is one client")
	assert.Equal(t, map[string]int64{"GET": 2, "POST": 1}, s.Methods)
	assert.Equal(t, map[string]int64{"200": 2, "503": 1, "408": 1}, s.Statuses)
	assert.Equal(t, []Count{{"/a", 2}, {"/b", 1}}, s.TopPaths, "paths count without their query")
	assert.EqualValues(t, 20, s.Bytes)
	assert.InDelta(t, 0.2, s.Duration.Mean, 1e-9)
	assert.InDelta(t, 0.2, s.Duration.P50, 0.003)
	assert.InDelta(t, 0.3, s.Duration.Max, 1e-9)
	assert.InDelta(t, 10, *s.Last-*s.First, 1e-9, "order does not matter")
	assert.InDelta(t, 3, s.Rate.Peak, 1e-9)
	assert.InDelta(t, 0.4, s.Rate.Mean, 1e-9)
	assert.EqualValues(t, 1, s.Unknown["duration"])
	assert.True(t, s.WholeSeconds)
	// A span of years is told in wider buckets, not in more of them.
	long := NewDescriber()
	for i := range int64(300_000) {
		long.Add(&Record{Time: i * 3600e9, Bytes: -1, Duration: -1})
	}
	wide := long.Summary()
	assert.LessOrEqual(t, len(wide.Rate.Rows), 2048)
	assert.Nil(t, wide.Duration)
}

func fuzz(f *testing.F, o Options) {
	f.Fuzz(func(t *testing.T, text []byte) {
		r, err := NewReader("f", bytes.NewReader(text), o)
		if err != nil {
			return
		}
		var rec Record
		for range 1000 {
			err := r.Next(&rec)
			var le *LineError
			if errors.Is(err, io.EOF) || errors.As(err, &le) && (le.CannotBeSkip || !o.Skip) {
				break
			}
			if err != nil {
				t.Fatalf("an error of another kind: %v", err)
			}
			if rec.Status < 0 || rec.Status > 999 || rec.Duration < -1 || rec.Bytes < -1 {
				t.Fatalf("a record out of bounds: %s", flat(&rec))
			}
			ClientKey(Text(rec.Client))
		}
		if len(text) < 1<<16 {
			sameInPieces(t, string(text), o, 64)
		}
	})
}

func FuzzCombined(f *testing.F) {
	f.Add([]byte(`203.0.113.9 - - [23/Nov/2026:06:55:08 +0000] "GET /a\"b HTTP/1.1" 200 1234 "-" "x" 0.038 - b.example` + "\n"))
	f.Add([]byte("::1 - - [23/Nov/2026:06:55:08.5 -0100] \"\\x16\" 400 - \"-\" \"-\"\r\n#\n\n"))
	fuzz(f, Options{Skip: true, Fields: "duration,session,host"})
}

func FuzzJSONLines(f *testing.F) {
	f.Add([]byte(`{"time":"2026-11-23T06:55:08.25Z","client":"a","path":"\u00e9","headers":{"X":"y"},"z":[1,{}]}` + "\n"))
	f.Add([]byte(`{"time":1790000000.123,"duration":"0.5"}` + "\n"))
	fuzz(f, Options{Skip: true})
}

func FuzzCompressed(f *testing.F) {
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	_, _ = w.Write([]byte("a - - [23/Nov/2026:06:55:08 +0000] \"GET / HTTP/1.1\" 200 1\n"))
	_ = w.Close()
	f.Add(z.Bytes())
	fuzz(f, Options{Skip: true})
}

// TestClientsBehindAddresses: so many share a few addresses, each with an agent of its own.
func TestClientsBehindAddresses(t *testing.T) {
	spec := Spec{Seed: 3, Shape: "steady", Clients: 1000, Paths: []WeightedPath{{Method: "GET", Path: "/", Weight: 1}}, Behind: 0.2, Addresses: 3, Mean: 1e6, CV: 1}
	g := NewGenerator(spec)
	clients, addresses := map[string]int{}, map[string]int{}
	var r Record
	for who := range spec.Clients {
		g.Ask(&r, who)
		clients[string(r.Client)+string(r.UserAgent)]++
		addresses[string(r.Client)]++
	}
	assert.Len(t, clients, 1000, "none is taken for another")
	shared := 0
	for _, n := range addresses {
		if n > 1 {
			shared += n
		}
	}
	assert.InDelta(t, 200, shared, 40)
	assert.Len(t, addresses, 1000-shared+3)
}
