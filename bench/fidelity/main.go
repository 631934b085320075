// Command fidelity rehearses each algorithm and each kind of fault with the built
// program, and prints the table of docs/fidelity.md. It takes some minutes:
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
  probe "http" {
    path       = "/ready"
    every      = "1s"
    timeout    = "500ms"
    down_after = 2
    up_after   = 2
  }
  retry {
    attempts = 2
    on       = ["connect", "reset", "timeout", "502", "503"]
  }
  timeouts {
    connect = "500ms"
    answer  = "2s"
  }
  %s
}
`

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
	for _, c := range all() {
		if strings.Contains(c.name, *only) {
			cases = append(cases, c)
		}
	}
	rows := make([]string, len(cases))
	room := make(chan bool, *parallel)
	var wg sync.WaitGroup
	for i, c := range cases {
		wg.Go(func() {
			room <- true
			defer func() { <-room }()
			rows[i] = c.run(at, filepath.Join(dir, fmt.Sprint(i)))
			fmt.Fprintln(os.Stderr, rows[i])
		})
	}
	wg.Wait()
	fmt.Println("| case | shares, most apart | failed, predicted and real | detected after | p50 | p95 | |")
	fmt.Println("|---|---|---|---|---|---|---|")
	for _, r := range rows {
		fmt.Println(r)
	}
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, "fidelity:", err)
	os.Exit(1)
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
	for _, a := range []struct{ name, text string }{
		{"round-robin", `algorithm = "round-robin"`}, {"least-connections", `algorithm = "least-connections"`}, {"random", `algorithm = "random"`}, {"two-choices", `algorithm = "two-choices"`},
		{"least-latency", `algorithm = "least-latency"`}, {"first-fit", `algorithm = "first-fit"`},
		{"ring", "algorithm = \"hash\"\n  hash {\n    method = \"ring\"\n  }"}, {"rendezvous", "algorithm = \"hash\"\n  hash {\n    method = \"rendezvous\"\n  }"},
		{"modulo", "algorithm = \"hash\"\n  hash {\n    method = \"modulo\"\n  }"},
	} {
		for _, s := range []string{"", sticky} {
			name, room := a.name, 1000
			if s != "" {
				name += ", sticky"
			}
			if a.name == "first-fit" {
				room = 4
			}
			out = append(out, kase{name, a.text, s, fault("refuse"), 90, room})
		}
	}
	for _, kind := range []string{"blackhole", "hang", "reset", "errors", "slow", "flap", "probe-fails", "probe-lies", "park", "drain", "weight"} {
		out = append(out, kase{kind, `algorithm = "least-connections"`, "", fault(kind), 90, 1000})
	}
	for _, rate := range []int{40, 80, 130, 180} {
		out = append(out, kase{fmt.Sprintf("no fault, load %.1f", float64(rate)*0.06/16), `algorithm = "least-connections"`, "", "", rate, 1000})
	}
	return out
}

// run rehearses a case and returns its row.
func (c kase) run(program, dir string) string {
	if err := os.Mkdir(dir, 0o755); err != nil {
		fail(err)
	}
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			fail(err)
		}
	}
	write("site.hcl", fmt.Sprintf(config, c.algorithm, c.room, c.room, c.room, c.room, c.sticky))
	write("it.scenario.hcl", fmt.Sprintf(load, c.rate)+c.fault)
	cmd := exec.Command(program, "rehearse", "site.hcl", "-scenario", "it.scenario.hcl", "-format", "json")
	cmd.Dir, cmd.Stderr = dir, os.Stderr
	text, err := cmd.Output()
	var o outcome
	if err == nil {
		err = json.Unmarshal(text, &o)
	}
	if err != nil {
		return fmt.Sprintf("| %s | could not be rehearsed: %v |", c.name, err)
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
	return fmt.Sprintf("| %s | %.1f points | %s | %s | %s | %s | %s |", c.name, 100*share, failed, detected, p50, p95, verdict)
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
