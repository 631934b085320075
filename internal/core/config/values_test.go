package config

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestUnits(t *testing.T) {
	for s, want := range map[string]time.Duration{"250ms": 250 * time.Millisecond, "2s": 2 * time.Second, "1m30s": 90 * time.Second, "0s": 0, "8h": 8 * time.Hour} {
		d, err := ParseDuration(s)
		assert.NoError(t, err, s)
		assert.Equal(t, want, d, s)
	}
	for s, want := range map[string]float64{"200/s": 200, "30/m": 0.5, "3600/h": 1, "0.5/s": 0.5} {
		r, err := ParseRate(s)
		assert.NoError(t, err, s)
		assert.InDelta(t, want, r, 1e-9, s)
	}
	for _, s := range []string{"", "200", "200/d", "-1/s", "0/s", "NaN/s", "Inf/s", "1e400/s", "/s"} {
		_, err := ParseRate(s)
		assert.Error(t, err, s)
	}
	for s, want := range map[string]string{
		"192.0.2.11:8080": "192.0.2.11:8080", "[2001:db8::13]:80": "[2001:db8::13]:80", "a-b.example:1": "a-b.example:1",
		"unix:/run/a.sock": "unix:/run/a.sock", "[::]:65535": "[::]:65535", "srv_1:9": "srv_1:9",
	} {
		a, err := ParseAddress(s)
		assert.NoError(t, err, s)
		assert.Equal(t, want, a.String(), s)
	}
	for s, want := range map[string]string{
		"127.0.0.1": "has no port", "::1": `write "[::1]:8080"`, "2001:db8::1:80": "has no port", "host": "has no port",
		"http://a:80": "is a URL", "a:0": "from 1 to 65535", "a:65536": "from 1 to 65535", "a:x": "from 1 to 65535", ":80": "names no host",
		"unix:run": "absolute path", "unix:/" + strings.Repeat("x", 120): "107 bytes", "[127.0.0.1]:80": "is not an IPv6 address",
		"1.2.3.4.5:80": "is not an IPv4 address", "300.1.2.3:80": "is not an IPv4 address", "a b:80": `" " cannot stand`, "a..b:80": "not a host name",
		strings.Repeat("a", 64) + ":80": "not a host name", "[::1]80": "has no port after the bracket", "fe80::1%eth0:80": "has no port",
	} {
		_, err := ParseAddress(s)
		if assert.Error(t, err, s) {
			assert.Contains(t, err.Error(), want, s)
		}
	}
	for s, want := range map[string]float64{"0%": 0, "50%": 0.5, "100 %": 1, "33.3%": 0.333} {
		p, err := ParsePercent(s)
		assert.NoError(t, err, s)
		assert.InDelta(t, want, p, 1e-9, s)
	}
	for _, s := range []string{"", "%", "-1%", "101%", "NaN%", "x%"} {
		_, err := ParsePercent(s)
		assert.Error(t, err, s)
	}
}

// TestTheTableIsWhole holds the table of the language to its own rules: defaults
// and examples can be read as what they stand for.

