package check

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/units"
	"kestrix/internal/core/upstream"
)

var balanceRules = []*Rule{
	{
		ID: "KX301", Severity: config.Error, Title: "weights that are all zero",
		Why: "a backend of weight 0 gets no new requests, so no backend serves",
		Fix: "give at least one backend a weight of 1 or more",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				total := u.TotalWeight()
				if len(u.Backends) > 0 && total == 0 && !u.Partial {
					p.Report(Finding{
						Range:   u.Backends[0].WeightAt,
						Message: fmt.Sprintf("every backend of %q has weight 0", u.Name),
						Witness: "the first request finds no backend and is answered with 503",
					})
				}
			}
		},
	},
	{
		ID: "KX302", Severity: config.Advice, Title: "a backend of weight 0",
		Why: "it is probed, and gets no new requests",
		Fix: "give it a weight, or remove it",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				total := u.TotalWeight()
				for _, b := range u.Backends {
					if b.Weight == 0 && total > 0 {
						p.Report(Finding{Range: b.WeightAt, Message: fmt.Sprintf("%q has weight 0", b.Name), Witness: fmt.Sprintf("of 1,000 new requests to %q it gets none", u.Name)})
					}
				}
			}
		},
	},
	{
		ID: "KX303", Severity: config.Advice, Title: "settings for several backends with only one",
		Why: "with one backend there is nothing to choose, to keep or to retry elsewhere",
		Fix: "a second backend; until then these settings have no effect",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if len(u.Backends) != 1 || u.Partial {
					continue
				}
				only := u.Backends[0].Name
				witness := fmt.Sprintf("with %q gone every request to %q fails, whatever is set here", only, u.Name)
				switch {
				case u.Sticky != nil:
					p.Report(Finding{Range: u.Sticky.Range, Message: fmt.Sprintf("%q is sticky and has one backend", u.Name), Witness: witness})
				case u.Balance().Hash:
					p.Report(Finding{Range: u.AlgorithmAt, Message: fmt.Sprintf("%q hashes clients over one backend", u.Name), Witness: witness})
				case u.Suspend != nil:
					p.Report(Finding{Range: u.Suspend.Range, Message: fmt.Sprintf("%q suspends and has one backend", u.Name), Witness: witness})
				}
			}
		},
	},
	{
		ID: "KX304", Severity: config.Advice, Title: "a weight too small to matter",
		Why: "so little traffic does not test a backend; its capacity is unknown when the others fail",
		Fix: "a larger weight, or remove the backend",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				total := u.TotalWeight()
				if u.Partial || u.Balance().Unweighted {
					continue
				}
				var got map[string]int
				for _, b := range u.Backends {
					if b.Weight == 0 || b.Weight*200 >= total {
						continue
					}
					if got == nil && len(u.Backends) <= 1000 {
						got = answered(u, 10_000)
					}
					f := Finding{Range: b.WeightAt, Message: fmt.Sprintf("%q has a weight of %d in %d", b.Name, b.Weight, total)}
					if got != nil {
						f.Witness = fmt.Sprintf("of 10,000 requests one after the other %d go to it", got[b.Name])
					}
					p.Report(f)
				}
			}
		},
	},
	{
		ID: "KX305", Severity: config.Warning, Title: "a slow start that the algorithm ignores",
		Why: "hash gives a returning backend all of its keys at once, because scaling a weight would move keys; first-fit has no weights",
		Fix: "remove slow_start, or choose another algorithm",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Ramp > 0 && !u.Balance().Ramps() {
					p.Report(Finding{
						Range: u.RampAt, Message: fmt.Sprintf("%q uses %s, so slow_start has no effect", u.Name, u.Algorithm),
						Witness: ramped(u), Edits: p.drop(u.RampAt),
					})
				}
			}
		},
	},
	{
		ID: "KX306", Severity: config.Advice, Title: "a choice by address where all addresses may be one",
		Why: "only this machine reaches the listeners, so another proxy is in front; without trusted_proxies its address counts as every client's",
		Fix: "trusted_proxies = the address of the proxy in front, or another way to identify clients",
		Run: func(p *Pass) {
			if len(p.Config.Trusted) > 0 {
				return
			}
			told := map[string]bool{}
			for _, f := range p.Config.Frontends {
				if !p.hidden(f) {
					continue
				}
				for _, r := range f.Routes {
					u := p.Config.Upstream(r.SendTo.Value)
					if u == nil || told[u.Name] || len(u.Backends) < 2 {
						continue
					}
					at, what := u.AlgorithmAt, "hashes the client's address"
					if u.Sticky != nil && u.Sticky.By == "address" {
						at, what = u.Sticky.Range, "is sticky by the client's address"
					} else if u.Hash == nil || !strings.HasPrefix(u.Hash.Key, "client") {
						continue
					}
					told[u.Name] = true
					t := try(u)
					got := map[string]int{}
					for range 100 {
						got[t.send(t.keyed(loopbackKey))]++
					}
					who, most := "", 0
					for _, b := range u.Backends {
						if n := got[b.Name]; n > most {
							who, most = b.Name, n
						}
					}
					p.Report(Finding{Range: at, Message: fmt.Sprintf("%q %s, and only this machine reaches it", u.Name, what), Witness: fmt.Sprintf("of 100 clients behind a proxy on 127.0.0.1, %d go to %q", most, who)})
				}
			}
		},
	},
	{
		ID: "KX307", Severity: config.Advice, Title: "round-robin in step with the pages",
		Why: "a page with one asset makes two requests in a row; in turn, one backend gets all pages and the other all assets",
		Fix: "algorithm = \"random\"; ignore this if requests come singly, or many are in flight at once",
		Run: func(p *Pass) {
			used := p.reached("tcp")
			for _, u := range p.Config.Upstreams {
				if u.AlgorithmAt == u.Range || u.Sticky != nil || u.Failover != nil || u.Balance().Hash || len(u.Backends) != 2 || u.Partial || slices.Contains(used, u.Name) || u.Queue != nil || u.Probe != nil && u.Probe.Kind == "grpc" {
					continue
				}
				pages, pictures := ofFirst(u)
				if !inStep(pages, pictures) || p.broken(u.AlgorithmAt) {
					continue
				}
				name, mend := u.Backends[0].Name, ""
				for _, algorithm := range []string{"random", "two-choices", "least-connections"} { // the first that is not in step itself
					other := *u
					other.Algorithm = algorithm
					if a, b := ofFirst(&other); !inStep(a, b) {
						mend = fmt.Sprintf("algorithm = %q: %d pages and %d pictures come from %q then; none where requests come singly, or many are open together", algorithm, a, b, name)
						break
					}
				}
				p.Report(Finding{
					Range: u.AlgorithmAt, Message: fmt.Sprintf("%q uses round-robin with two backends", u.Name), Fix: mend,
					Witness: fmt.Sprintf("100 clients, one after the other, fetch a page and a picture each: %d pages and %d pictures come from %q", pages, pictures, name),
				})
			}
		},
	},
	{
		ID: "KX308", Severity: config.Advice, Title: "more attempts than backends",
		Why: "a further attempt can only go to a backend that has just failed",
		Fix: "at most as many attempts as backends",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if r := u.Retry; r != nil && r.Attempts > len(u.Backends) && len(u.Backends) > 1 && !u.Partial && !u.ResolveEach {
					p.Report(Finding{Range: r.Range, Message: fmt.Sprintf("%q makes up to %d attempts with %d backends", u.Name, r.Attempts, len(u.Backends)), Witness: fmt.Sprintf("attempt %d goes to %q, which has already failed", len(u.Backends)+1, p.repeated(u)), Edits: p.set(r.Range, "attempts", fmt.Sprint(len(u.Backends)))})
				}
			}
		},
	},
	{
		ID: "KX310", Severity: config.Error, Title: "first-fit without max_in_flight",
		Why: "first-fit uses the next backend when one has reached max_in_flight; without it the first gets everything",
		Fix: "max_in_flight for every backend",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if !u.Balance().Fill || u.Partial || len(u.Backends) < 2 {
					continue
				}
				for _, b := range u.Backends[:len(u.Backends)-1] {
					if b.MaxInFlight > 0 || b.Weight == 0 {
						continue
					}
					t := try(u)
					got := map[string]bool{}
					for i := range 1000 {
						got[t.name(t.core.Choose(0, t.request(uint64(i)), &upstream.Attempt{}))] = true
					}
					p.Report(Finding{Range: b.WeightAt, Message: fmt.Sprintf("%q has no max_in_flight, so no request reaches the next backend", b.Name), Witness: fmt.Sprintf("of 1,000 requests in flight at once none reaches the next backend; served by %d of %d", len(got), len(u.Backends))})
					break
				}
			}
		},
	},
	{
		ID: "KX311", Severity: config.Advice, Title: "modulo with changing backends",
		Why: "with modulo most keys move whenever a backend leaves or joins: caches are cold and sessions lost at once",
		Fix: "method = \"ring\" or \"rendezvous\", which move the keys of that backend only",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if !u.Balance().Rehashes || len(u.Backends) < 2 || u.Probe == nil && u.Suspend == nil && !u.ResolveEach {
					continue
				}
				before, after := try(u), try(u)
				after.out(u.Backends[0].Name)
				moved := 0
				for i := range 1000 {
					if x := before.ask(uint64(i)); x != u.Backends[0].Name && after.ask(uint64(i)) != x {
						moved++
					}
				}
				if moved == 0 {
					continue // as of two backends
				}
				p.Report(Finding{Range: u.Hash.Range, Message: fmt.Sprintf("%q uses modulo, and its backends change", u.Name), Witness: fmt.Sprintf("with %q out, %d of 1,000 keys of other backends move", u.Backends[0].Name, moved), Edits: p.set(u.Hash.Range, "method", `"rendezvous"`)})
			}
		},
	},
	{
		ID: "KX312", Severity: config.Advice, Title: "least-connections with very short requests",
		Why: "very short requests are rarely in flight together, so there is nothing to compare, and the choice is in turn",
		Fix: "round-robin does the same; keep it if the rate makes requests overlap",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Algorithm != "least-connections" || u.Timeouts.Answer > 500*time.Millisecond || len(u.Backends) < 3 { // of two KX307 speaks
					continue
				}
				t, turning := try(u), *u
				turning.Algorithm = "round-robin"
				r := try(&turning)
				a, b := map[string]int{}, map[string]int{}
				for i := range 1000 {
					a[t.ask(uint64(i))]++
					b[r.ask(uint64(i))]++
				}
				least, turns := 1000, 1000
				for _, x := range u.Backends {
					least, turns = min(least, a[x.Name]), min(turns, b[x.Name])
				}
				p.Report(Finding{
					Range: u.AlgorithmAt, Message: fmt.Sprintf("the answer timeout of %q is %s", u.Name, units.Duration(u.Timeouts.Answer)),
					Witness: fmt.Sprintf("of 1,000 requests one after the other each backend gets at least %d, and %d with round-robin", least, turns),
					Edits:   p.replace(u.AlgorithmAt, `"round-robin"`),
				})
			}
		},
	},
	{
		ID: "KX309", Severity: config.Warning, Title: "a queue that is never used",
		Why: "requests wait only while every backend has max_in_flight requests in flight; one without that limit always accepts",
		Fix: "max_in_flight for every backend",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if u.Queue == nil || u.Partial {
					continue
				}
				for _, b := range u.Backends {
					if b.MaxInFlight > 0 || b.Weight == 0 {
						continue
					}
					in, _, _ := try(u).open(1000)
					p.Report(Finding{Range: u.Queue.Range, Message: fmt.Sprintf("the queue of %q is never used: %q has no max_in_flight", u.Name, b.Name), Witness: fmt.Sprintf("of 1,000 requests at once %d are forwarded, and none waits", in)})
					break
				}
			}
		},
	},
	{
		ID: "KX313", Severity: config.Warning, Title: "a hash key that tcp does not have",
		Why: "a tcp frontend sees no requests; a connection without the key is hashed by the client's address",
		Fix: "key = \"client\"",
		Run: func(p *Pass) {
			tcp := p.reached("tcp")
			for _, u := range p.Config.Upstreams {
				if u.Hash != nil && slices.Contains(tcp, u.Name) && !strings.HasPrefix(u.Hash.Key, "client") && len(u.Backends) > 1 {
					p.Report(Finding{Range: u.Hash.Range, Message: fmt.Sprintf("%q hashes by %s, and only tcp frontends send to it", u.Name, u.Hash.Key), Witness: "each connection is hashed by its client's address instead", Edits: p.set(u.Hash.Range, "key", `"client"`)})
				}
			}
		},
	},
	{
		ID: "KX314", Severity: config.Warning, Title: "weights that the algorithm ignores",
		Why: "first-fit fills the first backend before the second, whatever their weights",
		Fix: "max_in_flight by the capacity of each, and the backends in the order in which they are to be filled",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if !u.Balance().Unweighted || len(u.Backends) < 2 {
					continue
				}
				for _, b := range u.Backends {
					if b.Weight > 1 {
						p.Report(Finding{Range: b.WeightAt, Message: fmt.Sprintf("%q has weight %d, and %s ignores weights", b.Name, b.Weight, u.Algorithm), Witness: fmt.Sprintf("the first of 100 requests at once goes to %q, as without weights", first(u))})
						break
					}
				}
			}
		},
	},
}

