package report

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/status"
)

// Status writes how a running proxy stands, a table for each upstream.
func (s Style) Status(x *status.Status, where string) string {
	return s.fitted(func(s Style) string { return s.statusText(x, where) })
}

func (s Style) statusText(x *status.Status, where string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "kestrix %s at %s", x.Version, where)
	if x.Proxy != "" {
		b.WriteString(" · " + x.Proxy)
	}
	fmt.Fprintf(&b, " · up %s", span(x.At.Sub(x.Began).Seconds()))
	if x.Counted.Sub(x.Began) > time.Second {
		fmt.Fprintf(&b, " · counted for %s", span(x.At.Sub(x.Counted).Seconds()))
	}
	b.WriteString("\n")
	for _, w := range warnings(x) {
		b.WriteString(flow(s.red("warning")+": "+w, s.Width, 2) + "\n")
	}
	b.WriteString("p50 and p99: to the first byte of responses, in the last 5m\n")
	b.WriteString(s.frontendsStatus(x))
	for i := range x.Upstreams {
		b.WriteString("\n" + s.upstreamStatus(x, &x.Upstreams[i]))
	}
	return b.String()
}

// frontendsStatus is a line for each frontend that had requests: what its clients got, and
// why they were refused.
func (s Style) frontendsStatus(x *status.Status) string {
	var b strings.Builder
	for _, f := range x.Frontends {
		var refused, closed []string
		for _, r := range x.Refused {
			if r.Frontend == f.Name {
				refused = append(refused, count(int64(r.Requests))+" "+r.Cause)
			}
		}
		for _, r := range x.Connections {
			if r.Frontend == f.Name {
				closed = append(closed, count(int64(r.Connections))+" "+r.Cause)
			}
		}
		if f.Answered+f.Failed+f.ClientLeft == 0 && closed == nil {
			continue
		}
		line := "\nfrontend " + s.bold(f.Name) + s.dot() + count(int64(f.Answered)) + " answered" + s.dot() + s.failures(f.Failed) + " failed"
		if f.ClientLeft > 0 {
			line += s.dot() + count(int64(f.ClientLeft)) + " whose client left"
		}
		if refused != nil {
			line += s.dot() + "without a backend: " + strings.Join(refused, ", ")
		}
		if closed != nil {
			line += s.dot() + "connections refused: " + strings.Join(closed, ", ")
		}
		b.WriteString(line + "\n" + s.routesStatus(f.Routes))
	}
	return b.String()
}

// errorsOf lists the failed requests of a route by cause.
func errorsOf(r *status.Route) string {
	var errors []string
	for _, why := range slices.Sorted(maps.Keys(r.Errors)) {
		errors = append(errors, count(int64(r.Errors[why]))+" "+why)
	}
	return strings.Join(errors, ", ")
}

// routesStatus is a table of the routes of a frontend that had requests; empty for a single
// one, which the line of its frontend describes.
func (s Style) routesStatus(routes []status.Route) string {
	if len(routes) < 2 {
		return ""
	}
	more := 0
	if !s.All {
		routes, more = worstRoutes(routes)
	}
	var rows [][]string
	for _, r := range routes {
		rows = append(rows, []string{
			cmp.Or(r.Name, "(no route)"), count(int64(r.Answered)), s.failures(r.Failed), count(int64(r.ClientLeft)), count(int64(r.Redirected)), latencySoFar(r.Elapsed.P50), latencySoFar(r.Elapsed.P99), errorsOf(&r),
		})
	}
	columns := []column{
		{name: "route", left: true}, {name: "answered"}, {name: "failed"}, {name: "client left", drop: 3}, {name: "redirected", drop: 4}, {name: "elapsed p50", drop: 2}, {name: "elapsed p99"}, {name: "errors", left: true, drop: 1},
	}
	if !slices.ContainsFunc(rows, func(r []string) bool { return r[len(r)-1] != "" }) {
		columns = columns[:len(columns)-1]
		for i := range rows {
			rows[i] = rows[i][:len(columns)]
		}
	}
	text := s.table(columns, rows, 2)
	if more > 0 {
		text += "  the ten with most failures; the other " + count(int64(more)) + " with -all\n"
	}
	return text
}

