package report

import (
	"bytes"
	"cmp"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/health"
	"kestrix/internal/core/status"
)

//go:embed page/status.html
var statusHTML string

//go:embed page/status.css
var statusCSS string

//go:embed page/status.js
var statusJS []byte

//go:embed page/icon.svg
var statusIcon []byte

var statusPages = template.Must(template.Must(template.New("").Parse(keptHTML)).Parse(statusHTML))

// StatusPage makes the page that a running proxy shows operators.
type StatusPage struct{}

// Page is the whole page.
func (StatusPage) Page(v *status.View) ([]byte, error) { return renderStatus("status", v) }

// Part is what of the page changes with time.
func (StatusPage) Part(v *status.View) ([]byte, error) { return renderStatus("status-part", v) }

// Asset returns a file that the page needs, by its path; nil if there is none.
func (StatusPage) Asset(path string) (kind string, body []byte) {
	switch path {
	case "/page.css":
		return "text/css; charset=utf-8", []byte(pageCSS + statusCSS)
	case "/page.js":
		return "text/javascript; charset=utf-8", statusJS
	case "/icon.svg":
		return "image/svg+xml", statusIcon
	}
	return "", nil
}

// CSV writes a row for each backend.
func (StatusPage) CSV(w io.Writer, s *status.Status) error { return StatusCSV(w, s) }

func renderStatus(name string, v *status.View) ([]byte, error) {
	var b bytes.Buffer
	if err := statusPages.ExecuteTemplate(&b, name, newStatusPage(v)); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// statusPage is what the page shows, in words.
type statusPage struct {
	Title, Headline, Of string
	At                  string // of the proxy's clock, as all times of the page
	Bad, Operator       bool
	Warnings            []string // of the proxy itself
	Figures             []pageFigure
	Routes              []statusRoute
	MoreRoutes          string // how many are not shown; empty for none
	Upstreams           []statusCard
	Failed              []keptRow // three of each cause
	Events              []statusEvent
}

// statusRoute is a row for a route that had requests.
type statusRoute struct {
	// Link leads to its kept requests; empty for none.
	Link                                                                        string
	Frontend, Route, Answered, Failed, ClientLeft, Redirected, P50, P99, Errors string
	Bad                                                                         bool
}

// newStatusRoutes returns the rows of all frontends, and how many are left out.
func newStatusRoutes(s *status.Status) (rows []statusRoute, left int) {
	for _, f := range s.Frontends {
		shown, more := worstRoutes(f.Routes)
		left += more
		for i := range shown {
			r := &shown[i]
			link := ""
			if r.Name != "" { // no query selects those without a route alone
				link = "requests.html?" + url.Values{"frontend": {f.Name}, "route": {r.Name}}.Encode()
			}
			rows = append(rows, statusRoute{
				Link:     link,
				Frontend: f.Name, Route: cmp.Or(r.Name, "(no route)"), Answered: count(int64(r.Answered)), Failed: count(int64(r.Failed)), ClientLeft: count(int64(r.ClientLeft)),
				Redirected: count(int64(r.Redirected)), P50: latencySoFar(r.Elapsed.P50), P99: latencySoFar(r.Elapsed.P99), Errors: errorsOf(r), Bad: r.Failed > 0,
			})
		}
	}
	return rows, left
}

type statusCard struct {
	Name, Says, Bad, More string
	Backends              []statusBackend
	Rows                  bool // there are many: a row for each instead of a card
}

type statusBackend struct {
	ID, Name, State, For, Why, ByHand string
	Mark                              template.HTML
	Out                               bool
	Share, Fair, ShareWide, FairWide  string
	Asked, Broke, Rate, Over, Most    string
	FailedLately                      string
	InFlight, Weight                  int
	Figures, Lines                    []pageFigure
	NoDrain, NoPark, NoReturn         bool
}

type statusEvent struct{ At, Exact, Object, Kind, Text string }

// shapes are the states as drawings, told apart without colour.
var shapes = map[string]template.HTML{
	"up":         `<circle class="full" cx="6" cy="6" r="5"></circle>`,
	"failing":    `<circle cx="6" cy="6" r="4.6"></circle><path class="full" d="M6 1a5 5 0 0 1 0 10z"></path>`,
	"down":       `<path d="M1.5 1.5l9 9M10.5 1.5l-9 9"></path>`,
	"unprobed":   `<circle cx="6" cy="6" r="4.6" stroke-dasharray="2 2"></circle>`,
	"recovering": `<circle cx="6" cy="6" r="4.6"></circle><path d="M6 9V3M3.5 5.5L6 3l2.5 2.5"></path>`,
	"suspended":  `<path d="M3.5 1v10M8.5 1v10"></path>`,
	"draining":   `<path d="M1 2h10L6 11z"></path>`,
	"parked":     `<rect x="1.2" y="1.2" width="9.6" height="9.6"></rect>`,
}

// headline says in one line how a proxy stands, and whether that is bad.
func headline(s *status.Status) (text string, bad bool) {
	all, out := 0, []string{}
	var silent []string
	for _, u := range s.Upstreams {
		in := 0
		for _, b := range u.Backends {
			all++
			if b.InRotation() {
				in++
			} else {
				state := stateText(&b)
				if health.InRotation(state) {
					state = "without weight"
				}
				out = append(out, u.Name+"."+b.Name+" is "+state)
			}
		}
		if in == 0 {
			silent = append(silent, u.Name)
		}
	}
	switch {
	case len(silent) > 0:
		return "No backend answers for " + strings.Join(silent, ", "), true
	case all == 0:
		return "There is no backend", true
	case len(out) == 0 && all == 1:
		return "The one backend is in rotation", false
	case len(out) == 0:
		return fmt.Sprintf("All %s backends are in rotation", count(int64(all))), false
	}
	text = fmt.Sprintf("%s of %s backends out of rotation: ", count(int64(len(out))), count(int64(all)))
	if len(out) > 3 {
		return text + strings.Join(out[:3], ", ") + fmt.Sprintf(" and %d more", len(out)-3), true
	}
	return text + strings.Join(out, ", "), true
}

// age writes for how long something has been, coarsely: it stands still unless
// it matters.
func age(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", max(0, int(d/time.Second)))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d/time.Minute))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d/time.Hour), int(d/time.Minute)%60)
	}
	return fmt.Sprintf("%d days", int(d/(24*time.Hour)))
}

