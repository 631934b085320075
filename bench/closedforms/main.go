// Command closedforms holds the replay against closed forms of queueing theory, and prints the
// table of docs/replay.md. It exits with 1 where a theory's figure lies outside the 99.9 %
// confidence interval of the replays with ten seeds, widened by half a per cent for their empty
// start. It takes about a minute:
//
//	go run ./bench/closedforms
package main

import (
	"context"
	"fmt"
	"math"
	"os"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"kestrix/internal/core/config"
	"kestrix/internal/core/replay"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

const seeds = 10

// service is the mean service time of all systems, in seconds.
const service = 0.01

// system is one of which theory gives a figure.
type system struct {
	name, figure string
	backends     int
	behaviour    string
	more         string // of the scenario
	load         string
	theory       float64
	unit         string
	of           func(*result.Replay) float64
}

func mean(r *result.Replay) float64       { return r.Latency.Mean * 1e3 }
func lost(r *result.Replay) float64       { return r.ErrorRate * 100 }
func throughput(r *result.Replay) float64 { return r.Throughput }
func left(r *result.Replay) float64       { return float64(r.ClientLeft) / float64(r.Requests) * 100 }

func open(rate float64, seconds int) string {
	return fmt.Sprintf("rate = \"%g/s\"\n for = \"%ds\"\n clients = 10000\n popularity = 0", rate, seconds)
}

func systems() []system {
	const ms = service * 1e3
	exponential := func(workers, backlog int) string {
		return fmt.Sprintf("service = exponential(\"10ms\")\n workers = %d\n backlog = %d", workers, backlog)
	}
	shared := func(cores int, behaviour string) string {
		return fmt.Sprintf("%s\n workers = 1000000\n sharing {\n  cores = %d\n }", behaviour, cores)
	}
	blocked, stay := mmcK(4, 10, 4.4)
	_, asMMC := mmcK(4, 2000, 3.4) // M/M/4, but for what no computer can tell
	return []system{
		{"M/G/1, lognormal with CV 1.2, load 0.7", "mean time", 1, "service = lognormal(\"10ms\", 1.2)\n workers = 1\n backlog = 10000000", "", open(70, 3000), ms * mg1(0.7, 1.2), "ms", mean},
		{"M/D/1, load 0.8", "mean time", 1, "service = \"10ms\"\n workers = 1\n backlog = 10000000", "", open(80, 3000), ms * mg1(0.8, 0), "ms", mean},
		{"M/D/4, load 0.85", "mean time", 1, "service = \"10ms\"\n workers = 4\n backlog = 10000000", "", open(340, 800), ms * mdc(4, 3.4), "ms", mean},
		{"M/D/16, load 0.9", "mean time", 1, "service = \"10ms\"\n workers = 16\n backlog = 10000000", "", open(1440, 250), ms * mdc(16, 14.4), "ms", mean},
		{"M/M/4/10, offered 4.4", "turned away", 1, exponential(4, 6), "", open(440, 600), 100 * blocked, "%", lost},
		{"M/M/4/10, offered 4.4", "mean time", 1, exponential(4, 6), "", open(440, 600), ms * stay, "ms", mean},
		{"machine repair, 8 clients, 2 workers", "throughput", 1, exponential(2, 100), "", "requests = 200000\n concurrency = 8\n think = \"40ms\"", repair(8, 2, 4) / service, "/s", throughput},
		{"closed network, 12 clients, 3 servers", "throughput", 3, exponential(1, 100), "", "requests = 200000\n concurrency = 12\n think = \"20ms\"", network(12, 3, 2) / service, "/s", throughput},
		{"patience of 50 ms before M/M/1, load 0.7", "clients that leave", 1, exponential(1, 10_000_000), "clients {\n patience = exponential(\"50ms\")\n}\n", open(70, 3000), 100 * impatient(0.7, 5), "%", left},
		{"M/G/1 shared, lognormal with CV 1.2, load 0.7", "mean time", 1, shared(1, "service = lognormal(\"10ms\", 1.2)"), "", open(70, 3000), ms / (1 - 0.7), "ms", mean},
		{"M/D/4 shared, load 0.85", "mean time", 1, shared(4, "service = \"10ms\""), "", open(340, 800), ms * asMMC, "ms", mean},
	}
}

func main() {
	fmt.Println("| system | figure | theory | replay, 10 seeds | 99.9 % interval |\n|---|---|---|---|---|")
	failed := false
	for _, s := range systems() {
		var values []float64
		for seed := range uint64(seeds) {
			r, err := s.replay(seed + 1)
			if err != nil {
				fmt.Fprintf(os.Stderr, "closedforms: %s: %v\n", s.name, err)
				os.Exit(1)
			}
			values = append(values, s.of(r))
		}
		average, deviation := stat.MeanStdDev(values, nil)
		half := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: seeds - 1}.Quantile(0.9995) * deviation / math.Sqrt(seeds)
		fmt.Printf("| %s | %s | %.4g %s | %.4g %s | ± %.2g %s |\n", s.name, s.figure, s.theory, s.unit, average, s.unit, half, s.unit)
		if math.Abs(average-s.theory) > half+0.005*s.theory {
			failed = true
			fmt.Fprintf(os.Stderr, "closedforms: %s: %s is %.5g %s, theory says %.5g\n", s.name, s.figure, average, s.unit, s.theory)
		}
	}
	if failed {
		os.Exit(1)
	}
}

// replay replays the system with a seed.
func (s *system) replay(seed uint64) (*result.Replay, error) {
	text := "frontend \"web\" {\n  listen = \"127.0.0.1:80\"\n  route \"all\" {\n    send_to = upstream.app\n  }\n}\nupstream \"app\" {\n  algorithm = \"random\"\n  timeouts {\n    connect = \"1h\"\n    answer  = \"1h\"\n  }\n  backends = {\n"
	for i := range s.backends {
		text += fmt.Sprintf("    b%d = \"127.0.0.1:%d\"\n", i, 9000+i)
	}
	c, found, err := config.Read([]config.File{{Name: "pool.hcl", Source: []byte(text + "  }\n}\n")}})
	if err != nil || len(found) > 0 {
		return nil, fmt.Errorf("%v %w", found, err)
	}
	it := fmt.Sprintf("behaviour \"*\" {\n connect = \"0s\"\n %s\n}\n%sload {\n %s\n}\n", s.behaviour, s.more, s.load)
	sc, found, err := scenario.Read(config.File{Name: "it.scenario.hcl", Source: []byte(it)}, c)
	if err != nil || len(found) > 0 {
		return nil, fmt.Errorf("%v %w", found, err)
	}
	return replay.Run(context.Background(), c, sc, nil, replay.Options{Seed: seed})
}