// worstRoutes returns the ten routes with most failures of more than thirty, and how many
// are left out.
func worstRoutes(routes []status.Route) (worst []status.Route, more int) {
	if len(routes) <= 30 {
		return routes, 0
	}
	worst = slices.Clone(routes)
	slices.SortStableFunc(worst, func(a, b status.Route) int {
		return cmp.Or(cmp.Compare(b.Failed, a.Failed), cmp.Compare(b.ClientLeft, a.ClientLeft), cmp.Compare(b.Answered, a.Answered))
	})
	return worst[:10], len(routes) - 10
}

// upstreamHead is the line above an upstream's backends.
func (s Style) upstreamHead(u *status.Upstream) string {
	head := s.bold(u.Name) + s.dot() + u.Algorithm
	in, rate := 0, 0.0
	for _, b := range u.Backends {
		if b.InRotation() {
			in++
		}
		rate += b.Rate
	}
	head += fmt.Sprintf("%s%d of %d in rotation%s%s req/s", s.dot(), in, len(u.Backends), s.dot(), three(rate))
	if in == 0 {
		head += s.dot() + s.red("no backend answers")
	}
	if u.Waiting > 0 {
		head += s.dot() + count(int64(u.Waiting)) + " waiting"
	}
	if u.Refused > 0 {
		head += s.dot() + count(int64(u.Refused)) + " refused"
	}
	return head
}

// groupsStatus is a line on the tiers and zones among which requests spill; empty without them.
func (s Style) groupsStatus(u *status.Upstream) string {
	if len(u.Groups) == 0 {
		return ""
	}
	return "  " + flow(groupsText(u), s.Width, 4) + "\n"
}

// groupsText words what each tier and zone has in flight and gets.
func groupsText(u *status.Upstream) string {
	own := slices.ContainsFunc(u.Groups, func(g status.Group) bool { return g.OwnZone })
	var parts []string
	for _, g := range u.Groups {
		name := fmt.Sprintf("tier %d", g.Tier)
		if g.OwnZone {
			name += ", own zone"
		} else if own {
			name += ", other zones"
		}
		switch {
		case g.Room == nil:
			name += ": gets " + percent(g.Share)
		case g.Share > 0:
			name += fmt.Sprintf(": %s of %s in flight, gets the next request", count(int64(g.InFlight)), strconv.FormatFloat(*g.Room, 'g', 3, 64))
		default:
			name += fmt.Sprintf(": %s of %s in flight", count(int64(g.InFlight)), strconv.FormatFloat(*g.Room, 'g', 3, 64))
		}
		parts = append(parts, name)
	}
	return strings.Join(parts, "; ")
}