// TestValuesOfOnesOwn works values out of each other, and takes null for what is not written.
func TestValuesOfOnesOwn(t *testing.T) {
	env := func(name string) (string, bool) {
		v, ok := map[string]string{"WEIGHT": "3", "QUAYS": "north,south", "OPEN": "true", "ODD": "three"}[name]
		return v, ok
	}
	read := func(lets, up string) (*Config, []string) {
		src := "let {\n" + lets + "\n}\n" + strings.Replace(small, "    auk = \"127.0.0.1:9001\"\n", up, 1)
		c, found, err := ReadIn([]File{{Name: "t.hcl", Source: []byte(src)}}, World{Env: env})
		require.NoError(t, err)
		return c, said(found)
	}
	for _, c := range []struct{ lets, backend, want string }{
		{"a = { auk = 1 }\nb = { gannet = 2 }", "for name in keys(merge(let.a, let.b)) : name => \"10.0.0.${merge(let.a, let.b)[name]}:80\"", "auk 10.0.0.1:80 1, gannet 10.0.0.2:80 1"},
		{`all = concat(["auk"], split(",", env("QUAYS")))`, "for n in let.all : n => \"${replace(lower(n), \"th\", \"t\")}.example:${80 + length(let.all)}\"", "auk auk.example:83 1, north nort.example:83 1, south sout.example:83 1"},
		{`w = env("WEIGHT")`, "auk = { address = \"10.0.0.1:80\", weight = let.w }", "auk 10.0.0.1:80 3"},
		{`w = number(env("WEIGHT")) + 1`, "auk = { address = \"10.0.0.1:80\", weight = let.w }", "auk 10.0.0.1:80 4"},
		{`w = null`, "auk = { address = \"10.0.0.1:80\", weight = let.w, max_in_flight = null }", "auk 10.0.0.1:80 1"},
		{`n = join("", [for v in values({ b = 2, a = 1 }) : format("%d", v)])`, "auk = \"10.0.0.${let.n}:80\"", "auk 10.0.0.12:80 1"},
	} {
		cfg, found := read(c.lets, c.backend)
		require.Empty(t, found, c.backend)
		var got []string
		for _, b := range cfg.Upstreams[0].Backends {
			got = append(got, fmt.Sprint(b.Name, " ", b.Address, " ", b.Weight))
		}
		assert.Equal(t, c.want, strings.Join(got, ", "))
	}
	cfg, found := read("x = 1", "auk = \"10.0.0.1:80\"\n}\nalgorithm = null\nsticky {\n by = \"cookie\"\n pass_cookie = env(\"OPEN\")\n secret = null\n}\ntimeouts {\n answer = null\n")
	require.Empty(t, found)
	assert.Equal(t, "round-robin", cfg.Upstreams[0].Algorithm)
	assert.True(t, cfg.Upstreams[0].Sticky.Pass)
	assert.Equal(t, 30*time.Second, cfg.Upstreams[0].Timeouts.Answer)
	for up, want := range map[string]string{
		"auk = { address = \"10.0.0.1:80\", weight = \"3\" }":           `weight is "3", not a whole number`,
		"auk = { address = \"10.0.0.1:80\", weight = env(\"ODD\") }":    `weight is "three", not a whole number`,
		"auk = { address = \"10.0.0.1:80\", weight = number(\"odd\") }": `"odd" is not a number`,
		"auk = { address = null }":                                      "the backend has no address",
		"auk = length(5)":                                               "length takes a list, an object or a text",
	} {
		_, found := read("x = 1", up)
		require.NotEmpty(t, found, up)
		assert.Contains(t, found[0], want, up)
	}
	lets := "a0 = [1, 2, 3, 4]\n"
	for i := range 20 {
		lets += fmt.Sprintf("a%d = concat(let.a%d, let.a%d)\n", i+1, i, i)
	}
	_, found = read(lets, "auk = \"10.0.0.1:80\"")
	require.Len(t, found, 1, "values that double with each line come to an end")
	assert.Contains(t, found[0], "concat makes more than 50000 values")
}

func TestFunctions(t *testing.T) {
	src := strings.Replace(small, "{\n    auk = \"127.0.0.1:9001\"\n  }", "{ for i in range(1, 4) : format(\"app%02d\", i) => \"10.0.0.${i}:${env(\"PORT\", \"80\")}\" }", 1)
	env := func(name string) (string, bool) { return "8080", name == "PORT" }
	files := func(name string) ([]byte, error) {
		switch name {
		case "port":
			return []byte("8080\n"), nil
		case "noise":
			return []byte("\xff"), nil
		}
		return nil, errors.New("no such file or directory")
	}
	c, found, err := ReadIn([]File{{Name: "t.hcl", Source: []byte(src)}}, World{Env: env, File: files})
	require.NoError(t, err)
	require.Empty(t, said(found))
	require.Len(t, c.Upstreams[0].Backends, 3)
	assert.Equal(t, "app03", c.Upstreams[0].Backends[2].Name)
	assert.Equal(t, "10.0.0.3:8080", c.Upstreams[0].Backends[2].Address.String())
	c, found, err = ReadIn([]File{{Name: "t.hcl", Source: []byte(strings.Replace(src, `env("PORT", "80")`, `file("port")`, 1))}}, World{File: files})
	require.NoError(t, err)
	require.Empty(t, said(found))
	assert.Equal(t, 8080, c.Upstreams[0].Backends[0].Address.Port, "the newline at the end of a file does not count")
	for name, want := range map[string]string{"gone": "gone cannot be read: no such file or directory", "noise": "noise is not UTF-8 text"} {
		_, found, err = ReadIn([]File{{Name: "t.hcl", Source: []byte(strings.Replace(src, `env("PORT", "80")`, `file("`+name+`")`, 1))}}, World{File: files})
		require.NoError(t, err)
		assert.Contains(t, strings.Join(said(found), "\n"), want)
	}
	c, _ = read(t, src)
	assert.Equal(t, 80, c.Upstreams[0].Backends[0].Address.Port, "the default, without an environment")
	for call, want := range map[string]string{
		`env("NONE")`:            "8:15 KX003 the environment variable NONE is not set; a default is env(\"NONE\", \"...\")",
		`formt("a")`:             "8:15 KX003 there is no function",
		`range(1, 1000000)`:      "8:15 KX003 ",
		`env()`:                  "8:15 KX003 ",
		`env("A", "B", "C")`:     "8:15 KX003 ",
		`regexp("a")`:            "8:15 KX003 there is no function",
		`format("%d", "x")`:      "8:15 KX003 ",
		`range(3)`:               "8:15 KX003 algorithm is a list, not text",
		`format("%s", "random")`: "",
	} {
		_, found := read(t, strings.Replace(small, "  backends = {", "  algorithm = "+call+"\n  backends = {", 1))
		if want == "" {
			assert.Empty(t, said(found), call)
			continue
		}
		require.Len(t, found, 1, call)
		line := said(found)[0]
		assert.Equal(t, 8, found[0].Range.Start.Line, call)
		assert.Contains(t, line[strings.Index(line, " ")+1:], want[strings.Index(want, " ")+1:], call)
	}
}

