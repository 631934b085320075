package rehearse

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
	"kestrix/internal/core/trace"
)

const site = `zone = "north-quay"
frontend "web" {
  listen = ["0.0.0.0:80", "unix:/run/web.sock"]
  tls {
    certificate = "no.pem"
    key         = "no.key"
  }
  errors {
    form = "text"
  }
  route "boards" {
    when {
      path = ["/board/**"]
    }
    send_to = upstream.board
  }
  route "all" {
    send_to = upstream.booking
  }
}
frontend "gate" {
  listen   = "0.0.0.0:7000"
  protocol = "tcp"
  route "all" {
    send_to = upstream.gate
  }
}
upstream "booking" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  sticky {
    by = "address"
  }
}
upstream "board" {
  backends = {
    fulmar = "192.0.2.21:8080"
  }
}
upstream "gate" {
  backends = {
    skua = "192.0.2.31:7000"
  }
}
`

// TestASiteIsRehearsedOnLoopback sends requests, a stream and a connection through a
// site with an operator at work, and reads what came of it.
func TestASiteIsRehearsedOnLoopback(t *testing.T) {
	c, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(site)}})
	require.NoError(t, err)
	require.Empty(t, found)
	var records []*trace.Record
	add := func(at time.Duration, front, client, path string, protocol trace.Protocol, lasts time.Duration) {
		r := &trace.Record{Time: int64(at), Client: []byte(client), Frontend: []byte(front), Duration: int64(lasts), Protocol: protocol, Bytes: -1}
		if path != "" {
			r.Method, r.Path = []byte("GET"), []byte(path)
		}
		records = append(records, r)
	}
	for i := range 40 {
		add(time.Duration(i)*20*time.Millisecond, "web", []string{"203.0.113.1", "203.0.113.2", "203.0.113.3", "2001:db8::4"}[i%4], "/seats", trace.HTTP, 5*time.Millisecond)
		switch i {
		case 5:
			add(100*time.Millisecond, "web", "203.0.113.9", "/board/today", trace.Stream, 400*time.Millisecond)
		case 6:
			add(120*time.Millisecond, "gate", "203.0.113.10", "", trace.TCP, 300*time.Millisecond)
		}
	}
	sc := scenario.None()
	sc.Faults = []scenario.Fault{{Name: "it", Kind: "park", At: 400 * time.Millisecond, Until: 600 * time.Millisecond, Backends: []config.Placed[string]{{Value: "booking.auk"}}}}
	sc.Faults = append(sc.Faults, scenario.Fault{Name: "heavy", Kind: "weight", Weight: 3, At: 500 * time.Millisecond, Until: -1, Backends: sc.Faults[0].Backends})
	var mu sync.Mutex
	var told []string
	out, err := Run(context.Background(), Options{Config: c, Scenario: sc, Records: records, Seed: 7, Bucket: 1, Version: "t", Event: func(e status.Event) {
		mu.Lock()
		defer mu.Unlock()
		if e.Object == "booking.auk" && e.Kind == status.EventOrder {
			told = append(told, e.Text)
		}
	}})
	require.NoError(t, err)
	mu.Lock()
	assert.Contains(t, told[len(told)-1], "up, weight 3", "the end of one order leaves the other: %q", told)
	mu.Unlock()
	r := out.Result
	assert.Equal(t, []int64{42, 42, 0, 0}, []int64{r.Requests, r.Answered, r.Failed, r.Unfinished}, "%+v", r.Errors)
	assert.Equal(t, map[string]int64{"web/all": 40, "web/boards": 1, "gate/all": 1}, r.Routes)
	assert.Equal(t, "192.0.2.11:8080", c.Upstreams[0].Backends[0].Address.String(), "the configuration itself stays as it is")
	assert.Len(t, out.Mapping, 7)
	assert.Equal(t, []string{"frontend web is rehearsed in clear text"}, out.Left)
	// By address, which each client keeps: who sat with auk moves, once.
	f := r.Faults[0]
	require.NotNil(t, f.DetectedAfter)
	require.NotNil(t, f.RecoveredAfter)
	assert.Less(t, *f.DetectedAfter+*f.RecoveredAfter, 2.0, "at once, as far as the machine is")
	assert.Equal(t, int64(4+1+1), r.Sessions.Seen)
	assert.Equal(t, int64(2), r.Sessions.Moved, "round-robin gave auk two of four")
	assert.Equal(t, r.Sessions.Moved, r.Sessions.Misses)
	assert.Equal(t, []string{"parked", "up"}, []string{r.Health[0].To, r.Health[1].To})
	assert.Positive(t, r.Upstreams["booking"].Backends["auk"].SecondsOut)
	sum := int64(0)
	for _, row := range r.Timeline.Rows {
		for _, box := range row.Upstreams["booking"] {
			sum += box.Requests
		}
	}
	assert.Equal(t, int64(40), sum)
}