func (s Style) upstreamStatus(x *status.Status, u *status.Upstream) string {
	shown, rest := u.Backends, ""
	if len(shown) > manyBackends && !s.All {
		shown = slices.Clone(shown)
		slices.SortStableFunc(shown, worseFirst)
		shown = shown[:worstBackend]
		rest = fmt.Sprintf("  the ten that are most amiss; the other %s with -all\n", count(int64(len(u.Backends)-worstBackend)))
	}
	var rows [][]string
	var zones, tiers, seats bool
	for _, b := range shown {
		zones, tiers, seats = zones || b.Zone != "", tiers || b.Tier != 1, seats || b.Seats > 0
	}
	var why strings.Builder // behind the table, where there is room for it
	for _, b := range shown {
		rows = append(rows, s.backendStatus(x, &b))
		if text := reasonOf(x, &b); text != "" {
			fmt.Fprintf(&why, "  %s: %s\n", s.bold(b.Name), text)
		}
		if s.All {
			fmt.Fprintf(&why, "  %s: %s\n", s.bold(b.Name), strings.Join(s.moreOf(&b, x.At), s.dot()))
		}
	}
	columns := []column{
		{name: "backend", left: true}, {name: "state", left: true}, {name: "for"}, {name: "share", left: true, drop: 3}, {name: ""}, {name: "fair share", drop: 5},
		{name: "in flight"}, {name: "rate"}, {name: "requests", drop: 4}, {name: "failed"}, {name: "p50", drop: 7}, {name: "p99", drop: 2}, {name: "weight", drop: 6},
		{name: "zone", left: true, drop: 8}, {name: "tier", drop: 9}, {name: "sessions", drop: 10},
	}
	// What no backend has needs no column.
	for i, has := range []bool{zones, tiers, seats} {
		if !has {
			columns[13+i].name = ""
		}
	}
	for i := len(columns) - 1; i >= 13; i-- {
		if columns[i].name == "" {
			columns = slices.Delete(columns, i, i+1)
			for j := range rows {
				rows[j] = slices.Delete(rows[j], i, i+1)
			}
		}
	}
	return s.upstreamHead(u) + "\n" + s.groupsStatus(u) + s.table(columns, rows, 2) + rest + why.String()
}

// moreOf says of a backend what has no column.
func (s Style) moreOf(b *status.Backend, at time.Time) []string {
	parts := []string{b.Address}
	if b.Zone != "" {
		parts = append(parts, "zone "+b.Zone)
	}
	if b.Tier != 1 {
		parts = append(parts, fmt.Sprintf("tier %d", b.Tier))
	}
	parts = append(parts, plural(int64(b.Requests), "request"), "statuses "+classes(b.Statuses), bytesText(int64(b.Bytes)), plural(int64(b.Seats), "session")+" given")
	parts = append(parts, "clients left "+count(int64(b.ClientLeft)), "since the counters began p50 "+latencySoFar(b.Total.P50)+", p99 "+latencySoFar(b.Total.P99), "elapsed p50 "+latencySoFar(b.Elapsed.P50)+", p99 "+latencySoFar(b.Elapsed.P99))
	if p := b.Probe; p != nil && p.Passed {
		parts = append(parts, fmt.Sprintf("probe passed %s ago, in %s", age(at.Sub(p.At)), span(p.Took)))
	} else if p != nil {
		parts = append(parts, fmt.Sprintf("probe failed %s ago: %s", age(at.Sub(p.At)), p.Why))
	}
	return parts
}

func (s Style) backendStatus(x *status.Status, b *status.Backend) []string {
	return []string{
		b.Name, s.stateWord(b.State, stateText(b)), span(x.At.Sub(b.Since).Seconds()), s.bar(b.Share, 12), percent(b.Share), percent(b.FairShare), count(int64(b.InFlight)), three(b.Rate) + "/s",
		count(int64(b.Requests)), s.failures(b.Failed), latencySoFar(b.P50), latencySoFar(b.P99), strconv.Itoa(b.Weight), b.Zone, strconv.Itoa(b.Tier), count(int64(b.Seats)),
	}
}

// stateText words the state of a backend, and the one that it hides.
func stateText(b *status.Backend) string {
	if b.Beneath != "" {
		return b.State + ", " + b.Beneath
	}
	return b.State
}

// stateWord underlines with colour what a state says.
func (s Style) stateWord(state, text string) string {
	switch state {
	case "up":
		return text
	case "down":
		return s.red(text)
	}
	return s.warn(text)
}

// failures writes how many there were.
func (s Style) failures(n uint64) string {
	if n == 0 {
		return "0"
	}
	return s.red(count(int64(n)))
}

// latencySoFar writes seconds, or that there is nothing yet.
func latencySoFar(v float64) string {
	if v == 0 {
		return "-"
	}
	return span(v)
}

