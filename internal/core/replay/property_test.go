package replay

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"pgregory.net/rapid"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// TestWhatGoesInComesOut replays random traces under random faults through
// random configurations: everything adds up, nobody is sent to a backend that
// is out, and the same seed gives the same bytes.
func TestWhatGoesInComesOut(t *testing.T) {
	kinds := scenario.FaultNames(scenario.AllFaults)
	rapid.Check(t, func(rt *rapid.T) {
		more := ""
		for _, b := range []string{probe, "retry {\n attempts = 3\n budget = \"30%\"\n}\n", "suspend {\n after = 2\n rest = \"2s\"\n}\n", "sticky {\n by = \"cookie\"\n}\n", "timeouts {\n connect = \"200ms\"\n answer = \"1s\"\n}\n",
			"failover {\n}\n", "queue {\n limit = 3\n timeout = \"300ms\"\n}\n"} {
			if rapid.Bool().Draw(rt, "block") {
				more += b
			}
		}
		if !strings.Contains(more, "http") {
			more += "probe \"tcp\" {\n every = \"2s\"\n timeout = \"1s\"\n}\n"
		}
		c := pool2(rt, rapid.IntRange(1, 4).Draw(rt, "backends"), rapid.SampledFrom(config.Algorithms).Draw(rt, "algorithm"), more)
		instances := rapid.IntRange(1, 3).Draw(rt, "instances")
		sc := drawnModel(rt, instances) + drawnFaults(rt, kinds, instances)
		text := even(rapid.IntRange(1, 400).Draw(rt, "requests"), time.Duration(rapid.IntRange(1, 100).Draw(rt, "every"))*time.Millisecond, 7)
		o := Options{Seed: rapid.Uint64().Draw(rt, "seed")}
		stops := rapid.Bool().Draw(rt, "until")
		if stops {
			o.Part.Until, _ = trace.ParseMoment("5s")
		}
		page := rapid.SampledFrom([]string{"", "page \"/seats\" {\n fetches = [\"/a\", \"/b\", \"/c\"]\n at_once = 2\n}\n"}).Draw(rt, "page")
		switch rapid.SampledFrom([]string{"trace", "trace", "open", "closed"}).Draw(rt, "load") {
		case "open":
			sc, text = sc+"load {\n rate = \"30/s\"\n for = \"10s\"\n clients = 7\n paths = [\"/seats\", \"POST /\"]\n"+page+"}\n", ""
		case "closed":
			sc, text = sc+"load {\n requests = 200\n concurrency = 9\n think = exponential(\"5ms\")\n paths = [\"/seats\", \"POST /\"]\n"+page+"}\n", ""
		}
		parsed, found, err := scenario.Read(config.File{Name: "s.hcl", Source: []byte(sc)}, c)
		if err != nil || len(found) > 0 {
			rt.Fatalf("%v %v", err, found)
		}
		once := func() (*result.Replay, string) {
			var sources []ingest.Source
			if text != "" {
				sources = source(text)
			}
			r, err := Run(context.Background(), c, parsed, sources, o)
			if err != nil {
				rt.Fatal(err)
			}
			text, err := json.Marshal(r)
			if err != nil {
				rt.Fatal(err)
			}
			return r, string(text)
		}
		r, first := once()
		conserved(rt, r)
		if r.Unfinished != 0 && !stops {
			rt.Fatalf("%d requests never ended", r.Unfinished)
		}
		for _, f := range r.Faults {
			if n := f.Before.Requests + f.During.Requests + f.After.Requests; n != r.Requests {
				rt.Fatalf("%d of %d requests came before, during or after %s", n, r.Requests, f.Name)
			}
			if n := f.Before.Failed + f.During.Failed + f.After.Failed; n != r.Failed {
				rt.Fatalf("%d of %d failures came before, during or after %s", n, r.Failed, f.Name)
			}
		}
		if _, second := once(); first != second {
			rt.Fatal("the same seed gave other bytes")
		}
	})
}