func TestSuggestions(t *testing.T) {
	known := []string{"algorithm", "backends", "probe", "retry", "up"}
	for wrong, want := range map[string]string{
		"algoritm": "algorithm", "BACKENDS": "backends", "prob": "probe", "retrys": "retry", "xyz": "", "": "", "backendss": "backends", "alg": "algorithm",
	} {
		assert.Equal(t, want, Suggest(wrong, known), wrong)
	}
}

func TestTimesAreBounded(t *testing.T) {
	d, err := ParseDuration("87000h")
	require.NoError(t, err)
	assert.Less(t, float64(d)*3, float64(math.MaxInt64), "three of them can be added up")
}

// TestWhichLogServerIsMeant: what of the keys of syslog goes together.
func TestWhichLogServerIsMeant(t *testing.T) {
	for _, c := range []struct{ log, syslog, want string }{
		{"syslog", "", ""},
		{"syslog", "facility = \"daemon\"\n format = \"rfc5424\"", ""},
		{"syslog", "transport = \"tcp\"\n address = \"192.0.2.9:514\"", ""},
		{"off", "facility = \"daemon\"", "syslog says which log server, and nothing goes there"},
		{"syslog", "transport = \"tcp\"", "transport is \"tcp\" and no address is given"},
		{"syslog", "transport = \"udp\"\n address = \"unix:/dev/log\"", "unix:/dev/log is a unix socket; udp needs a host and port"},
		{"syslog", "address = \"192.0.2.9:514\"", "192.0.2.9:514 is no unix socket, which transport = \"unix\" needs"},
		{"syslog", "facility = \"kern\"", "facility cannot be \"kern\""},
		{"syslog:192.0.2.9:514", "", "\"syslog:192.0.2.9:514\" is no place for lines; a block of its own says which log server"},
	} {
		text := small + "access_log {\n to = \"" + c.log + "\"\n}\n"
		if c.syslog != "" {
			text += "syslog {\n " + c.syslog + "\n}\n"
		}
		read, found := read(t, text)
		if c.want == "" {
			assert.Empty(t, said(found), text)
			assert.NotEmpty(t, read.Syslog.Format)
			continue
		}
		if assert.Len(t, found, 1, text) {
			assert.Contains(t, found[0].Message, c.want)
			assert.NotEmpty(t, found[0].Hint)
		}
	}
	_, found := read(t, small+"access_log {\n to = \"syslog\"\n}\nsyslog {\n}\nsyslog {\n}\n")
	assert.Len(t, found, 1, "it is given twice")
}

// TestWhereBackendsAreConnectedFrom: an address, of the family that the backends have.
func TestWhereBackendsAreConnectedFrom(t *testing.T) {
	for from, want := range map[string]string{
		"192.0.2.5": "", "::ffff:192.0.2.5": "",
		"192.0.2.5:80": "connect_from \"192.0.2.5:80\" is no address of a machine", "0.0.0.0": "is no address of a machine", "quay": "is no address of a machine",
		"2001:db8::5": "cannot be reached from 2001:db8::5: one is IPv4, the other IPv6",
	} {
		c, found := read(t, strings.Replace(small, "backends", "connect_from = \""+from+"\"\n  backends", 1))
		if want == "" {
			assert.Empty(t, said(found))
			assert.Equal(t, "192.0.2.5", c.Upstreams[0].ConnectFrom.String())
		} else if assert.NotEmpty(t, found, from) {
			assert.Contains(t, found[0].Message, want)
		}
	}
}
