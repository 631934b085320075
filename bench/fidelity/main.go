// Command fidelity rehearses each algorithm, each kind of fault and each part of the model with
// the built program, and prints the tables of docs/fidelity.md. Each case is rehearsed in several
// rounds, and the round with the median number of figures that are off is printed. It takes about
// half an hour:
//
//	go run ./bench/fidelity -kestrix ./kestrix
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// config is a booking site; %s are the algorithm with what goes with it.
const config = `frontend "tickets" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.booking
  }
}
upstream "booking" {
  %s
  backends = {
    auk    = { address = "127.0.0.1:9101", max_in_flight = %d }
    gannet = { address = "127.0.0.1:9102", max_in_flight = %d, weight = 2 }
    petrel = { address = "127.0.0.1:9103", max_in_flight = %d }
    skua   = { address = "127.0.0.1:9104", max_in_flight = %d }
  }
  %s
  timeouts {
    connect = "500ms"
    answer  = "2s"
  }
  %s
}
`

const watched = `probe "http" {
    path       = "/ready"
    every      = "1s"
    timeout    = "500ms"
    down_after = 2
    up_after   = 2
  }
  retry {
    attempts = 2
    on       = ["connect", "reset", "timeout", "502", "503"]
  }`

const load = `seed = 7
load {
  rate    = "%d/s"
  for     = "24s"
  clients = 300
  paths   = ["/seats=5", "POST /bookings=1"]
}
behaviour "*" {
  service = lognormal("60ms", 0.6)
  workers = 4
}
`

const sticky = `sticky {
    by      = "cookie"
    name    = "tern_seat"
    on_loss = "move"
  }`

// kase is one row of the table.
type kase struct {
	name, algorithm, sticky, fault string
	rate, room                     int
	scenario                       string // in place of the usual load and behaviour
	blind                          bool   // without probe and retry
}

// held is what the program says of one figure.
type held struct {
	What, Of                                  string
	Prediction, Rehearsal, Difference, Chance *float64
	Goal                                      float64
	Holds                                     bool
}

type outcome struct {
	Fidelity struct {
		Rows []held
		Off  int
	}
	Verdict string
	Driver  struct{ P99 float64 }
}

func main() {
	program := flag.String("kestrix", "./kestrix", "the built program")
	only := flag.String("only", "", "only cases whose name holds this")
	parallel := flag.Int("beside", 2, "how many are rehearsed beside each other")
	rounds := flag.Int("rounds", 3, "how often each case is rehearsed")
	flag.Parse()
	at, err := filepath.Abs(*program)
	if err != nil {
		fail(err)
	}
	dir, err := os.MkdirTemp("", "fidelity")
	if err != nil {
		fail(err)
	}
	defer os.RemoveAll(dir)
	var cases []kase
	for _, c := range append(all(), parts()...) {
		if strings.Contains(c.name, *only) {
			cases = append(cases, c)
		}
	}
	rows := make([][]row, len(cases))
	room := make(chan bool, *parallel)
	var wg sync.WaitGroup
	for i, c := range cases {
		rows[i] = make([]row, *rounds)
		for k := range *rounds {
			wg.Go(func() {
				room <- true
				defer func() { <-room }()
				rows[i][k] = c.run(at, filepath.Join(dir, fmt.Sprint(i, "-", k)))
				fmt.Fprintln(os.Stderr, rows[i][k].text)
			})
		}
	}
	wg.Wait()
	off := 0
	fmt.Println("| case | shares, most apart | failed, predicted and real | detected after | p50 | p95 | |")
	fmt.Println("|---|---|---|---|---|---|---|")
	for _, all := range rows {
		slices.SortStableFunc(all, func(a, b row) int { return a.off - b.off })
		median := all[(len(all)-1)/2]
		fmt.Println(median.text)
		if median.off > 0 {
			off++
		}
	}
	fmt.Printf("\n%d of %d cases are off, by the median of %d rounds.\n", off, len(cases), *rounds)
}