func TestThePeakOfSpans(t *testing.T) {
	at := func(n int) time.Time { return time.Unix(int64(n), 0) }
	assert.Equal(t, 0, peak(nil))
	assert.Equal(t, 2, peak([][2]time.Time{{at(0), at(5)}, {at(4), at(6)}, {at(5), at(7)}}), "one ends as another begins")
	assert.Equal(t, 3, peak([][2]time.Time{{at(0), at(9)}, {at(1), at(3)}, {at(2), at(4)}}))
}

// TestRefusalsAreToldByTheirCause parks everybody: the frontend's own form of errors
// does not hide why.
func TestRefusalsAreToldByTheirCause(t *testing.T) {
	c, _, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(site)}})
	require.NoError(t, err)
	sc := scenario.None()
	sc.Faults = []scenario.Fault{{Name: "it", Kind: "park", At: 0, Until: -1, Backends: []config.Placed[string]{{Value: "booking.*"}}}}
	var records []*trace.Record
	for i := range 10 {
		records = append(records, &trace.Record{Time: int64(i+1) * 20e6, Client: []byte("203.0.113.1"), Frontend: []byte("web"), Method: []byte("GET"), Path: []byte("/seats"), Headers: []trace.KV{{Name: []byte("Accept"), Value: []byte("text/html")}}, Duration: 1e6, Bytes: -1})
	}
	records[0].Time = 0
	out, err := Run(context.Background(), Options{Config: c, Scenario: sc, Records: records, Seed: 7})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, out.Result.Errors[cause.NoBackend], int64(9), "%+v", out.Result.Errors)
	assert.Equal(t, out.Result.Failed, out.Result.Errors[cause.NoBackend])
}

// TestWhenAFaultIsDetectedAndOver follows changes of state beside its beginning and
// end.
func TestWhenAFaultIsDetectedAndOver(t *testing.T) {
	s := &stage{}
	for name, x := range map[string]struct {
		changes    []result.HealthChange
		left, back float64
	}{
		"never":                     {nil, -1, -1},
		"out and back":              {[]result.HealthChange{{At: 3, To: "failing"}, {At: 4, To: "down"}, {At: 11, To: "recovering"}, {At: 12, To: "up"}}, 4, 12},
		"back before its end":       {[]result.HealthChange{{At: 4, To: "suspended"}, {At: 6, To: "up"}}, 4, 10},
		"out before it began":       {[]result.HealthChange{{At: 1, To: "down"}, {At: 1.5, To: "up"}, {At: 5, To: "down"}}, 5, -1},
		"suspended, then also down": {[]result.HealthChange{{At: 3, To: "suspended"}, {At: 4, To: "down"}, {At: 13, To: "up"}}, 3, 13},
	} {
		for i := range x.changes {
			x.changes[i].Upstream, x.changes[i].Backend = "app", "a"
		}
		left, back := s.outAndBack(&result.Replay{Health: x.changes}, "app", "a", 2, 10)
		assert.Equal(t, []float64{x.left, x.back}, []float64{left, back}, name)
	}
}
