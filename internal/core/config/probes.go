package config

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// ProbeKind is a kind of probe.
type ProbeKind struct {
	Name string
	Doc  string   // for the reference
	Keys []string // that go with it, besides those of every kind
	// Asks reports whether an application must answer such a probe, so that one that
	// hangs fails it, and in a replay a worker is needed for it. A connection alone is
	// made by the operating system.
	Asks func(p *Probe) bool
	// Reports reports whether the backend tells its state and share.
	Reports bool
	// What returns what is asked, for people.
	What func(p *Probe) string
}

// ProbeKinds are all of them, in the order in which documents list them. How each is
// sent is package proxy's.
var ProbeKinds = []*ProbeKind{
	{
		Name: "http", Keys: []string{"path", "expect", "host", "headers", "method"},
		Doc:  "sends an HTTP request; expect defines the statuses and bodies that pass",
		Asks: always, What: func(p *Probe) string { return p.Method + " " + p.Path },
	},
	{
		Name: "tcp", Keys: []string{"send", "expect"},
		Doc:  "connects; with send it writes a text, with expect it reads until the pattern of body matches",
		Asks: func(p *Probe) bool { return p.Body != "" },
		What: func(p *Probe) string {
			if p.Body == "" {
				return "tcp"
			}
			return fmt.Sprintf("tcp %q", p.Body)
		},
	},
	{
		Name: "tls", Keys: []string{"name", "verify"},
		Doc:  "completes a TLS handshake and verifies the certificate, with the upstream's tls block if there is one; it sends nothing after that",
		Asks: always, What: func(*Probe) string { return "tls" },
	},
	{
		Name: "grpc", Keys: []string{"service"},
		Doc:  "calls grpc.health.v1.Health/Check, the public health-checking protocol; SERVING passes",
		Asks: always, What: func(p *Probe) string { return strings.TrimSpace("grpc " + p.Service) },
	},
	{
		Name: "self-report", Reports: true,
		Doc:  "reads a line such as state=draining share=50; state is up, draining, parked or down, share a percentage of the weight",
		Asks: func(*Probe) bool { return false }, What: func(*Probe) string { return "self-report" },
	},
}

func always(*Probe) bool { return true }

// Of returns the kind of a probe. A configuration without errors has no other.
func (p *Probe) Of() *ProbeKind {
	i := slices.IndexFunc(ProbeKinds, func(k *ProbeKind) bool { return k.Name == p.Kind })
	if i < 0 {
		i = 0 // the language allows none
	}
	return ProbeKinds[i]
}

// probeKindNames are the labels of a probe block.
func probeKindNames() (names []string) {
	for _, k := range ProbeKinds {
		names = append(names, k.Name)
	}
	return names
}

// probeKindDocs returns what a probe of each kind does.
func probeKindDocs() (out []string) {
	for _, k := range ProbeKinds {
		out = append(out, k.Doc)
	}
	return out
}

// probe reads a probe block.
func (d *Decoder) probe(n *Node) *Probe {
	p := &Probe{
		Range: n.Range, Kind: n.Label.Value, Path: Get[string](n, "path"), Send: Get[string](n, "send"),
		Method: Get[string](n, "method"), Host: Get[string](n, "host"), Headers: Get[[]FieldPair](n, "headers"),
		Name: Get[string](n, "name"), Verify: !n.Has("verify") || Get[bool](n, "verify"), Service: Get[string](n, "service"), Port: Get[int](n, "port"),
		Every: Get[time.Duration](n, "every"), Timeout: Get[time.Duration](n, "timeout"),
		DownAfter: Get[int](n, "down_after"), UpAfter: Get[int](n, "up_after"),
		EveryDown: Get[time.Duration](n, "every_while_down"), Jitter: Get[float64](n, "jitter"),
		EveryAt: n.At("every"), PathAt: n.At("path"), TimeoutAt: n.At("timeout"),
	}
	if p.EveryDown == 0 {
		p.EveryDown = p.Every
	}
	d.probeKeys(n, p)
	d.probeRequest(n, p)
	if p.Kind == "http" && (!strings.HasPrefix(p.Path, "/") || strings.ContainsFunc(p.Path, func(r rune) bool { return r <= ' ' || r == 0x7f })) {
		d.Add(IDType, n.At("path"), fmt.Sprintf("the path %q does not begin with / or contains a space", shorten(p.Path)), "like \"/ready\"")
	}
	expect := Get[*Node](n, "expect")
	if expect == nil || p.Kind != "http" && p.Kind != "tcp" {
		expect = &Node{Def: expectFields, Range: n.Range}
	}
	p.Body = Get[string](expect, "body")
	switch {
	case p.Kind == "tcp" && expect.Has("status"):
		d.Add(IDUnknown, expect.At("status"), "status goes with probe \"http\", and this is probe \"tcp\"", "body, a pattern of what the backend sends")
	case p.Kind == "tcp" && p.Send != "" && p.Body == "":
		d.Add(IDMissing, n.At("send"), "a probe that sends something says what it expects", "expect = { body = \"*PONG*\" }")
	}
	for _, s := range Get[[]Placed[string]](expect, "status") {
		r, ok := parseStatusRange(s.Value)
		if !ok {
			d.Add(IDType, s.Range, fmt.Sprintf("%q is not a status or a range of them", shorten(s.Value)), "like \"200\" or \"200-299\"")
			continue
		}
		p.Status = append(p.Status, r)
	}
	return p
}

// probeRequest holds what an http probe asks with against what a request may have.
func (d *Decoder) probeRequest(n *Node, p *Probe) {
	if p.Host != "" && (strings.ContainsAny(p.Host, "/@?# \t") || strings.ContainsFunc(p.Host, func(r rune) bool { return r < 0x21 || r >= 0x7f })) {
		d.Add(IDType, n.At("host"), fmt.Sprintf("the host %q is none", shorten(p.Host)), "like \"tickets.tern.example\", with a port where the application needs one")
	}
	for _, h := range p.Headers {
		d.fieldName(h.Name, "the key host of the probe says it")
		d.fieldValue(h.Value)
	}
}

// probeKeys reports keys that do not go with the kind of a probe.
func (d *Decoder) probeKeys(n *Node, p *Probe) {
	for _, k := range ProbeKinds {
		for _, key := range k.Keys {
			if !n.Has(key) || slices.Contains(p.Of().Keys, key) {
				continue
			}
			var kinds []string
			for _, other := range ProbeKinds {
				if slices.Contains(other.Keys, key) {
					kinds = append(kinds, fmt.Sprintf("probe %q", other.Name))
				}
			}
			if kinds[0] == fmt.Sprintf("probe %q", k.Name) { // once for each key
				d.Add(IDUnknown, n.At(key), fmt.Sprintf("%s goes with %s, and this is probe %q", key, orList(kinds), p.Kind), "write "+kinds[0]+" {")
			}
		}
	}
}