// drawnModel draws backends and clients of a scenario.
func drawnModel(rt *rapid.T, instances int) string {
	sc := fmt.Sprintf("instances = %d\nbehaviour \"*\" {\n workers = %d\n backlog = %d\n", instances, rapid.IntRange(1, 4).Draw(rt, "workers"), rapid.IntRange(0, 5).Draw(rt, "backlog"))
	sc += rapid.SampledFrom([]string{"", "sharing {\n cores = 1.5\n}\n"}).Draw(rt, "sharing") + rapid.SampledFrom([]string{"", "cold {\n for = \"4s\"\n}\n"}).Draw(rt, "cold") + "}\n"
	if rapid.Bool().Draw(rt, "dependency") {
		sc += fmt.Sprintf("dependency \"db\" {\n backend = \"app.*\"\n service = exponential(\"20ms\")\n workers = 3\n backlog = 5\n probes = %t\n%s}\n", rapid.Bool().Draw(rt, "probes"),
			rapid.SampledFrom([]string{"", "timeout = \"100ms\"\n", "path = \"/seats\"\n"}).Draw(rt, "of the dependency"))
		sc += rapid.SampledFrom([]string{"", "fault \"db\" {\n dependency = \"db\"\n kind = \"hang\"\n at = \"2s\"\n until = \"6s\"\n}\n", "fault \"db\" {\n dependency = \"db\"\n kind = \"flap\"\n at = \"2s\"\n until = \"9s\"\n fails_for = \"1s\"\n works_for = \"1s\"\n}\n"}).Draw(rt, "its fault")
	}
	if rapid.Bool().Draw(rt, "streams") {
		sc += fmt.Sprintf("streams {\n path = \"/seats\"\n lasts = exponential(\"3s\")\n resend = %t\n quiet = %q\n}\n", rapid.Bool().Draw(rt, "resend"), rapid.SampledFrom([]string{"0s", "2s", "10m"}).Draw(rt, "quiet"))
	}
	return sc + rapid.SampledFrom([]string{"", "clients {\n patience = exponential(\"1s\")\n}\n", "clients {\n again = 2\n after = \"200ms\"\n}\n", "clients {\n patience = exponential(\"300ms\")\n again = 1\n}\n"}).Draw(rt, "clients")
}

// drawnFaults draws what fails.
func drawnFaults(rt *rapid.T, kinds []string, instances int) (sc string) {
	for i := range rapid.IntRange(0, 4).Draw(rt, "faults") {
		at, kind := rapid.IntRange(0, 20).Draw(rt, "at"), rapid.SampledFrom(kinds).Draw(rt, "kind")
		whom := fmt.Sprintf("backend = \"app.b%s\"", rapid.SampledFrom([]string{"0", "*"}).Draw(rt, "whom"))
		if kind == "gone" {
			whom = fmt.Sprintf("proxy = %d\n moves_after = %q", rapid.IntRange(1, instances).Draw(rt, "proxy"), rapid.SampledFrom([]string{"0s", "1s"}).Draw(rt, "moves"))
		}
		sc += fmt.Sprintf("fault \"f%d\" {\n %s\n kind = %q\n at = \"%ds\"\n until = \"%ds\"\n}\n", i, whom, kind, at, at+rapid.IntRange(1, 15).Draw(rt, "for"))
	}
	return sc
}

func pool2(t *rapid.T, n int, algorithm, more string) *config.Config {
	text := poolText(n, algorithm, more)
	if strings.Contains(more, "failover") {
		text = strings.Replace(text, "b1 = \"127.0.0.1:10001\"", "b1 = { address = \"127.0.0.1:10001\", tier = 2 }", 1)
	}
	c, found, err := config.Read([]config.File{{Name: "pool.hcl", Source: []byte(text)}})
	if err != nil || len(found) > 0 {
		t.Fatalf("%v %v", err, found)
	}
	return c
}
