package report

import (
	"fmt"
	"strings"
	"time"
)

// PastMoment is one thing that was decided of a past request.
type PastMoment struct {
	At                       time.Time
	Upstream, Call           string
	Attempt                  int
	Backend, Reason, Outcome string
	Again                    bool
	Backends                 []PastBackend
}

// PastBackend is how a backend stood then.
type PastBackend struct {
	Name, State, Why string
	Weight, InFlight int
}

// Past tells why a past request went where it went.
func (s Style) Past(request uint64, story []PastMoment, whole bool) string {
	return s.fitted(func(s Style) string { return s.pastText(request, story, whole) })
}

func (s Style) pastText(request uint64, story []PastMoment, whole bool) string {
	var b strings.Builder
	first := story[0]
	b.WriteString(s.bold(fmt.Sprintf("request %d%s%s", request, s.dot(), first.Upstream)) + s.dot() + first.At.UTC().Format("2006-01-02 15:04:05.000000 UTC") + "\n")
	for _, m := range story {
		after := "+" + span(m.At.Sub(first.At).Seconds())
		switch {
		case m.Call == "settle" && m.Again:
			fmt.Fprintf(&b, "\n  %s  %s: it is tried once more\n", after, s.warn(m.Outcome))
		case m.Call == "settle" || m.Call == "cancel":
			fmt.Fprintf(&b, "\n  %s  %s\n", after, m.Outcome)
		case m.Backend == "" && m.Reason == "queued":
			fmt.Fprintf(&b, "\n  %s  waits in the queue: no backend has capacity\n", after)
			s.pastBackends(&b, &m)
		case m.Backend == "":
			fmt.Fprintf(&b, "\n  %s  %s\n", after, s.red("refused: "+m.Reason))
			s.pastBackends(&b, &m)
		default:
			fmt.Fprintf(&b, "\n  %s  attempt %d goes to %s, by %s\n", after, m.Attempt, s.bold(m.Backend), m.Reason)
			s.pastBackends(&b, &m)
		}
	}
	if !whole {
		b.WriteString("\n" + flow("This is what was written at the time. The beginning of the journal is gone, so that how the backends stood cannot be computed again.", s.Width, 0) + "\n")
	}
	return b.String()
}

// pastBackends writes how all of them stood.
func (s Style) pastBackends(b *strings.Builder, m *PastMoment) {
	if len(m.Backends) == 0 {
		return
	}
	var rows [][]string
	for _, x := range m.Backends {
		why := x.Why
		if x.Name == m.Backend {
			why = "chosen"
		}
		rows = append(rows, []string{x.Name, s.stateWord(x.State, x.State), fmt.Sprint(x.Weight), count(int64(x.InFlight)), why})
	}
	b.WriteString(s.table([]column{{name: "backend", left: true}, {name: "state", left: true}, {name: "weight"}, {name: "in flight"}, {name: "", left: true}}, rows, 6))
}
