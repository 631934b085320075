package cli

import (
	"fmt"
	"math"
	"net/url"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/study"
)

// newScenario writes a first scenario for a configuration: a load, a backend that fails, and expectations.
func newScenario(env *Env, name, file string, args []string) error {
	if len(args) > 0 {
		return usage("-scenario takes no address; leave %s out", args[0])
	}
	s, err := usable(env, name, nil)
	if err != nil {
		return err
	}
	text, err := firstScenario(s.config, name, file)
	if err != nil {
		return err
	}
	// What is written must be what replay takes.
	_, found, err := scenario.Read(config.File{Name: "new", Source: []byte(text)}, s.config)
	if err != nil || len(found) > 0 {
		return unusable(fmt.Errorf("%s: no scenario can be written for it: %v%v", name, err, found))
	}
	o := output{file: file}
	if err := o.writeText(env, text); err != nil {
		return err
	}
	if file != "" {
		fmt.Fprintf(env.Stderr, "wrote %s; try: kestrix replay %s -scenario %s\n", file, name, file)
	}
	return nil
}

// target is the upstream whose backend fails in a first scenario, and the requests that reach it.
type target struct {
	upstream *config.Upstream
	frontend *config.Frontend
	host     string
	paths    []string // each as load { paths } has it
}

// targetOf returns the upstream with the most backends that a load can reach.
func targetOf(c *config.Config) (*target, error) {
	var found *target
	for _, f := range c.Frontends {
		for _, r := range f.Routes {
			u := c.Upstream(r.SendTo.Value)
			if u == nil || found != nil && len(u.Backends) <= len(found.upstream.Backends) {
				continue
			}
			if t, ok := targetBy(c, f, r, u); ok {
				found = t
			}
		}
	}
	if found == nil {
		return nil, unusable(fmt.Errorf("no route sends requests to an upstream that a load can reach; write the load by hand: kestrix help scenario load"))
	}
	return found, nil
}

// targetBy returns the target that a route makes of its upstream, with an example of a request.
func targetBy(c *config.Config, f *config.Frontend, r *config.Route, u *config.Upstream) (*target, bool) {
	t := &target{upstream: u, frontend: f}
	if f.Protocol == "tcp" {
		return t, r.When.SNI == nil
	}
	m, err := study.MatchesOf(c, f.Name+"/"+r.Name)
	if err != nil {
		return nil, false
	}
	for _, e := range m.Examples {
		words := strings.Fields(e)
		if len(words) != 2 {
			continue // it needs a field, a cookie or an address besides
		}
		asked, err := url.Parse(words[1])
		if err != nil {
			continue
		}
		path := asked.EscapedPath()
		if words[0] != "GET" {
			path = words[0] + " " + path
		}
		t.host, t.paths = asked.Hostname(), []string{path + "=1"}
		return t, true
	}
	return nil, false
}

// firstScenario returns the text of a first scenario.
func firstScenario(c *config.Config, name, file string) (string, error) {
	t, err := targetOf(c)
	if err != nil {
		return "", err
	}
	b := t.upstream.Backends[0]
	if file == "" {
		file = "FILE"
	}
	var load strings.Builder
	if t.paths != nil {
		fmt.Fprintf(&load, "  paths   = [%s] # with weights, as in \"/seats=5\"\n", listOf(t.paths))
	}
	if t.host != "" {
		fmt.Fprintf(&load, "  host    = %q\n", t.host)
	}
	if len(c.Frontends) > 1 {
		fmt.Fprintf(&load, "  frontend = %q\n", t.frontend.Name)
	}
	detected := "# No probe detects the failure, so there is no expectation of the time until then.\n"
	if p := t.upstream.Probe; p != nil {
		within := (p.Every*time.Duration(p.DownAfter) + p.Timeout).Seconds()
		detected = fmt.Sprintf(`# The probe fails %d times in a row within this many seconds.
expect "the failure is detected" {
  that = result.faults[0].detected_after <= %g
}
`, p.DownAfter, math.Ceil(within))
	}
	lost := "0.01 # one request in a hundred"
	if len(t.upstream.Backends) == 1 {
		lost = "0.5 # there is no other backend"
	}
	text := fmt.Sprintf(`# A first scenario for %s; change it to your load, then:
# kestrix replay %s -scenario %s
seed = 1

# Requests that are generated. With a trace instead, remove this block:
# kestrix replay %s ACCESS_LOG -scenario %s
load {
  rate    = "20/s"
  for     = "5m"
  clients = 200
%s}

# How backends work; kestrix trace learn measures it from a trace.
behaviour "*" {
  service = lognormal("40ms", 0.6) # mean, coefficient of variation
  workers = 16
}

fault "%s stops" {
  backend = %q
  kind    = "refuse" # others: hang, blackhole, slow, errors, reset, flap
  at      = "1m"
  until   = "3m"
}

expect "few requests fail" {
  that = result.error_rate <= %s
}

%s`, name, name, file, name, file, load.String(), b.Name, t.upstream.Name+"."+b.Name, lost, detected)
	return formatted(text)
}

// formatted returns a text in the canonical layout.
func formatted(text string) (string, error) {
	out, found, err := config.Format(config.File{Name: "new", Source: []byte(text)})
	if err != nil || len(found) > 0 {
		return "", unusable(fmt.Errorf("%v%v", err, found))
	}
	return string(out), nil
}

// listOf joins texts as a list of the language has them.
func listOf(texts []string) string {
	out := slices.Clone(texts)
	for i, t := range out {
		out[i] = fmt.Sprintf("%q", t)
	}
	return strings.Join(out, ", ")
}
