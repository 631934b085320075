package replay

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// TestLinesOfTheUsualShapeAreReplayedAsRecords replays random logs through random routes,
// taking lines of the most frequent shape the short way and making each a record: the
// same bytes.
func TestLinesOfTheUsualShapeAreReplayedAsRecords(t *testing.T) {
	short := 0
	rapid.Check(t, func(rt *rapid.T) {
		pick := func(what string, from ...string) string { return rapid.SampledFrom(from).Draw(rt, what) }
		conditions := []string{
			`path = ["/seats/**", "/a%41"]`, `path = [not("/seats/*/hold"), "/**"]`, `method = ["POST"]`, `host = ["www.example"]`, `query = { q = "1" }`, `query = { q = not("1") }`,
			`header = { x-test = "1" }`, `cookie = { c = "1" }`, `client = ["10.0.0.0/8"]`, `path = ["/"]` + "\n" + `method = ["GET"]`,
		}
		text := pick("of the frontend", "", "", "limits {\n rate = \"2/s\"\n}\n")
		for i := range rapid.IntRange(0, 4).Draw(rt, "routes") {
			text += fmt.Sprintf("route \"r%d\" {\n when {\n%s\n}\n send_to = upstream.%s\n}\n", i, pick("when", conditions...), pick("to", "app", "other"))
		}
		if !strings.Contains(text, "route") || rapid.Bool().Draw(rt, "rest") {
			text += "route \"rest\" {\n send_to = upstream.app\n}\n"
		}
		text = "frontend \"web\" {\n listen = [\"127.0.0.1:8080\"]\n" + text + "}\n"
		for _, u := range []string{"app", "other"} {
			text += fmt.Sprintf("upstream %q {\n%s\n backends = {\n b0 = \"127.0.0.1:10000\"\n b1 = \"127.0.0.1:10001\"\n}\n}\n", u, pick("how",
				`algorithm = "round-robin"`, "algorithm = \"hash\"\nhash {\nkey = \"client\"\nmethod = \"ring\"\n}", "algorithm = \"hash\"\nhash {\nkey = \"path\"\nmethod = \"ring\"\n}",
				"algorithm = \"random\"\nsticky {\nby = \"address\"\n}", "algorithm = \"random\"\nsticky {\nby = \"header\"\nname = \"x-test\"\n}"))
		}
		c, found, err := config.Read([]config.File{{Name: "c.hcl", Source: []byte(text)}})
		if err != nil || len(found) > 0 {
			rt.Fatalf("%s%v %v", text, err, found)
		}
		var log strings.Builder
		n := rapid.IntRange(1, 300).Draw(rt, "lines")
		for i := range n {
			client := pick("client", "10.0.0.1", "10.0.0.1:99", "2001:db8::1", "2001:DB8:0::1", "[2001:db8::1]:7", "192.0.2.7", "-", "a")
			asks := pick("asks", "GET /", "GET /?q=1", "POST /", "POST /?q=1&q=2", "GET /seats/7/hold", "GET /seats/7/hold?q=1", "GET /seats/8?q=2", "GET /aA", "GET /a%41", "GET /%2fx", "GET *", fmt.Sprintf("GET /x/%d", i))
			fmt.Fprintf(&log, "%s - - [23/Nov/2026:06:55:%02d +0000] \"%s HTTP/1.1\" %s 7 \"-\" \"%s\"%s\n", client, 8+i/50-pick2(rt, i), asks,
				pick("status", "200", "503", "101", "499"), pick("agent", "-", "a", "a browser of some length/1.0"), pick("took", "", " 0.0125", " 0.050", " odd"))
		}
		sc := pick("scenario", "", "", "streams {\n path = \"/seats/**\"\n lasts = exponential(\"3s\")\n}\n", "behaviour \"app.*\" {\n path = [\"/seats/*\", \"/a*\"]\n service = \"2s\"\n}\n") + fmt.Sprintf("instances = %d\n", rapid.IntRange(1, 2).Draw(rt, "instances"))
		parsed, found, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte(sc)}, c)
		if err != nil || len(found) > 0 {
			rt.Fatalf("%v %v", err, found)
		}
		o := Options{Seed: 1, Recorded: rapid.Bool().Draw(rt, "recorded"), Host: pick("host", "", "www.example"), Stamp: pick("stamp", "", "end"), Read: trace.Options{Skip: rapid.Bool().Draw(rt, "skip")}}
		if rapid.Bool().Draw(rt, "part") {
			o.Part.From, _ = trace.ParseMoment("1s")
			o.Part.Until, _ = trace.ParseMoment("4s")
		}
		once := func() string {
			r, err := Run(context.Background(), c, parsed, source(log.String()), o)
			if err != nil {
				return err.Error()
			}
			r.Engine.Events = 0
			text, err := json.Marshal(r)
			if err != nil {
				rt.Fatal(err)
			}
			return string(text)
		}
		a := once()
		short += strings.Count(a, `"requests":`)
	})
	assert.Positive(t, short, "some could be replayed")
}

// pick2 is how many seconds early a line stands, mostly none.
func pick2(t *rapid.T, i int) int {
	if i < 100 {
		return 0
	}
	return rapid.SampledFrom([]int{0, 0, 0, 1}).Draw(t, "early")
}
