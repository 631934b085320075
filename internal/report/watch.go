package report

import (
	"fmt"
	"strconv"
	"strings"

	"kestrix/internal/core/status"
)

// Watch is what the terminal view shows of a running proxy.
type Watch struct {
	View    *status.View
	Where   string // the proxy is asked
	Chosen  string // UPSTREAM.BACKEND; empty for none
	Height  int    // lines there are
	Ask     string // a question that waits for an answer; empty for none
	Said    string // what came of the last order
	Trouble string // nobody answers; empty if somebody does
}

// marks are the states as characters, told apart without colour.
var marks = map[string][2]string{
	"up": {"●", "*"}, "failing": {"◐", "!"}, "down": {"✕", "x"}, "recovering": {"↑", "+"}, "unprobed": {"◌", "?"}, "suspended": {"‖", "="}, "draining": {"▽", "v"}, "parked": {"□", "#"},
}

// watchSpark is how many columns the last five minutes take.
const watchSpark = 20

// Watch draws the view: no more lines than there are, with the chosen backend
// among them.
func (s Style) Watch(w *Watch) string {
	s.Terminal = true // the view has no other place
	x := w.View.Status
	head := fmt.Sprintf("kestrix %s at %s%sup %s%s%s%sp50 and p99 of the last 5m", x.Version, w.Where, s.dot(), age(x.At.Sub(x.Began)), s.dot(), x.At.Local().Format("15:04:05 MST"), s.dot())
	say, bad := headline(x)
	say = clip(say, s.Width)
	if bad {
		say = s.red(say)
	}
	top := []string{clip(head, s.Width), s.bold(say)}
	if all := warnings(x); len(all) > 0 {
		of := ""
		if len(all) > 1 {
			of = fmt.Sprintf(" (1 of %d: kestrix status)", len(all))
		}
		top = append(top, s.red(clip("warning"+of+": "+all[0], s.Width)))
	}
	top = append(top, "")
	var body []string
	chosen := 0
	if hidden := s.fit(func(s Style) { body, chosen = s.watchBody(w) }); len(hidden) > 0 {
		body = append(body, clip(hiddenNote(hidden), s.Width))
	}
	foot := s.watchFoot(w)
	// What happened has a third of the lines, or what the backends leave of them.
	room := max(w.Height-len(top)-len(foot)-1, 2)
	events := s.watchEvents(w, max(room/3, room-len(body)-1))
	from := 0
	if rows := max(room-len(events), 1); len(body) > rows {
		rows = max(rows-1, 1)
		from = min(max(0, chosen-rows/2), len(body)-rows)
		more := fmt.Sprintf("(lines %d to %d of %d; the arrow keys go on)", from+1, from+rows, len(body))
		body = append(body[from:from+rows:from+rows], clip(more, s.Width))
	}
	lines := append(append(append(top, body...), ""), events...)
	for len(lines) < w.Height-len(foot) {
		lines = append(lines, "")
	}
	lines = append(lines[:min(len(lines), max(w.Height-len(foot), 0))], foot...)
	return strings.Join(lines, "\n")
}

// watchBody draws the upstreams, and returns the line of the chosen backend.
func (s Style) watchBody(w *Watch) (lines []string, chosen int) {
	for i := range w.View.Status.Upstreams {
		u := &w.View.Status.Upstreams[i]
		if i > 0 {
			lines = append(lines, "")
		}
		lines = append(lines, s.upstreamHead(u))
		most := uint32(0)
		for _, b := range u.Backends {
			if b.Recent != nil {
				for _, n := range b.Recent.Requests {
					most = max(most, n)
				}
			}
		}
		var rows [][]string
		for j := range u.Backends {
			rows = append(rows, s.watchRow(w, u, &u.Backends[j], most))
		}
		columns := []column{
			{name: "  backend", left: true}, {name: "state", left: true}, {name: "for", drop: 7}, {name: "last 5 minutes", left: true, drop: 2}, {name: "rate"}, {name: "share", drop: 3}, {name: "fair share", drop: 4},
			{name: "in flight"}, {name: "failed"}, {name: "p50", drop: 9}, {name: "p99", drop: 1}, {name: "weight", drop: 8},
		}
		zones, tiers := placed(w.View.Status)
		if zones {
			columns = append(columns, column{name: "zone", left: true, drop: 6})
		}
		if tiers {
			columns = append(columns, column{name: "tier", drop: 5})
		}
		table := strings.Split(strings.TrimSuffix(s.table(columns, rows, 2), "\n"), "\n")
		for j := range u.Backends {
			if u.Name+"."+u.Backends[j].Name == w.Chosen {
				chosen = len(lines) + 1 + j
			}
		}
		for j, l := range table {
			lines = append(lines, l)
			if j == 0 || j > len(u.Backends) {
				continue
			}
			// The reason stands behind its backend where there is room; it is in the last lines for the chosen one.
			b := &u.Backends[j-1]
			if text := reasonOf(w.View.Status, b); text != "" && visible(l)+visible(text)+4 <= s.Width {
				lines[len(lines)-1] += "  " + text
			}
		}
	}
	return lines, chosen
}

