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
	"kestrix/internal/live/pool"
)

// Source is what the metrics are made from.
type Source interface {
	// Status returns how everything stands.
	Status() status.Status
	// FirstBytes returns the times to the head of an answer of an upstream's backends, by
	// their names.
	FirstBytes(upstream string) map[string]pool.Buckets
}

// collector makes the metrics for each scrape. Counts begin anew with the process, and
// when an operator resets them.
type collector struct{ source Source }

func metric(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("kestrix_"+name, help, labels, nil)
}

var (
	metricInfo      = metric("info", "Version of the program.", "version")
	metricBegan     = metric("start_time_seconds", "When the proxy began, in seconds since the epoch.")
	metricWaiting   = metric("upstream_waiting_requests", "Requests in the queue of an upstream.", "upstream")
	metricRefused   = metric("upstream_refused_requests_total", "Requests that no backend was chosen for.", "upstream")
	metricOutcome   = metric("frontend_requests_total", "Requests that have ended, each once however often it was retried, by outcome.", "frontend", "outcome")
	metricNotAsked  = metric("frontend_refused_requests_total", "Requests that a frontend refused without asking a backend, by cause.", "frontend", "cause")
	metricState     = metric("backend_state", "1 for the state that a backend is in, 0 for the others.", "upstream", "backend", "state")
	metricRefusedC  = metric("frontend_refused_connections_total", "Connections closed before a request was read, or a backend asked.", "frontend", "cause")
	metricLost      = metric("lost_lines_total", "Lines of the access log and the recorded trace that were lost.")
	metricReloads   = metric("reloads_total", "Reloads of the configuration, by result.", "result")
	metricConfig    = metric("configuration_time_seconds", "When the configuration in force was read.", "configuration")
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
	for _, d := range []*prometheus.Desc{
		metricInfo, metricBegan, metricWaiting, metricRefused, metricOutcome, metricNotAsked, metricState, metricRefusedC, metricLost, metricReloads, metricConfig, metricCert, metricProbes, metricEligible, metricIn, metricWeight, metricInFlight, metricRequests, metricFailed, metricLeft, metricResponses, metricBytes, metricSeats, metricFirst,
	} {
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
	s := c.source.Status()
	gauge(metricInfo, 1, s.Version)
	gauge(metricBegan, float64(s.Began.UnixMilli())/1000)
	for _, f := range s.Frontends {
		count(metricOutcome, f.Answered, f.Name, "answered")
		count(metricOutcome, f.Failed, f.Name, "failed")
		count(metricOutcome, f.ClientLeft, f.Name, "client_left")
	}
	for _, r := range s.Refused {
		count(metricNotAsked, r.Requests, r.Frontend, r.Cause)
	}
	for _, r := range s.Connections {
		count(metricRefusedC, r.Connections, r.Frontend, r.Cause)
	}
	count(metricLost, s.LostLines)
	count(metricReloads, s.Reloads.Taken, "taken")
	count(metricReloads, s.Reloads.Refused, "refused")
	if !s.Reloads.At.IsZero() {
		gauge(metricConfig, float64(s.Reloads.At.UnixMilli())/1000, s.Reloads.Hash)
	}
	for _, x := range s.Certificates {
		gauge(metricCert, float64(x.Until.Unix()), x.File)
	}
	for _, u := range s.Upstreams {
		gauge(metricWaiting, float64(u.Waiting), u.Name)
		count(metricRefused, u.Refused, u.Name)
		eligible := 0
		for i := range u.Backends {
			if u.Backends[i].InRotation() {
				eligible++
			}
		}
		gauge(metricEligible, float64(eligible), u.Name)
		first := c.source.FirstBytes(u.Name)
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
			for i, class := range []string{"1xx", "2xx", "3xx", "4xx", "5xx"} {
				count(metricResponses, b.Statuses[i], u.Name, b.Name, class)
			}
			count(metricBytes, b.Bytes, u.Name, b.Name)
			count(metricProbes, b.Probes.Passed, u.Name, b.Name, "passed")
			count(metricProbes, b.Probes.Failed, u.Name, b.Name, "failed")
			count(metricSeats, b.Seats, u.Name, b.Name)
			h := first[b.Name]
			out <- prometheus.MustNewConstHistogram(metricFirst, h.Count, h.Sum, h.Buckets, u.Name, b.Name)
		}
	}
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
	r.MustRegister(collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), collectors.NewGoCollector(collectors.WithGoCollectorRuntimeMetrics(collectors.GoRuntimeMetricsRule{Matcher: liveMemory})))
	return promhttp.HandlerFor(r, promhttp.HandlerOpts{EnableOpenMetrics: true})
}
