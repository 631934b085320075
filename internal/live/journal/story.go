package journal

import (
	"fmt"
	"time"

	"kestrix/internal/core/upstream"
)

// Moment is one thing that the core decided of a request, with how the backends
// stood when it did.
type Moment struct {
	At       time.Time `json:"at"`
	Upstream string    `json:"upstream"`
	Call     string    `json:"call"` // choose, settle, repeats, cancel or granted
	Attempt  int       `json:"attempt"`
	Backend  string    `json:"backend"`            // of a choose: who was given it, empty for nobody
	Reason   string    `json:"reason"`             // of a choose: why
	Outcome  string    `json:"outcome,omitempty"`  // of a settle: how the attempt ended
	Again    bool      `json:"again,omitempty"`    // of a settle: it is tried once more
	Backends []Stood   `json:"backends,omitempty"` // of a choose: how each stood
}

// Stood is how a backend stood when a request was given to one.
type Stood struct {
	Name     string `json:"name"`
	State    string `json:"state"`
	Why      string `json:"why"` // it could not be chosen; empty if it could
	Weight   int    `json:"weight"`
	InFlight int    `json:"in_flight"`
}

// Story tells a journal again and returns what was decided of a request, and why. Of one
// whose beginning is gone it returns what was written at the time, without how the
// backends stood. The error says that the journal has no such request, or that a core says
// something else than it did.
func (j *Journal) Story(request uint64) ([]Moment, error) {
	t := storyteller{request: request, began: j.Began}
	if !j.Whole() {
		for i := range j.Entries {
			t.written(&j.Entries[i])
		}
	} else if err := verify(j.Entries, j.Seed, t.watch); err != nil {
		return nil, err
	}
	if len(t.out) == 0 && !j.Whole() {
		return nil, fmt.Errorf("the journal has no request %d; its beginning is gone, and may have had it", request)
	}
	if len(t.out) == 0 {
		return nil, fmt.Errorf("the journal has no request %d", request)
	}
	n := 0
	for i := range t.out {
		if t.out[i].Call == "choose" && t.out[i].Reason != upstream.InQueue.String() || t.out[i].Call == "granted" {
			n++
		}
		t.out[i].Attempt = n
	}
	return t.out, nil
}

// storyteller gathers what was decided of a request.
type storyteller struct {
	request uint64
	began   time.Time
	waits   string // the upstream in whose queue it waits
	out     []Moment
}

// watch returns what is to be noted of what a core says to an entry, nil for nothing.
func (t *storyteller) watch(e *Entry, core *upstream.Upstream) func(upstream.Verdict, upstream.Step, []upstream.Action) {
	m := Moment{At: t.began.Add(time.Duration(e.At)), Upstream: e.Upstream, Call: e.Call}
	ends := e.Call == "settle" || e.Call == "cancel"
	if granted := e.Call == "advance" && t.waits == e.Upstream; !granted && (e.Request.ID != t.request || e.Call != "choose" && !ends) {
		return nil
	}
	if !ends {
		for _, x := range core.Members(e.At) {
			m.Backends = append(m.Backends, Stood{x.Name, x.State.String(), whyNot(&x), x.Weight, x.InFlight})
		}
	}
	return func(v upstream.Verdict, s upstream.Step, actions []upstream.Action) {
		switch e.Call {
		case "choose":
			if v.Kind == upstream.Queued {
				t.waits = e.Upstream
			}
			t.chosen(m, core, v)
		case "advance":
			for _, x := range actions {
				if x.Kind == upstream.Granted && x.Grant.Request.ID == t.request {
					m.Call, t.waits = "granted", ""
					t.chosen(m, core, x.Grant.Verdict)
				}
			}
		case "settle", "cancel":
			t.ended(m, e, s == upstream.Again)
		}
	}
}

// written notes what an entry says of itself.
func (t *storyteller) written(e *Entry) {
	m := Moment{At: t.began.Add(time.Duration(e.At)), Upstream: e.Upstream, Call: e.Call}
	switch e.Call {
	case "choose", "advance":
		if e.Call == "advance" {
			m.Call = "granted"
		}
		for _, c := range e.Chosen {
			if c.Request == t.request {
				m.Backend, m.Reason = c.Backend, c.Reason
				t.out = append(t.out, m)
			}
		}
	case "settle", "cancel":
		if e.Request.ID == t.request {
			t.ended(m, e, e.Said == fmt.Sprint(upstream.Again))
		}
	}
}

// ended notes the end of an attempt.
func (t *storyteller) ended(m Moment, e *Entry, again bool) {
	switch {
	case e.Call == "cancel":
		m.Outcome = "the client left"
	case e.Outcome.Kind == upstream.Answered:
		m.Outcome, m.Again = fmt.Sprintf("answered %d", e.Outcome.Status), again
		if word := e.Outcome.RPCWord(); word != "" {
			m.Outcome += ", " + word
		}
	default:
		m.Outcome, m.Again = e.Outcome.Kind.String(), again
	}
	t.out = append(t.out, m)
}

// chosen notes a verdict.
func (t *storyteller) chosen(m Moment, core *upstream.Upstream, v upstream.Verdict) {
	m.Reason = core.ReasonWord(v.Reason)
	if v.Kind == upstream.Go {
		m.Backend = core.Backend(v.Backend).Name
	}
	t.out = append(t.out, m)
}

// whyNot returns why a backend could not be chosen; empty if it could.
func whyNot(m *upstream.Member) string {
	switch {
	case !m.State.InRotation():
		return "it is " + m.State.String()
	case m.Weight == 0:
		return "its weight is 0"
	case m.Full:
		return "it has max_in_flight open"
	}
	return ""
}