// row is a rehearsal as a line of the table, and how many of its figures are off.
type row struct {
	text string
	off  int
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, "fidelity:", err)
	os.Exit(1)
}

// algorithms are those of the language, with what goes with each.
var algorithms = []struct{ name, text string }{
	{"round-robin", `algorithm = "round-robin"`}, {"least-connections", `algorithm = "least-connections"`}, {"random", `algorithm = "random"`}, {"two-choices", `algorithm = "two-choices"`},
	{"least-latency", `algorithm = "least-latency"`}, {"first-fit", `algorithm = "first-fit"`},
	{"ring", "algorithm = \"hash\"\n  hash {\n    method = \"ring\"\n  }"}, {"rendezvous", "algorithm = \"hash\"\n  hash {\n    method = \"rendezvous\"\n  }"},
	{"modulo", "algorithm = \"hash\"\n  hash {\n    method = \"modulo\"\n  }"},
}

// all lists the cases: each algorithm with and without sessions while a backend is
// killed, and each kind of fault.
func all() []kase {
	fault := func(kind string) string {
		more := ""
		if kind == "weight" {
			more = "\n  weight = 3"
		}
		if kind == "slow" {
			more = "\n  factor = 5"
		}
		if kind == "flap" {
			more = "\n  fails_for = \"1500ms\"\n  works_for = \"2500ms\""
		}
		return fmt.Sprintf("fault \"it\" {\n  backend = \"booking.auk\"\n  kind = %q\n  at = \"8s\"\n  until = \"16s\"%s\n}\n", kind, more)
	}
	var out []kase
	for _, a := range algorithms {
		for _, s := range []string{"", sticky} {
			name, room := a.name, 1000
			if s != "" {
				name += ", sticky"
			}
			if a.name == "first-fit" {
				room = 4
			}
			out = append(out, kase{name: name, algorithm: a.text, sticky: s, fault: fault("refuse"), rate: 90, room: room})
		}
	}
	for _, kind := range []string{"blackhole", "hang", "reset", "errors", "slow", "flap", "probe-fails", "probe-lies", "park", "drain", "weight"} {
		out = append(out, kase{name: kind, algorithm: `algorithm = "least-connections"`, fault: fault(kind), rate: 90, room: 1000})
	}
	for _, rate := range []int{40, 80, 130, 180} {
		out = append(out, kase{name: fmt.Sprintf("no fault, load %.2g", float64(rate)*0.06/16), algorithm: `algorithm = "least-connections"`, rate: rate, room: 1000})
	}
	return out
}

// parts are the cases of the parts of the model that the others leave out.
func parts() []kase {
	const connections = `algorithm = "least-connections"`
	usual := fmt.Sprintf(load, 90)
	behaves := func(more string) string {
		return strings.Replace(usual, "  workers = 4\n", "  workers = 4\n"+more, 1)
	}
	killed := "fault \"it\" {\n  backend = \"booking.auk\"\n  kind = \"refuse\"\n  at = \"8s\"\n  until = \"16s\"\n}\n"
	var out []kase
	for _, a := range algorithms {
		closed := "seed = 7\nload {\n  requests = 4000\n  concurrency = 10\n}\nbehaviour \"*\" {\n  service = \"40ms\"\n}\n"
		out = append(out, kase{
			name: "closed load, " + a.name, algorithm: a.text, room: 16, scenario: closed, blind: true,
			fault: "fault \"dead\" {\n  backend = [\"booking.petrel\", \"booking.skua\"]\n  kind = \"refuse\"\n  at = \"0s\"\n}\n",
		})
	}
	return append(out,
		kase{name: "shared cores", algorithm: connections, room: 1000, scenario: strings.Replace(behaves("  sharing {\n    cores = 2\n  }\n"), "workers = 4", "workers = 64", 1)},
		kase{name: "cold start", algorithm: connections, room: 1000, scenario: behaves("  cold {\n    for    = \"6s\"\n    factor = 4\n  }\n"), fault: killed},
		kase{name: "clients that leave and ask again", algorithm: connections, room: 1000, scenario: usual + "clients {\n  patience = lognormal(\"200ms\", 0.5)\n  again = 2\n  after = \"500ms\"\n}\n", fault: killed},
		kase{name: "pages", algorithm: connections, room: 1000, scenario: strings.Replace(strings.Replace(usual, "90/s", "20/s", 1), "  paths ", "  page \"/seats\" {\n    fetches = [\"/a.css\", \"/b.js\", \"/c.json\", \"/d.png\"]\n    at_once = 2\n  }\n  paths ", 1), fault: killed},
		kase{name: "dependency that slows down", algorithm: connections, room: 1000, scenario: strings.Replace(usual, "60ms", "30ms", 1) + "dependency \"db\" {\n  backend = \"booking.*\"\n  service = exponential(\"30ms\")\n  workers = 6\n  timeout = \"1s\"\n}\n", fault: "fault \"it\" {\n  dependency = \"db\"\n  kind = \"slow\"\n  factor = 4\n  at = \"8s\"\n  until = \"16s\"\n}\n"},
		kase{name: "HTTP/2 to backends", algorithm: connections, room: 1000, sticky: "http_version = \"2\"", fault: killed, rate: 90},
	)
}