func newStatusPage(v *status.View) *statusPage {
	s := v.Status
	p := &statusPage{Operator: v.Operator}
	p.Headline, p.Bad = headline(s)
	p.Title = p.Headline + " · Kestrix"
	p.At = s.At.UTC().Format("15:04:05 UTC")
	p.Warnings = warnings(s)
	on := ""
	if s.Proxy != "" {
		on = " on " + s.Proxy
	}
	p.Of = fmt.Sprintf("kestrix %s%s, up for %s; counted for %s; as of %s. Times are to the first byte of responses, in the last 5m.", s.Version, on, age(s.At.Sub(s.Began)), age(s.At.Sub(s.Counted)), p.At)
	if v.User != "" {
		p.Of += "; you are " + v.User
		if !v.Operator {
			p.Of += ", a reader"
		}
	}
	var rate float64
	var open, waiting int
	var asked, failed, left, refused uint64
	for _, f := range s.Frontends {
		asked += f.Answered + f.Failed + f.ClientLeft
		failed += f.Failed
		left += f.ClientLeft
	}
	for i := range s.Upstreams {
		u := &s.Upstreams[i]
		waiting += u.Waiting
		refused += u.Refused
		for _, b := range u.Backends {
			rate += b.Rate
			open += b.InFlight
		}
		p.Upstreams = append(p.Upstreams, newStatusCard(s, u))
	}
	var hidden int
	if p.Routes, hidden = newStatusRoutes(s); hidden > 0 {
		p.MoreRoutes = plural(int64(hidden), "more route") + " with fewer failures, in the JSON below."
	}
	p.Figures = []pageFigure{
		{Name: "req/s", Value: three(rate)},
		{Name: "In flight", Value: count(int64(open))},
		{Name: "Queued", Value: count(int64(waiting)), Bad: waiting > 0},
		{Name: "Requests", Value: count(int64(asked))},
		{Name: "Failed", Value: count(int64(failed)), More: shareOf(failed, asked), Bad: failed > 0},
		{Name: "Left by clients", Value: count(int64(left)), More: shareOf(left, asked)},
		{Name: "Refused: no backend available", Value: count(int64(refused)), Bad: refused > 0},
	}
	p.Failed = samplesByCause(v.Failed)
	for _, n := range v.Events {
		p.Events = append(p.Events, statusEvent{At: n.At.UTC().Format("15:04:05.0"), Exact: n.At.UTC().Format(time.RFC3339Nano), Object: n.Object, Kind: string(n.Kind), Text: n.Text})
	}
	return p
}

