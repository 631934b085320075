package check

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/units"
	"kestrix/internal/core/upstream"
)

// failureRules are about what becomes of a request whose attempt failed.
var failureRules = []*Rule{
	{
		ID: "KX509", Severity: config.Warning, Title: "a retry of regular responses",
		Why: "another backend answers the same: the request is processed twice, and the client waits for both",
		Fix: "on = [\"connect\", \"reset\", \"502\", \"503\"]",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				r := u.Retry
				if r == nil || r.Attempts < 2 || len(u.Backends) < 2 || p.broken(r.On.Range) {
					continue
				}
				if i := slices.IndexFunc(r.On.Words(), regular); i >= 0 {
					word, what := r.On.Words()[i], "GET requests that are answered with"
					if strings.HasPrefix(word, cause.RPCPrefix) {
						what = "calls that end with"
					}
					p.Report(Finding{
						Range: at(r.On.Range, r.Range), Message: fmt.Sprintf("%q retries responses with status %s", u.Name, word),
						Witness: fmt.Sprintf("100 %s %s are sent %d times", what, word, attempts(u, 100, endingIn(word))),
						Edits:   p.without(r.On, regular),
					})
				}
			}
		},
	},
	{
		ID: "KX510", Severity: config.Warning, Title: "a retry that never repeats",
		Why: "attempts includes the first attempt",
		Fix: "attempts = 2",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				if r := u.Retry; r != nil && r.Attempts == 1 && len(u.Backends) > 0 {
					p.Report(Finding{Range: r.Range, Message: fmt.Sprintf("%q makes one attempt, so its retry block has no effect", u.Name), Witness: fmt.Sprintf("100 requests that fail to connect are sent %d times", attempts(u, 100, upstream.Outcome{Kind: upstream.ConnectRefused})), Edits: p.set(r.Range, "attempts", "2")})
				}
			}
		},
	},
	{
		ID: "KX511", Severity: config.Warning, Title: "a status in a tcp frontend",
		Why: "tcp frontends forward bytes, so responses have no status",
		Fix: "on = [\"connect\"] for retry, [\"connect\", \"reset\"] for suspend",
		Run: func(p *Pass) {
			tcp := p.reached("tcp")
			for _, u := range p.Config.Upstreams {
				if !slices.Contains(tcp, u.Name) {
					continue
				}
				tell := func(block string, on *config.FailureSet) {
					status := func(word string) bool { return !slices.Contains(config.Failures, word) }
					if i := slices.IndexFunc(on.Words(), status); i >= 0 && on.Given() && !p.broken(on.Range) {
						p.Report(Finding{Range: on.Range, Message: fmt.Sprintf("%s of %q needs the status %s, and only tcp frontends send to it", block, u.Name, on.Words()[i]), Witness: "no connection of a tcp frontend ever ends with a status", Edits: p.without(on, status)})
					}
				}
				if u.Retry != nil {
					tell("retry", u.Retry.On)
				}
				if u.Suspend != nil {
					tell("suspend", u.Suspend.On)
				}
			}
		},
	},
	{
		ID: "KX512", Severity: config.Advice, Title: "failures that another backend could have answered",
		Why: "from the moment a backend stops listening until a probe detects it, each request to it fails, although others are up",
		Fix: "retry { attempts = 2, on = [\"connect\"] }, which is safe for every request: nothing was sent yet",
		Run: func(p *Pass) {
			used := p.used()
			for _, u := range p.Config.Upstreams {
				if !used[u.Name] || u.Retry != nil || len(u.Backends) < 2 || u.TotalWeight() == 0 || u.Partial || p.broken(u.Range) {
					continue
				}
				f := Finding{Range: u.Range, Message: fmt.Sprintf("%q has %d backends and no retry", u.Name, len(u.Backends)), Edits: p.setIn(u.Range, "retry", "on", `["connect"]`)}
				if len(u.Backends) <= 1000 {
					gone, met := unanswered(u)
					if met == 0 {
						continue
					}
					f.Witness = fmt.Sprintf("of 100 requests in a row after %q stopped listening, before a probe sees it, %d fail", gone, met)
				}
				p.Report(f)
			}
		},
	},
	{
		ID: "KX513", Severity: config.Advice, Title: "an answer timeout shorter than the probe's",
		Why: "a backend slower than the answer timeout and faster than the probe's timeout stays in rotation and answers no request",
		Fix: "a timeout of the probe that is at most timeouts { answer }",
		Run: func(p *Pass) {
			for _, u := range p.Config.Upstreams {
				b, answer := u.Probe, p.shortestAnswer(u)
				if b == nil || !b.Asks() || b.Timeout <= answer || len(u.Backends) == 0 || p.broken(b.TimeoutAt) {
					continue
				}
				p.Report(Finding{
					Range: b.TimeoutAt, Message: fmt.Sprintf("the probe of %q has a timeout of %s, its requests %s", u.Name, units.Duration(b.Timeout), units.Duration(answer)),
					Witness: fmt.Sprintf("a backend that takes %s for everything passes its probes and answers none of these requests in time", units.Duration((b.Timeout+answer)/2)),
					Edits:   p.replace(b.TimeoutAt, fmt.Sprintf("%q", config.FormatDuration(answer))),
				})
			}
		},
	},
}

