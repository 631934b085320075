package check

import (
	"kestrix/internal/core/config"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/tick"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
)

// trial asks the core of an upstream, so that a witness says what will happen
// and not what was thought.
type trial struct {
	core *upstream.Upstream
	at   tick.Time
	n    uint64
}

func try(u *config.Upstream) *trial {
	return &trial{core: upstream.New(0, u, 1)}
}

// out takes backends out of rotation.
func (t *trial) out(names ...string) {
	for _, name := range names {
		if id, ok := t.core.Lookup(name); ok {
			t.core.Operate(t.at, id, upstream.Park, 0)
		}
	}
}

// back returns backends that were taken out.
func (t *trial) back(names ...string) {
	for _, name := range names {
		if id, ok := t.core.Lookup(name); ok {
			t.core.Operate(t.at, id, upstream.Return, 0)
		}
	}
}

// request makes the next one; client is any number that stands for one.
func (t *trial) request(client uint64) *upstream.Request {
	return t.keyed(rng.Bits(1, client, 0, rng.Who))
}

// keyed makes the next request, of a client that is known by this key.
func (t *trial) keyed(key uint64) *upstream.Request {
	t.n++
	return &upstream.Request{ID: t.n, Key: key, SeatKey: key | 1, Seat: upstream.None, Repeatable: true}
}

// name returns the backend of a verdict, empty for none.
func (t *trial) name(v upstream.Verdict) string {
	if v.Kind != upstream.Go {
		return ""
	}
	return t.core.Backend(v.Backend).Name
}

// ask sends one request, answered at once, and returns who answered.
func (t *trial) ask(client uint64) string { return t.send(t.request(client)) }

// send sends a request, answered at once, and returns who answered.
func (t *trial) send(q *upstream.Request) string {
	a := &upstream.Attempt{}
	v := t.core.Choose(t.at, q, a)
	if v.Kind == upstream.Go {
		t.core.Settle(t.at, q, a, upstream.Outcome{Kind: upstream.Answered, Status: 200})
	}
	return t.name(v)
}

// open has so many requests open at once and returns how many were let in, were
// told to wait, and were refused.
func (t *trial) open(n int) (in, waiting, refused int) {
	for i := range n {
		switch t.core.Choose(t.at, t.request(uint64(i)), &upstream.Attempt{}).Kind {
		case upstream.Go:
			in++
		case upstream.Queued:
			waiting++
		default:
			refused++
		}
	}
	return in, waiting, refused
}

// loopbackKey is the key of the one client whom a proxy sees that stands behind
// another and does not know it.
var loopbackKey = trace.ClientKey("127.0.0.1")
