// Command mutate makes small changes to the decision core and the proxy, one at a time,
// and counts those that no test notices.
//
//	go run ./bench/mutate                    # 200 changes, about twenty minutes
//	go run ./bench/mutate -n 40 -only balance
//
// The changes are drawn by seed from all that a fixed set of operators can make:
// comparisons moved by one or turned round, conditions negated, && and || swapped, signs
// and constants changed, statements left out. The tree is not touched: each change is
// handed to go test as an overlay. A change is noticed when a test of its package, or of
// the packages beside it, fails or does not end.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// subject is a package, how large its part of the draw is, and whose tests are to notice.
type subject struct {
	dir   string
	part  int
	tests []string
}

var subjects = []subject{
	{"internal/core/upstream", 50, []string{"./internal/core/upstream", "./internal/core/replay"}},
	{"internal/core/balance", 50, []string{"./internal/core/balance", "./internal/core/upstream"}},
	{"internal/core/health", 20, []string{"./internal/core/health", "./internal/core/upstream"}},
	{"internal/core/route", 40, []string{"./internal/core/route", "./internal/core/study", "./internal/core/check"}},
	{"internal/live/proxy", 20, []string{"./internal/live/proxy"}},
	{"internal/live/pool", 10, []string{"./internal/live/pool", "./internal/live/proxy"}},
	{"internal/live/journal", 5, []string{"./internal/live/journal", "./internal/live/proxy"}},
	{"internal/live/accesslog", 5, []string{"./internal/live/accesslog", "./internal/live/proxy"}},
}

// outcome is what became of a mutant.
type outcome struct {
	mutant
	how string // noticed, survived, or does not compile
}

func main() {
	n := flag.Int("n", 200, "`NUMBER` of changes")
	seed := flag.Uint64("seed", 1, "`NUMBER` that keys the draw")
	only := flag.String("only", "", "`TEXT` that the package's path contains")
	parallel := flag.Int("p", 2, "`NUMBER` of changes that are tested at once")
	limit := flag.Duration("limit", 3*time.Minute, "`TIME` after which tests are ended")
	flag.Parse()
	if err := run(*n, *seed, *only, *parallel, *limit); err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(1)
	}
}

func run(n int, seed uint64, only string, parallel int, limit time.Duration) error {
	var drawn []mutant
	of := map[string][]string{}
	whole := 0
	for _, s := range subjects {
		if strings.Contains(s.dir, only) {
			whole += s.part
		}
	}
	r := rand.New(rand.NewPCG(seed, 0))
	for _, s := range subjects {
		if !strings.Contains(s.dir, only) {
			continue
		}
		all, err := mutants(s.dir)
		if err != nil {
			return err
		}
		r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		drawn = append(drawn, all[:min(n*s.part/whole, len(all))]...)
		of[s.dir] = s.tests
	}
	outcomes := make([]outcome, len(drawn))
	var wg sync.WaitGroup
	next := make(chan int)
	for range parallel {
		wg.Go(func() {
			for i := range next {
				m := drawn[i]
				how, err := try(m, of[filepath.Dir(m.file)], limit)
				if err != nil {
					how = err.Error()
				}
				outcomes[i] = outcome{m, how}
				fmt.Fprintf(os.Stderr, "%d of %d: %s: %s\n", i+1, len(drawn), m, how)
			}
		})
	}
	for i := range drawn {
		next <- i
	}
	close(next)
	wg.Wait()
	report(outcomes)
	return nil
}

// try runs tests with a change in place. It returns noticed, survived, or invalid for one
// that does not compile.
func try(m mutant, tests []string, limit time.Duration) (string, error) {
	dir, err := os.MkdirTemp("", "mutate-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	changed := filepath.Join(dir, "changed.go")
	if err := os.WriteFile(changed, m.text, 0o600); err != nil {
		return "", err
	}
	here, err := filepath.Abs(m.file)
	if err != nil {
		return "", err
	}
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {here: changed}})
	if err != nil {
		return "", err
	}
	name := filepath.Join(dir, "overlay.json")
	if err := os.WriteFile(name, overlay, 0o600); err != nil {
		return "", err
	}
	for _, test := range tests {
		ctx, cancel := context.WithTimeout(context.Background(), limit)
		c := exec.CommandContext(ctx, "go", "test", "-short", "-vet=off", "-failfast", "-overlay", name, test)
		c.WaitDelay = time.Second
		out, err := c.CombinedOutput()
		cancel()
		switch {
		case err == nil:
			continue
		case bytes.Contains(out, []byte("[build failed]")), bytes.Contains(out, []byte("[setup failed]")):
			return "invalid", nil
		}
		return "noticed", nil
	}
	return "survived", nil
}

// report prints a table by package, and every change that was not noticed.
func report(outcomes []outcome) {
	type counts struct{ noticed, survived, invalid int }
	by, all := map[string]*counts{}, counts{}
	var dirs []string
	for _, o := range outcomes {
		dir := filepath.Dir(o.file)
		if by[dir] == nil {
			by[dir] = &counts{}
			dirs = append(dirs, dir)
		}
		for _, c := range []*counts{by[dir], &all} {
			switch o.how {
			case "noticed":
				c.noticed++
			case "survived":
				c.survived++
			default:
				c.invalid++
			}
		}
	}
	slices.Sort(dirs)
	fmt.Println("| package | noticed | survived | does not compile |\n|---|---|---|---|")
	for _, dir := range dirs {
		fmt.Printf("| %s | %d | %d | %d |\n", dir, by[dir].noticed, by[dir].survived, by[dir].invalid)
	}
	fmt.Printf("| all | %d | %d | %d |\n\n", all.noticed, all.survived, all.invalid)
	for _, o := range outcomes {
		if o.how == "survived" {
			fmt.Println("-", o.mutant)
		}
	}
}