// shareOf writes a part in per cent, where there is one.
func shareOf(part, whole uint64) string {
	if part == 0 || whole == 0 {
		return ""
	}
	return finePercent(float64(part) / float64(whole))
}

// Of more backends than many only the worst are shown, so many. The drawing of
// the last minutes is so large, and has room for so many steps.
const (
	manyBackends = 30
	rowsFrom     = 8 // so many have a row each instead of a card
	worstBackend = 10
	latelyWide   = 240.0
	latelyHigh   = 40.0
	latelySteps  = 60
)

func newStatusCard(s *status.Status, u *status.Upstream) statusCard {
	c := statusCard{Name: u.Name}
	in, rate, most := 0, 0.0, uint32(0)
	for _, b := range u.Backends {
		if b.InRotation() {
			in++
		}
		rate += b.Rate
		if b.Recent != nil && len(b.Recent.Requests) > 0 {
			most = max(most, slices.Max(b.Recent.Requests))
		}
	}
	c.Says = fmt.Sprintf("%s; %d of %s in rotation; %s req/s", u.Algorithm, in, plural(int64(len(u.Backends)), "backend"), three(rate))
	if u.Waiting > 0 {
		c.Says += fmt.Sprintf("; %s waiting", count(int64(u.Waiting)))
	}
	if u.Refused > 0 {
		c.Says += fmt.Sprintf("; %s refused: no backend available", count(int64(u.Refused)))
	}
	if len(u.Groups) > 0 {
		c.Says += ". " + capital(groupsText(u))
	}
	if in == 0 {
		c.Bad = "No backend is available: every request is refused."
	}
	shown := u.Backends
	c.Rows = len(shown) >= rowsFrom
	if len(shown) > manyBackends {
		shown = slices.Clone(shown)
		slices.SortStableFunc(shown, worseFirst)
		shown = shown[:worstBackend]
		c.More = fmt.Sprintf("The ten worst; the JSON and CSV below list %s more.", count(int64(len(u.Backends)-worstBackend)))
	}
	for i := range shown {
		c.Backends = append(c.Backends, newStatusBackend(s, u, &shown[i], most))
	}
	return c
}

// worseFirst puts first what is out of rotation, then what fails, then what has
// the least of its share.
func worseFirst(a, b status.Backend) int {
	rank := func(x *status.Backend) float64 {
		r := x.FairShare - x.Share
		if !x.InRotation() {
			r += 1e6
		}
		if x.State != "up" {
			r += 1e5
		}
		if x.Requests > 0 {
			r += 1e4 * float64(x.Failed) / float64(x.Requests)
		}
		return -r
	}
	ra, rb := rank(&a), rank(&b)
	switch {
	case ra < rb:
		return -1
	case ra > rb:
		return 1
	}
	return 0
}

