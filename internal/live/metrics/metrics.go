// Package metrics reports how a proxy stands to a collector of metrics. Control serves it.
// It must never count by itself: what it reports is what the status has.
package metrics

import (
	"net/http"
	"regexp"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"kestrix/internal/core/health"
	"kestrix/internal/core/status"
	"kestrix/internal/live/measure"
)

// Source is what the metrics are made from.
type Source interface {
	// Status returns how everything stands.
	Status() status.Status
	// BackendHistograms reports whether there is a histogram for each backend.
	BackendHistograms() bool
	// RouteTimes returns the times of each route that had requests, by frontend and name.
	RouteTimes() []measure.RouteTimes
	// FirstBytes returns the times to the header of a response of an upstream's backends, by
	// their names.
	FirstBytes(upstream string) map[string]measure.Buckets
}

// collector makes the metrics for each scrape. Counts begin anew with the process, and
// when an operator resets them.
type collector struct{ source Source }

// all are the descriptions of the metrics below.
var all []*prometheus.Desc

// metric returns the description of a metric, and adds it to all.
func metric(name, help string, labels ...string) *prometheus.Desc {
	d := prometheus.NewDesc("kestrix_"+name, help, labels, nil)
	all = append(all, d)
	return d
}

var (
	metricInfo      = metric("info", "Version and commit of the program, and the beginning of the SHA-256 of its configuration.", "version", "commit", "configuration")
	metricBegan     = metric("start_time_seconds", "When the proxy began, in seconds since the epoch.")
	metricWaiting   = metric("upstream_waiting_requests", "Requests in the queue of an upstream.", "upstream")
	metricQueued    = metric("upstream_queued_requests_total", "Requests that came into the queue of an upstream.", "upstream")
	metricRetries   = metric("upstream_retries_total", "Attempts that repeat a failed one.", "upstream")
	metricBudget    = metric("upstream_retry_budget", "Retries that the budget allows now; absent without a budget.", "upstream")
	metricRefused   = metric("upstream_refused_requests_total", "Requests that no backend was chosen for.", "upstream")
	metricOutcome   = metric("frontend_requests_total", "Requests that have ended, each once however often it was retried, by outcome.", "frontend", "outcome")
	metricRoute     = metric("route_requests_total", "Requests that have ended, by the class of the status that the client got; none without a response.", "frontend", "route", "status")
	metricRouteBad  = metric("route_failed_requests_total", "Requests that have failed, by cause.", "frontend", "route", "cause")
	metricRouteOff  = metric("route_client_left_total", "Requests whose clients left before the response began.", "frontend", "route")
	metricRedirect  = metric("route_redirected_requests_total", "Requests that the proxy answered with a redirect.", "frontend", "route")
	metricElapsed   = metric("route_elapsed_seconds", "Time to the end of the response, the failure, or the moment the client left; streams and connections excepted.", "frontend", "route")
	metricRouteGot  = metric("route_first_byte_seconds", "Time of the last attempt to the header of its response.", "frontend", "route")
	metricConns     = metric("listener_connections", "Open connections of clients.", "address", "frontend")
	metricAccepted  = metric("listener_accepted_connections_total", "Connections of clients that were accepted.", "address", "frontend")
	metricNotAsked  = metric("frontend_refused_requests_total", "Requests that a frontend refused without asking a backend, by cause.", "frontend", "cause")
	metricState     = metric("backend_state", "1 for the state that a backend is in, 0 for the others.", "upstream", "backend", "state")
	metricRefusedC  = metric("frontend_refused_connections_total", "Connections closed before a request was read, or a backend asked.", "frontend", "cause")
	metricLost      = metric("lost_lines_total", "Lines of the access log and the recorded trace that were lost.")
	metricLostSpans = metric("lost_spans_total", "Spans that no collector has taken.")
	metricReloads   = metric("reloads_total", "Reloads of the configuration, by result.", "result")
	metricConfig    = metric("configuration_time_seconds", "When the configuration in force was read.", "configuration")
	metricCertFrom  = metric("certificate_begins_time_seconds", "Time at which a certificate that clients get began to be valid.", "file")
	metricCertBad   = metric("certificate_failing", "1 while a certificate by ACME cannot be obtained or renewed, else 0.", "name")
	metricCert      = metric("certificate_expires_time_seconds", "Time at which a certificate that clients get expires.", "file")
	metricProbes    = metric("backend_probes_total", "Probes that have ended.", "upstream", "backend", "result")
	metricEligible  = metric("upstream_eligible_backends", "Backends in rotation with a weight above 0.", "upstream")
	metricIn        = metric("backend_in_rotation", "1 while a backend is in rotation and has a weight above 0.", "upstream", "backend")
	metricWeight    = metric("backend_weight", "Weight of a backend.", "upstream", "backend")
	metricInFlight  = metric("backend_in_flight_requests", "Requests in flight to a backend.", "upstream", "backend")
	metricRequests  = metric("backend_requests_total", "Attempts that have ended.", "upstream", "backend")
	metricFailed    = metric("backend_failed_requests_total", "Attempts without a response, or with a status from 500 on.", "upstream", "backend")
	metricLeft      = metric("backend_client_left_total", "Attempts whose clients left before the response began.", "upstream", "backend")
	metricResponses = metric("backend_responses_total", "Responses by class of status.", "upstream", "backend", "status")
	metricBytes     = metric("backend_response_bytes_total", "Bytes of responses sent to clients.", "upstream", "backend")
	metricSeats     = metric("backend_seats_total", "Sessions that were assigned to a backend.", "upstream", "backend")
	metricFirst     = metric("backend_first_byte_seconds", "Time to the header of a response.", "upstream", "backend")
)