// run rehearses a case and returns its row.
func (c kase) run(program, dir string) row {
	if err := os.Mkdir(dir, 0o755); err != nil {
		fail(err)
	}
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			fail(err)
		}
	}
	sees, scenario := watched, fmt.Sprintf(load, c.rate)
	if c.blind {
		sees = ""
	}
	if c.scenario != "" {
		scenario = c.scenario
	}
	write("site.hcl", fmt.Sprintf(config, c.algorithm, c.room, c.room, c.room, c.room, sees, c.sticky))
	write("it.scenario.hcl", scenario+c.fault)
	cmd := exec.Command(program, "rehearse", "site.hcl", "-scenario", "it.scenario.hcl", "-format", "json")
	cmd.Dir, cmd.Stderr = dir, os.Stderr
	text, err := cmd.Output()
	var o outcome
	if err == nil {
		err = json.Unmarshal(text, &o)
	}
	if err != nil {
		return row{fmt.Sprintf("| %s | could not be rehearsed: %v |", c.name, err), 1000}
	}
	share := 0.0
	failed, detected, p50, p95 := "", "-", "", ""
	var off []string
	for _, r := range o.Fidelity.Rows {
		switch {
		case r.What == "share" && r.Difference != nil:
			share = math.Max(share, math.Abs(*r.Difference))
		case r.What == "failed" && r.Of == "":
			failed = fmt.Sprintf("%.0f, %.0f", *r.Prediction, *r.Rehearsal)
		case r.What == "detected_after":
			detected = seconds(r.Prediction) + ", " + seconds(r.Rehearsal)
		case r.What == "latency.p50":
			p50 = fmt.Sprintf("%+.0f %%", 100**r.Difference / *r.Prediction)
		case r.What == "latency.p95":
			p95 = fmt.Sprintf("%+.0f %%", 100**r.Difference / *r.Prediction)
		}
		if !r.Holds {
			word := strings.ReplaceAll(r.What, "_", " ")
			if r.What == "share" {
				word = "share of " + strings.TrimPrefix(r.Of, "booking.")
			}
			off = append(off, fmt.Sprintf("%s: %s, %s", word, number(r.Prediction), number(r.Rehearsal)))
		}
	}
	verdict := "holds"
	if len(off) > 0 {
		verdict = "off: " + strings.Join(off, "; ")
	}
	return row{fmt.Sprintf("| %s | %.1f points | %s | %s | %s | %s | %s |", c.name, 100*share, failed, detected, p50, p95, verdict), len(off)}
}

func seconds(v *float64) string {
	if v == nil {
		return "never"
	}
	return fmt.Sprintf("%.2f s", *v)
}

func number(v *float64) string {
	if v == nil {
		return "never"
	}
	return fmt.Sprintf("%.3g", *v)
}