func (s Style) watchRow(w *Watch, u *status.Upstream, b *status.Backend, most uint32) []string {
	name, cursor := b.Name, "  "
	if u.Name+"."+b.Name == w.Chosen {
		cursor = "> "
		if s.Unicode {
			cursor = "▸ "
		}
		name = s.bold(name)
	}
	mark := marks[b.State][1]
	if s.Unicode {
		mark = marks[b.State][0]
	}
	// The columns of all upstreams stand below each other, for most figures.
	row := []string{
		padRight(cursor+name, 2+longestName(w.View.Status)), padRight(s.stateWord(b.State, mark+" "+stateText(b)), 12), padLeft(age(w.View.Status.At.Sub(b.Since)), 9), s.latelySpark(b.Recent, most),
		padLeft(three(b.Rate)+"/s", 8), padLeft(percent(b.Share), 7), percent(b.FairShare),
		count(int64(b.InFlight)), padLeft(s.failures(b.Failed), 7), padLeft(latencySoFar(b.P50), 7), padLeft(latencySoFar(b.P99), 7), count(int64(b.Weight)),
	}
	zones, tiers := placed(w.View.Status)
	if zones {
		row = append(row, b.Zone)
	}
	if tiers {
		row = append(row, strconv.Itoa(b.Tier))
	}
	return row
}

// placed reports whether a backend has a zone, and whether one has another tier than the
// first.
func placed(x *status.Status) (zones, tiers bool) {
	for _, u := range x.Upstreams {
		for _, b := range u.Backends {
			zones, tiers = zones || b.Zone != "", tiers || b.Tier > 1
		}
	}
	return zones, tiers
}

// longestName is how long the longest name of a backend is.
func longestName(x *status.Status) int {
	n := 0
	for _, u := range x.Upstreams {
		for _, b := range u.Backends {
			n = max(n, visible(b.Name))
		}
	}
	return n
}

// latelySpark draws what was asked in the last five minutes.
func (s Style) latelySpark(r *status.Recent, most uint32) string {
	values := make([]float64, watchSpark)
	if r != nil && len(r.Requests) > 1 {
		per := latelySteps / watchSpark
		n := len(r.Requests) - 1 // the last is not over yet
		for i, v := range r.Requests[:n] {
			at := watchSpark - 1 - (n-1-i)/per
			values[at] += float64(v) / float64(min(per, n-(watchSpark-1-at)*per))
		}
	}
	return padRight(s.spark(values, float64(most)), watchSpark)
}

// watchEvents writes the latest news, the newest first.
func (s Style) watchEvents(w *Watch, most int) []string {
	lines := []string{s.bold("event log")}
	for _, n := range w.View.Events {
		if len(lines) >= most {
			break
		}
		lines = append(lines, clip(strings.TrimRight(fmt.Sprintf("  %s  %-16s  %-10s  %s", n.At.Local().Format("15:04:05"), n.Object, n.Kind, n.Text), " "), s.Width))
	}
	if len(lines) == 1 {
		lines = append(lines, "  nothing yet")
	}
	return lines
}

// watchFoot is what can be done, or what is asked.
func (s Style) watchFoot(w *Watch) []string {
	keys := "up, down choose" + s.dot() + "d drain" + s.dot() + "p park" + s.dot() + "r return" + s.dot() + "w weight" + s.dot() + "q leave"
	if s.Unicode {
		keys = "↑ ↓ choose" + strings.TrimPrefix(keys, "up, down choose")
	}
	said := w.Said
	if w.Trouble != "" {
		said = s.red(w.Trouble)
	}
	if w.Ask != "" {
		return strings.Split(s.bold(flow(w.Ask, s.Width, 0)), "\n")
	}
	var lines []string
	if about := s.watchAbout(w); about != "" {
		lines = append(lines, strings.Split(flow(about, s.Width, 0), "\n")...)
	}
	if said != "" {
		lines = append(lines, strings.Split(flow(said, s.Width, 0), "\n")...)
	}
	return append(lines, clip(keys, s.Width))
}

// watchAbout tells of the chosen backend what its row has no room for.
func (s Style) watchAbout(w *Watch) string {
	for i := range w.View.Status.Upstreams {
		u := &w.View.Status.Upstreams[i]
		for j := range u.Backends {
			b := &u.Backends[j]
			if u.Name+"."+b.Name != w.Chosen {
				continue
			}
			parts := []string{s.bold(w.Chosen)}
			if text := reasonOf(w.View.Status, b); text != "" {
				parts = append(parts, text)
			}
			parts = append(parts, s.moreOf(b, w.View.Status.At)...)
			return strings.Join(parts, s.dot())
		}
	}
	return ""
}