// unanswered asks the core 100 times in a row while the backend that the first request is given does not listen,
// and returns its name and how many requests it is given.
func unanswered(u *config.Upstream) (gone string, met int) {
	t := try(u)
	for i := range 100 {
		q, a := t.request(uint64(i)), &upstream.Attempt{}
		v := t.core.Choose(t.at, q, a)
		if v.Kind != upstream.Go {
			continue
		}
		if gone == "" {
			gone = t.name(v)
		}
		o := upstream.Outcome{Kind: upstream.Answered, Status: 200}
		if t.name(v) == gone {
			met++
			o = upstream.Outcome{Kind: upstream.ConnectRefused}
		}
		t.core.Settle(t.at, q, a, o)
	}
	return gone, met
}

// used returns the names of upstreams that a route sends to.
func (p *Pass) used() map[string]bool {
	out := map[string]bool{}
	for _, f := range p.Config.Frontends {
		for _, r := range f.Routes {
			out[r.SendTo.Value] = true
		}
	}
	return out
}

// shortestAnswer returns the shortest answer timeout with which requests come to an upstream.
func (p *Pass) shortestAnswer(u *config.Upstream) time.Duration {
	shortest := u.Timeouts.Answer
	for _, f := range p.Config.Frontends {
		for _, r := range f.Routes {
			if r.SendTo.Value == u.Name {
				shortest = min(shortest, r.Waits(u).Answer)
			}
		}
	}
	return shortest
}

// transient are statuses below 500 after which a request may be tried again: RFC 9110 section 15.5.9 (408), RFC 9110
// section 15.5.20 (421), RFC 8470 (425) and RFC 6585 (429).
var transient = []int{408, 421, 425, 429}

// ofClients are statuses of gRPC that the call itself has caused.
var ofClients = []string{"cancelled", "invalid_argument", "not_found", "already_exists", "permission_denied", "failed_precondition", "out_of_range", "unimplemented", "unauthenticated"}

// regular reports whether a word of on is a status that another backend would answer with as well.
func regular(word string) bool {
	if name, rpc := strings.CutPrefix(word, cause.RPCPrefix); rpc {
		return slices.Contains(ofClients, name)
	}
	status, err := strconv.Atoi(word)
	return err == nil && status < 500 && !slices.Contains(transient, status)
}

// endingIn is the outcome of an attempt that ends with a status, as on words it.
func endingIn(word string) upstream.Outcome {
	o := upstream.Outcome{Kind: upstream.Answered, Status: 200}
	if name, rpc := strings.CutPrefix(word, cause.RPCPrefix); rpc {
		o.RPC = slices.Index(cause.RPCStatuses[:], name)
	} else {
		o.Status, _ = strconv.Atoi(word) // reading has seen to it
	}
	return o
}

// attempts returns how many attempts the core makes of so many requests that all end alike.
func attempts(u *config.Upstream, requests int, o upstream.Outcome) int {
	t := try(u)
	n := 0
	for i := range requests {
		q, a := t.request(uint64(i)), &upstream.Attempt{}
		for t.core.Choose(t.at, q, a).Kind == upstream.Go {
			n++
			if t.core.Settle(t.at, q, a, o) == upstream.Finished {
				break
			}
		}
	}
	return n
}
