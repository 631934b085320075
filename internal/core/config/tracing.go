package config

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/hashicorp/hcl/v2"
)

// Tracing says where spans of requests go.
type Tracing struct {
	Range    hcl.Range
	Endpoint Placed[string] // URL of the collector, with the path
	Share    float64        // of the requests that belong to no sampled trace, from 0 to 1
	Anyone   bool           // the sampled flag counts whoever sends it; else that of trusted proxies
	Service  string         // service.name of the resource
}

var tracingBlock = &Block{
	Name: "tracing",
	Help: "OpenTelemetry traces of requests, sent over OTLP (HTTP, protobuf): a span for each request, and one for each attempt with a backend. Without this block there is none",
	Keys: []*Key{
		{Name: "endpoint", Type: Text, Required: true, Help: "URL of the collector; /v1/traces is added where the URL has no path", Example: `"http://127.0.0.1:4318"`},
		{Name: "share", Type: Percent, Default: `"1%"`, Why: "a small part shows what is usual at little cost", Help: "share of the requests that begin a trace; a request that belongs to a sampled trace of a trusted proxy is always part of it", Example: `"10%"`},
		{Name: "sampled_by", Type: Text, Default: `"trusted"`, Why: "else any client could have all of its requests traced", Allowed: []string{"trusted", "anyone"}, Meanings: []string{"the sampled flag of Traceparent counts from trusted_proxies; other requests are drawn by share, and continue their trace", "the sampled flag of every client counts"}, Help: "whose sampled flag counts", Example: `"anyone"`},
		{Name: "service", Type: Text, Default: `"kestrix"`, Why: "the name of the program", Help: "service.name of the spans", Example: `"ferry-front"`},
	},
}

func (d *Decoder) tracing(n *Node) *Tracing {
	t := &Tracing{Range: n.Range, Endpoint: Placed[string]{Get[string](n, "endpoint"), n.At("endpoint")}, Share: Get[float64](n, "share"), Anyone: Get[string](n, "sampled_by") == "anyone", Service: Get[string](n, "service")}
	if t.Endpoint.Value != "" {
		u, err := url.Parse(t.Endpoint.Value)
		switch {
		case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
			d.Add(IDType, t.Endpoint.Range, fmt.Sprintf("%q is not the URL of a collector", shorten(t.Endpoint.Value)), "like \"http://127.0.0.1:4318\"")
		case u.User != nil || u.RawQuery != "" || u.Fragment != "":
			d.Add(IDType, t.Endpoint.Range, "the URL of a collector has neither user nor query", "like \"http://127.0.0.1:4318\"")
		case strings.Trim(u.Path, "/") == "":
			u.Path = "/v1/traces"
			t.Endpoint.Value = u.String()
		}
	}
	if strings.TrimSpace(t.Service) == "" {
		d.Add(IDType, n.At("service"), "service has no name", "such as \"ferry-front\"")
	}
	return t
}
