package report

import (
	"fmt"
	"strings"
)

// ColumnDescription describes a column of the tables that commands print.
type ColumnDescription struct{ Name, Doc string }

// Columns describes the columns of all tables, by name. Pages have the same names.
var Columns = []ColumnDescription{
	{"#", "number of the request in the series"},
	{"address", "address of the backend"},
	{"answered", "requests with a response that is not a 5xx"},
	{"arrived", "before, during or after the fault: when the requests arrived"},
	{"attempts", "attempts at the backends; a retry is a further one"},
	{"backend", "name of the backend"},
	{"broken", "tried failures with which an expectation was not met, with the first seed"},
	{"by chance", "range of 95 of 100 rehearsals, from predictions with other seeds"},
	{"case", "backends or zone that fail"},
	{"client left", "requests whose client left before the response began"},
	{"configuration", "file of the configuration"},
	{"configured", "address in the configuration"},
	{"detail", "details of what was looked at"},
	{"detected after", "time from the beginning of the fault until its backends left rotation"},
	{"difference", "rehearsal minus prediction"},
	{"distance", "share of the bound that was left before the nearest value, + past it"},
	{"duration", "duration of the replay; of a probe or a connection in check -live"},
	{"elapsed p50", "half of all requests took at most this long, until the response, the failure, or the moment the client left"},
	{"elapsed p95", "the same for 95 % of all requests"},
	{"elapsed p99", "the same for 99 % of all requests"},
	{"error rate", "failed requests as a share of all requests"},
	{"errors", "failed requests by cause; docs/causes.md lists the causes"},
	{"example", "a request of the set, put through the router"},
	{"expectation", "title of the expectation"},
	{"expectations", "how many expectations were met"},
	{"failed", "requests without a response, or with a 5xx; of a backend: attempts"},
	{"failed after", "failed requests from the end of the fault until recovery"},
	{"failed more", "failed requests with the fault, minus those without it; * marks the worst cases that chance cannot tell apart"},
	{"fair share", "share by weight, with all backends in rotation"},
	{"fault", "title of the fault"},
	{"faults", "failures at once; a load factor counts as one"},
	{"figure", "name of the figure; docs/json.md describes it"},
	{"for", "duration of the fault; of a state: time since it began"},
	{"from", "beginning of the fault, from the first request"},
	{"in flight", "requests that the backend is processing now"},
	{"kind", "kind of the fault, or of what was looked at"},
	{"last 5 minutes", "requests over time, relative to the busiest backend of the upstream"},
	{"median", "median of the seeds"},
	{"met", "expectations that were met, with 95 % of the seeds or with their own share"},
	{"misses", "requests that reached a backend without their session"},
	{"moved", "sessions that got another backend permanently"},
	{"moved on leave", "share of requests that move when one backend of each upstream leaves, although their backend is still there"},
	{"name", "client address or path"},
	{"nearest", "expectation whose value came nearest to its bound"},
	{"out", "time that the backend was out of rotation"},
	{"p50", "half of the answered requests took at most this long; in status and watch: until the first byte, in the last 5 minutes"},
	{"p95", "the same for 95 %"},
	{"p99", "the same for 99 %"},
	{"path", "path of the requests"},
	{"peak", "largest number of requests in flight"},
	{"prediction", "value of the replay"},
	{"pushed on leave", "share of requests that move because of overload when one backend of each upstream leaves"},
	{"range", "range across the seeds: minimum to maximum, from 40 seeds on that of 95 %"},
	{"range of failed", "range of failed requests across the seeds"},
	{"rate", "requests per second, in the last 10 s"},
	{"recovered after", "time from the end of the fault until requests are as before"},
	{"redirected", "requests that the proxy answered with a redirect"},
	{"rehearsal", "value of the rehearsal"},
	{"requests", "requests; of a backend: attempts"},
	{"result", "result of what was looked at"},
	{"retried", "requests with more than one attempt"},
	{"route", "name of the route"},
	{"scenario", "file of the scenario"},
	{"seeds", "number of seeds with which the case was replayed"},
	{"session misses", "requests that reached a backend without their session"},
	{"sessions", "sessions that were assigned to the backend"},
	{"sessions moved", "sessions that got another backend permanently"},
	{"share", "share of the upstream's requests"},
	{"share of backends", "share of the path's requests by backend"},
	{"spilled", "attempts that the algorithm sent to another tier or zone than the first"},
	{"spread", "requests by weight of the busiest backend, divided by the mean; 1 is even"},
	{"state", "state of the backend; docs/events.md lists the states"},
	{"that", "condition of the expectation"},
	{"throughput", "answered requests per second"},
	{"tier", "tier of the backend"},
	{"tried", "failures that the search tried"},
	{"variant", "algorithm, stickiness or configuration that is compared"},
	{"weight", "weight of the backend"},
	{"what", "what was looked at: an address, a name, a file"},
	{"when", "conditions of the route"},
	{"who", "object that was looked at"},
	{"why", "reason why the backend was chosen or not"},
	{"zone", "zone of the backend"},
}

// ColumnsHelp lists the columns with their meanings.
func (s Style) ColumnsHelp() string {
	width := 0
	for _, c := range Columns {
		width = max(width, visible(c.Name))
	}
	var b strings.Builder
	b.WriteString("Columns of the tables that commands print:\n\n")
	for _, c := range Columns {
		fmt.Fprintf(&b, "  %s  %s\n", padRight(c.Name, width), flow(c.Doc, s.Width, width+4))
	}
	return b.String()
}