// worthTelling is how long a backend may be silent before that is told.
const worthTelling = time.Second

// reasonOf returns why a backend stands as it does, where that is worth a line.
func reasonOf(x *status.Status, b *status.Backend) string {
	switch {
	case b.ReportedShare != nil && b.State == "up" && b.ByHand == "":
		return fmt.Sprintf("it reports that it can take %s: of its weight, %d, %s is in force", percent(*b.ReportedShare), b.Weight, three(float64(b.Weight)**b.ReportedShare))
	case b.Rest > 0:
		return fmt.Sprintf("%s; out for another %s", b.Why, span(b.Rest))
	case b.SilentSince != nil && x.At.Sub(*b.SilentSince) >= worthTelling:
		text := fmt.Sprintf("no first byte to any client for %s", span(x.At.Sub(*b.SilentSince).Seconds()))
		if b.ClientLeft > 0 {
			text += "; " + plural(int64(b.ClientLeft), "client") + " left before one"
		}
		if b.ByHand != "" {
			text += "; by hand: " + byHand(x, b)
		}
		return text
	case b.ByHand != "":
		return "by hand: " + byHand(x, b)
	case b.State != "up":
		return b.Why
	case b.Probe != nil && !b.Probe.Passed:
		return "the last probe failed: " + b.Probe.Why
	}
	return ""
}

// byHand words what an operator set of a backend, for how long, and why.
func byHand(x *status.Status, b *status.Backend) string {
	var words []string
	for _, o := range b.Orders {
		what := map[string]string{"drain": "draining", "park": "parked"}[o.Do]
		if o.Do == "weight" {
			what = fmt.Sprintf("weight %d where the file says %d", o.Weight, o.Configured)
		}
		if o.Until != nil {
			what += ", for another " + span(o.Until.Sub(x.At).Seconds())
		}
		if o.Because != "" {
			what += ", because " + o.Because
		}
		words = append(words, what)
	}
	if len(words) == 0 {
		return b.ByHand // of a proxy that says no more
	}
	return strings.Join(words, "; ")
}

// StatusCSV writes a row for each backend.
func StatusCSV(w io.Writer, x *status.Status) error {
	out := csv.NewWriter(w)
	rows := [][]string{{
		"upstream", "backend", "address", "state", "why", "since", "rest", "by_hand", "zone", "tier", "weight", "share", "fair_share", "in_flight", "requests", "failed", "client_left",
		"1xx", "2xx", "3xx", "4xx", "5xx", "bytes", "rate", "p50", "p99", "seats", "probe_at", "probe_took", "probe_passed", "probe_why",
	}}
	for _, u := range x.Upstreams {
		for _, b := range u.Backends {
			f := func(v float64) string { return strconv.FormatFloat(v, 'g', 6, 64) }
			n := func(v uint64) string { return strconv.FormatUint(v, 10) }
			probe := []string{"", "", "", ""}
			if p := b.Probe; p != nil {
				probe = []string{p.At.UTC().Format(time.RFC3339Nano), f(p.Took), strconv.FormatBool(p.Passed), p.Why}
			}
			rows = append(rows, append([]string{
				u.Name, b.Name, b.Address, b.State, b.Why, b.Since.UTC().Format(time.RFC3339Nano), f(b.Rest), b.ByHand, b.Zone, strconv.Itoa(b.Tier), strconv.Itoa(b.Weight),
				f(b.Share), f(b.FairShare), strconv.Itoa(b.InFlight), n(b.Requests), n(b.Failed), n(b.ClientLeft), n(b.Statuses[0]), n(b.Statuses[1]), n(b.Statuses[2]), n(b.Statuses[3]), n(b.Statuses[4]),
				n(b.Bytes), f(b.Rate), f(b.P50), f(b.P99), n(b.Seats),
			}, probe...))
		}
	}
	return out.WriteAll(rows)
}