// ofFirst returns how many pages, and how many pictures, of 100 clients that fetch one of each in a row come from the
// first of two backends.
func ofFirst(u *config.Upstream) (pages, pictures int) {
	t := try(u)
	for i := range 100 {
		for _, n := range []*int{&pages, &pictures} {
			if t.ask(uint64(i)) == u.Backends[0].Name {
				*n++
			}
		}
	}
	return pages, pictures
}

// inStep reports whether hardly anything but pages, or but pictures, comes from one of two backends.
func inStep(pages, pictures int) bool {
	alone := func(a, b int) bool { return a+b >= 10 && min(a, b)*10 <= a+b }
	return alone(pages, pictures) || alone(100-pages, 100-pictures)
}

// hidden reports whether a frontend is reached from this machine only.
func (p *Pass) hidden(f *config.Frontend) bool {
	if f.ProxyProtocol {
		return false
	}
	for _, l := range f.Listen {
		if !p.local(l.Value) {
			return false
		}
	}
	return len(f.Listen) > 0
}

// repeated returns who is asked once more when all have failed.
func (p *Pass) repeated(u *config.Upstream) string {
	t := try(u)
	q, a := t.request(1), &upstream.Attempt{}
	name := ""
	for range len(u.Backends) + 1 {
		v := t.core.Choose(0, q, a)
		name = t.name(v)
		if v.Kind != upstream.Go {
			break
		}
		t.core.Settle(0, q, a, upstream.Outcome{Kind: upstream.ConnectRefused})
	}
	return name
}

// ramped words what a backend that comes back gets from the first moment.
func ramped(u *config.Upstream) string {
	if u.Balance().Unweighted {
		return "weights do not apply to it; a backend that comes back is filled from the first moment"
	}
	if len(u.Backends) == 0 {
		return ""
	}
	name := u.Backends[0].Name
	return fmt.Sprintf("when %q comes back it has %d of 1,000 keys from the first moment", name, answered(u, 1000)[name])
}

// answered counts, of so many requests one after the other, those that each backend is given.
func answered(u *config.Upstream, requests int) map[string]int {
	t, got := try(u), map[string]int{}
	for i := range requests {
		got[t.ask(uint64(i))]++
	}
	return got
}
