package replay

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kestrix/internal/core/cause"
)

// TestConnectionsAreKept for the next request as the live proxy does: the one used last is taken,
// unless it is too old or has waited for too long; others are made, which takes time.
func TestConnectionsAreKept(t *testing.T) {
	const answers = "behaviour \"*\" {\n service = \"100ms\"\n connect = \"10ms\"\n workers = 1000\n%}\n"
	const tls = "tls {\n verify = false\n}\n"
	for _, c := range []struct {
		name, upstream, behaviour string
		requests                  int
		every                     time.Duration
		dials                     int64
		first, mean               float64 // seconds
	}{
		{"one after the other", "", "", 100, time.Second, 1, 0.110, 0.1001},
		{"ten at a time", "", "", 100, 10 * time.Millisecond, 11, 0.110, 0.1011}, // the first ten wait for their connections
		{"not kept for long enough", "timeouts {\n kept = \"800ms\"\n}\n", "", 50, time.Second, 50, 0.110, 0.110},
		{"of a certain age", "timeouts {\n connection_age = \"10s\"\n}\n", "", 100, time.Second, 10, 0.110, 0.101},
		{"one for each client", "proxy_protocol = \"v2\"\n", "", 50, time.Second, 50, 0.110, 0.110},
		{"with a handshake", tls, "", 100, time.Second, 1, 0.120, 0.1002},
		{"with a long handshake", tls, "handshake = \"90ms\"\n", 100, time.Second, 1, 0.200, 0.101},
		{"a handshake without TLS", "", "handshake = \"90ms\"\n", 100, time.Second, 1, 0.110, 0.1001},
		{"HTTP/2", "http_version = \"2\"\n", "", 100, 4 * time.Millisecond, 1, 0.110, 0.10018}, // the first three wait for it
		{"HTTP/2 of a certain age", "http_version = \"2\"\ntimeouts {\n connection_age = \"10s\"\n}\n", "", 100, time.Second, 10, 0.110, 0.101},
		{"HTTP/2, not kept for long enough", "http_version = \"2\"\ntimeouts {\n kept = \"500ms\"\n}\n", "", 20, time.Second, 20, 0.110, 0.110},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := run(t, pool(t, 1, "round-robin", c.upstream), percent(answers, c.behaviour), even(c.requests, c.every, 1), Options{})
			b := r.Upstreams["app"].Backends["b0"]
			assert.Equal(t, c.dials, b.Connections)
			assert.InDelta(t, c.first, r.Latency.Max, 1e-9)
			assert.InDelta(t, c.mean, r.Latency.Mean, 1e-5)
		})
	}
}

// percent puts a text in the place of %.
func percent(text, in string) string {
	out := ""
	for _, c := range text {
		if c == '%' {
			out += in
		} else {
			out += string(c)
		}
	}
	return out
}

// TestFaultsOfKeptConnections: where packets are lost a request on one that is kept waits for its
// answer, and on a new one for the connection; a process that ends takes all of them along.
func TestFaultsOfKeptConnections(t *testing.T) {
	const answers = "behaviour \"*\" {\n service = \"400ms\"\n}\n"
	fault := func(kind string) string {
		return "fault \"f\" {\n backend = \"*\"\n kind = \"" + kind + "\"\n at = \"10500ms\"\n until = \"12500ms\"\n}\n"
	}
	timeouts := "timeouts {\n connect = \"300ms\"\n answer = \"5s\"\n}\n"
	// A request a second: two come while it lasts, the first of them on the connection that is kept.
	r := run(t, pool(t, 1, "round-robin", timeouts), answers+fault("blackhole"), even(20, time.Second, 1), Options{})
	assert.Equal(t, []int64{1, 1}, []int64{r.Errors[cause.AnswerTimeout], r.Errors[cause.ConnectTimeout]})
	r = run(t, pool(t, 1, "round-robin", timeouts+"http_version = \"2\"\n"), answers+fault("blackhole"), even(20, time.Second, 1), Options{})
	assert.Equal(t, []int64{2, 0}, []int64{r.Errors[cause.AnswerTimeout], r.Errors[cause.ConnectTimeout]}, "both are sent on the one there is")
	assert.EqualValues(t, 2, r.Upstreams["app"].Backends["b0"].Connections, "which is then given up")
	r = run(t, pool(t, 1, "round-robin", timeouts), answers+fault("refuse"), even(20, time.Second, 1), Options{})
	assert.Equal(t, []int64{2, 2}, []int64{r.Failed, r.Errors[cause.Refused]})
	assert.EqualValues(t, 4, r.Upstreams["app"].Backends["b0"].Connections, "two that are refused, and a new one afterwards")
	r = run(t, pool(t, 1, "round-robin", timeouts), answers+fault("errors"), even(20, time.Second, 1), Options{})
	assert.EqualValues(t, 1, r.Upstreams["app"].Backends["b0"].Connections, "a failure that is answered breaks none")
	r = run(t, pool(t, 1, "round-robin", timeouts), answers+fault("reset"), even(20, time.Second, 1), Options{})
	assert.EqualValues(t, 3, r.Upstreams["app"].Backends["b0"].Connections, "each answer that breaks off does")
}