// Describe is called by the library.
func (c *collector) Describe(out chan<- *prometheus.Desc) {
	for _, d := range all {
		out <- d
	}
}

// Collect is called by the library, for each scrape.
func (c *collector) Collect(out chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	count := func(d *prometheus.Desc, v uint64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(v), labels...)
	}
	histogram := func(d *prometheus.Desc, h measure.Buckets, labels ...string) {
		out <- prometheus.MustNewConstHistogram(d, h.Count, h.Sum, h.Buckets, labels...)
	}
	s := c.source.Status()
	gauge(metricInfo, 1, s.Version, s.Commit, s.Reloads.Hash)
	gauge(metricBegan, float64(s.Began.UnixMilli())/1000)
	for _, f := range s.Frontends {
		count(metricOutcome, f.Answered, f.Name, "answered")
		count(metricOutcome, f.Failed, f.Name, "failed")
		count(metricOutcome, f.ClientLeft, f.Name, "client_left")
		for i := range f.Routes {
			countRoute(count, f.Name, &f.Routes[i])
		}
	}
	for _, r := range c.source.RouteTimes() {
		out <- elapsedOf(&r)
		histogram(metricRouteGot, r.FirstByte.Buckets(), r.Frontend, r.Route)
	}
	for _, l := range s.Listeners {
		gauge(metricConns, float64(l.Connections), l.Address, l.Frontend)
		count(metricAccepted, l.Accepted, l.Address, l.Frontend)
	}
	for _, r := range s.Refused {
		count(metricNotAsked, r.Requests, r.Frontend, r.Cause)
	}
	for _, r := range s.Connections {
		count(metricRefusedC, r.Connections, r.Frontend, r.Cause)
	}
	count(metricLost, s.LostLines)
	count(metricLostSpans, s.LostSpans)
	count(metricReloads, s.Reloads.Taken, "taken")
	count(metricReloads, s.Reloads.Refused, "refused")
	if !s.Reloads.At.IsZero() {
		gauge(metricConfig, float64(s.Reloads.At.UnixMilli())/1000, s.Reloads.Hash)
	}
	for _, x := range s.Certificates {
		if !x.Until.IsZero() {
			gauge(metricCertFrom, float64(x.From.Unix()), x.File)
			gauge(metricCert, float64(x.Until.Unix()), x.File)
		}
		if x.Name != "" {
			gauge(metricCertBad, is(x.Failing != ""), x.Name)
		}
	}
	for _, u := range s.Upstreams {
		gauge(metricWaiting, float64(u.Waiting), u.Name)
		count(metricQueued, u.Queued, u.Name)
		count(metricRetries, u.Retries, u.Name)
		if u.RetryBudget != nil {
			gauge(metricBudget, *u.RetryBudget, u.Name)
		}
		count(metricRefused, u.Refused, u.Name)
		eligible := 0
		for i := range u.Backends {
			if u.Backends[i].InRotation() {
				eligible++
			}
		}
		gauge(metricEligible, float64(eligible), u.Name)
		var first map[string]measure.Buckets
		if c.source.BackendHistograms() {
			first = c.source.FirstBytes(u.Name)
		}
		for _, b := range u.Backends {
			for state := health.Up; state <= health.Parked; state++ {
				gauge(metricState, is(b.State == state.String()), u.Name, b.Name, state.String())
			}
			gauge(metricIn, is(b.InRotation()), u.Name, b.Name)
			gauge(metricWeight, float64(b.Weight), u.Name, b.Name)
			gauge(metricInFlight, float64(b.InFlight), u.Name, b.Name)
			count(metricRequests, b.Requests, u.Name, b.Name)
			count(metricFailed, b.Failed, u.Name, b.Name)
			count(metricLeft, b.ClientLeft, u.Name, b.Name)
			for i, class := range statusClasses {
				count(metricResponses, b.Statuses[i], u.Name, b.Name, class)
			}
			count(metricBytes, b.Bytes, u.Name, b.Name)
			count(metricProbes, b.Probes.Passed, u.Name, b.Name, "passed")
			count(metricProbes, b.Probes.Failed, u.Name, b.Name, "failed")
			count(metricSeats, b.Seats, u.Name, b.Name)
			if first != nil {
				histogram(metricFirst, first[b.Name], u.Name, b.Name)
			}
		}
	}
}