func newStatusBackend(s *status.Status, u *status.Upstream, b *status.Backend, most uint32) statusBackend {
	x := statusBackend{
		ID: u.Name + "." + b.Name, Name: b.Name, State: stateText(b), For: age(s.At.Sub(b.Since)), Why: reasonOf(s, b), ByHand: b.ByHand, Mark: shapes[b.State], Out: !b.InRotation(),
		Share: percent(b.Share), Fair: percent(b.FairShare), ShareWide: wide(b.Share), FairWide: wide(b.FairShare), Rate: three(b.Rate), InFlight: b.InFlight, Weight: b.Weight,
		NoDrain: b.State == "draining", NoPark: b.State == "parked", NoReturn: b.ByHand == "",
	}
	x.lately(b.Recent, most)
	latency := func(v float64) string {
		if v == 0 {
			return "none yet"
		}
		return span(v)
	}
	fig := func(name, value string, bad bool) {
		x.Figures = append(x.Figures, pageFigure{Name: name, Value: value, Bad: bad})
	}
	line := func(name, value string, bad bool) {
		x.Lines = append(x.Lines, pageFigure{Name: name, Value: value, Bad: bad})
	}
	fig("In flight", count(int64(b.InFlight)), false)
	fig("p50", latency(b.P50), false)
	fig("p99", latency(b.P99), false)
	fig("Requests", count(int64(b.Requests)), false)
	fig("Failed", count(int64(b.Failed)), b.Failed > 0)
	fig("Weight", strconv.Itoa(b.Weight), false)
	fig("Bytes", bytesText(int64(b.Bytes)), false)
	fig("Seats", count(int64(b.Seats)), false)
	if b.Tier != 1 {
		fig("Tier", strconv.Itoa(b.Tier), false)
	}
	if b.Zone != "" {
		fig("Zone", b.Zone, false)
	}
	line("Statuses", classes(b.Statuses), false)
	if b.ClientLeft > 0 {
		line("Clients that left before an answer began", count(int64(b.ClientLeft)), false)
	}
	line("Since the counters began", fmt.Sprintf("p50 %s, p99 %s", latency(b.Total.P50), latency(b.Total.P99)), false)
	line("Elapsed", fmt.Sprintf("p50 %s, p99 %s", latency(b.Elapsed.P50), latency(b.Elapsed.P99)), false)
	if p := b.Probe; p != nil {
		said := fmt.Sprintf("passed %s ago, in %s", age(s.At.Sub(p.At)), span(p.Took))
		if !p.Passed {
			said = fmt.Sprintf("failed %s ago: %s", age(s.At.Sub(p.At)), p.Why)
		}
		line("Last probe", said, !p.Passed)
	}
	line("Address", b.Address, false)
	return x
}

// lately draws what was asked in the last minutes, against the most of its upstream.
func (x *statusBackend) lately(r *status.Recent, most uint32) {
	x.Over, x.Most = "5m", "0"
	if r == nil || len(r.Requests) < 2 {
		return
	}
	n := len(r.Requests) - 1 // the last is not over yet
	own, failed := slices.Max(r.Requests[:n]), uint32(0)
	for _, f := range r.Failed {
		failed += f
	}
	x.Most = three(float64(own) / r.Step)
	if failed > 0 {
		x.FailedLately = count(int64(failed))
	}
	draw := func(values []uint32) string {
		var b strings.Builder
		for i, v := range values {
			at := latelyWide * float64(latelySteps-len(values)+i+1) / latelySteps
			fmt.Fprintf(&b, "%.0f,%.1f ", at, latelyHigh-1-(latelyHigh-3)*float64(v)/float64(max(most, 1)))
		}
		return strings.TrimSpace(b.String())
	}
	x.Asked = draw(r.Requests[:n])
	if failed > 0 {
		x.Broke = draw(r.Failed[:n])
	}
}

// classes writes answers by class of status, those there were.
func classes(n [5]uint64) string {
	var out []string
	for i, c := range n {
		if c > 0 {
			out = append(out, fmt.Sprintf("%dxx %s", i+1, count(int64(c))))
		}
	}
	if out == nil {
		return "none yet"
	}
	return strings.Join(out, ", ")
}
