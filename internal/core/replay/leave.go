package replay

import (
	"context"
	"slices"

	"kestrix/internal/core/trace"
	"kestrix/internal/core/upstream"
)

// Leave is what becomes of clients that are known when a backend of each upstream
// leaves for good: how many of their requests reach another backend than before,
// although that one is still there. It is found by replaying some requests once
// more, without any fault and with one backend of each upstream parked half-way.
type Leave struct {
	Backends []string `json:"backends"` // that left, as UPSTREAM.BACKEND
	Requests int64    `json:"requests"` // that came later, of clients that were with another backend
	Moved    int64    `json:"moved"`    // of them, that reached yet another
	Share    float64  `json:"share"`    // moved of requests
}

// owner is who has a place in an upstream: a client, or what is hashed.
type owner struct {
	upstream int32
	who      uint64
}

// leave tries it with a sample of arrivals.
func (e *engine) leave(ctx context.Context, c Case, sample []arrival) (*Leave, error) {
	calm := *c.Scenario
	calm.Faults, calm.Load = nil, nil
	if s := calm.Streams; s != nil {
		once := *s
		once.Resend = false // what is sent again would number requests otherwise
		calm.Streams = &once
	}
	o := e.o
	o.Part, o.Progress = trace.Span{}, nil
	picks := make([]string, len(sample))
	o.Observe = func(d Decision) {
		if d.Attempt == 1 {
			picks[d.Request] = d.Backend
		}
	}
	x, p, err := prepare(ctx, Case{Config: c.Config, Scenario: &calm}, o)
	if err != nil {
		return nil, err
	}
	x.attach(e.sequence, p)
	out := &Leave{Backends: []string{}}
	half := len(sample) / 2
	gone := make([]string, len(x.ups))
	for i := range sample {
		switch i {
		case 0:
			x.begin(sample[0].at)
		case half:
			out.Backends = x.parkOnes(o.LeaveOf, gone)
		}
		x.arrive(&sample[i])
	}
	x.countMoves(out, sample, picks, gone)
	if out.Requests > 0 {
		out.Share = float64(out.Moved) / float64(out.Requests)
	}
	return out, nil
}

// parkOnes takes the heaviest backend of each upstream out, or of those that are named,
// notes their names by upstream, and returns them in full.
func (e *engine) parkOnes(named, gone []string) []string {
	out := []string{}
	for k, u := range e.ups {
		if len(named) > 0 && !slices.Contains(named, u.cfg.Name) {
			continue
		}
		if s := e.parkHeaviest(u); s != nil {
			out = append(out, s.name)
			gone[k] = u.views[0].core.Backend(s.id).Name
		}
	}
	return out
}

// countMoves counts the requests of those who were with a backend that stayed, and those
// of them that came to another one after some had been taken out.
func (e *engine) countMoves(out *Leave, sample []arrival, picks, gone []string) {
	half := len(sample) / 2
	had := map[owner]string{}
	for i := range sample {
		a := &sample[i]
		if a.route < 0 || e.refs[a.route].upstream < 0 || picks[i] == "" {
			continue
		}
		up := e.refs[a.route].upstream
		o := owner{up, uint64(a.session)}
		if e.sequence.routes[a.route].hash != nil && !e.ups[up].sticky {
			o.who = a.key
		}
		switch before := had[o]; {
		case i < half:
			had[o] = picks[i]
		case before != "" && gone[up] != "" && before != gone[up]:
			if out.Requests++; picks[i] != before {
				out.Moved++
			}
		}
	}
}

// parkHeaviest has an operator take the backend of the most weight out, the first
// of several. Where no two would stay nobody leaves, as there would be nothing to
// choose, and nil says so.
func (e *engine) parkHeaviest(u *up) *server {
	if len(u.servers) < 3 {
		return nil
	}
	most := &u.servers[0]
	for _, b := range u.cfg.Backends {
		id, _ := u.views[0].core.Lookup(b.Name)
		if u.views[0].core.Backend(id).Weight > u.views[0].core.Backend(most.id).Weight {
			most = &u.servers[id]
		}
	}
	for _, v := range u.views {
		v.core.Operate(e.now+v.ahead, most.id, upstream.Park, 0)
		e.note(v)
		e.schedule(v)
	}
	return most
}