// elapsedOf returns the histogram of a route with its exemplars, which only OpenMetrics has.
func elapsedOf(r *measure.RouteTimes) prometheus.Metric {
	b := r.Elapsed.Buckets()
	m := prometheus.MustNewConstHistogram(metricElapsed, b.Count, b.Sum, b.Buckets, r.Frontend, r.Route)
	var exemplars []prometheus.Exemplar
	for _, e := range r.Exemplars {
		if e.TraceID != "" {
			exemplars = append(exemplars, prometheus.Exemplar{Value: e.Seconds, Labels: prometheus.Labels{"trace_id": e.TraceID}, Timestamp: e.At})
		}
	}
	if with, err := prometheus.NewMetricWithExemplars(m, exemplars...); len(exemplars) > 0 && err == nil {
		return with
	}
	return m
}

// statusClasses are the labels of the classes of statuses.
var statusClasses = []string{"1xx", "2xx", "3xx", "4xx", "5xx"}

// countRoute counts the requests of a route.
func countRoute(count func(d *prometheus.Desc, v uint64, labels ...string), frontend string, r *status.Route) {
	none := r.Answered + r.Failed + r.ClientLeft
	for i, class := range statusClasses {
		count(metricRoute, r.Statuses[i], frontend, r.Name, class)
		none -= r.Statuses[i]
	}
	count(metricRoute, none, frontend, r.Name, "none")
	for why, n := range r.Errors {
		count(metricRouteBad, n, frontend, r.Name, why)
	}
	count(metricRouteOff, r.ClientLeft, frontend, r.Name)
	count(metricRedirect, r.Redirected, frontend, r.Name)
}

func is(yes bool) float64 {
	if yes {
		return 1
	}
	return 0
}

// liveMemory names what the last garbage collection found in use, which tells a leak from
// memory that is only not collected yet.
var liveMemory = regexp.MustCompile("^/gc/heap/live:bytes$")

// Handler returns what answers a collector of metrics, in the Prometheus text format or
// OpenMetrics.
func Handler(s Source) http.Handler {
	r := prometheus.NewPedanticRegistry()
	r.MustRegister(&collector{s})
	// The process: descriptors, memory, processor time; and goroutines.
	r.MustRegister(collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), collectors.NewGoCollector(collectors.WithGoCollectorMemStatsMetricsDisabled(), collectors.WithGoCollectorRuntimeMetrics(collectors.GoRuntimeMetricsRule{Matcher: liveMemory})))
	return promhttp.HandlerFor(r, promhttp.HandlerOpts{EnableOpenMetrics: true})
}
