package report

import (
	"fmt"
	"strings"

	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/study"
)

// sweepPage is what the page of a sweep shows, in words.
type sweepPage struct {
	pageTop
	Single, Limits []string
	When, More     string
	Marked         bool // a row is as bad as the worst
	Rows           []sweepRow
}

// SweepPage writes a sweep as a page of HTML that needs nothing besides itself. The
// error is that of writing it, which a buffer does not have.
func SweepPage(w *study.Sweep, version string) ([]byte, error) {
	of := w.Of
	names := strings.Join(of.Names, " · ")
	v := sweepPage{pageTop: top(names+" · kestrix sweep", version)}
	v.Of = fmt.Sprintf("%s · seed %d · %s in %s from %s", names, of.Seed, plural(of.Requests, "request"), span(of.Duration), plural(of.Clients, "client"))
	v.Headline = "Stopped before the first fault"
	if w.Worst != nil {
		v.Headline = "Worst case: " + worstOf(w)
		v.Bad = w.Worst.More > 0
	}
	v.Notes = append(Style{Width: 1 << 20}.noteLines(&result.Replay{Trace: of.Trace}), w.Notes...)
	v.Assumed = assumptions(of.Assumed)
	if w.Partial {
		v.Notes = append(v.Notes, fmt.Sprintf("Stopped early: %s of %s.", count(int64(len(w.Cases))), plural(int64(of.Cases), "case")))
	}
	for _, p := range w.Single {
		v.Single = append(v.Single, fmt.Sprintf("%s: %s has no other backend for its %s", p.Name, p.Upstream, plural(p.Requests, "request")))
	}
	for i := range w.Limits {
		text, _ := limitOf(&w.Limits[i], times(of.Assumed.OfTimes()))
		v.Limits = append(v.Limits, w.Limits[i].Upstream+": "+text)
	}
	if h := headroom(w, " · "); h != "" {
		v.Notes = append([]string{capital(h)}, v.Notes...)
	}
	v.When = capital(searchText(w)) + "."
	for _, k := range of.Kinds {
		v.When += fmt.Sprintf(" %s: %s.", k, scenario.FaultDoc(k))
	}
	v.Rows = append(v.Rows, nothing(w))
	const most = 500
	for i := range w.Cases {
		if i == most {
			v.More = fmt.Sprintf("The %d worst; -format json lists %d more.", most, len(w.Cases)-most)
			break
		}
		row := rowOf(w, &w.Cases[i])
		v.Marked = v.Marked || row.AsBad
		row.Wide = wide(max(w.Cases[i].More, 0) / max(w.Cases[0].More, 1))
		v.Rows = append(v.Rows, row)
	}
	return render("sweep", &v)
}
