package report

import (
	"encoding/xml"
	"fmt"
	"strings"

	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// HeldAll is what came of several scenarios. The keys are documented and stable.
type HeldAll struct {
	Names     []string `json:"-"` // of the configuration and the traces
	Scenarios []Held   `json:"scenarios"`
	Met       int      `json:"met"` // expectations of all of them
	NotMet    int      `json:"not_met"`
	Partial   bool     `json:"partial"` // stopped before all were replayed
}

// Held is what came of one of them.
type Held struct {
	Scenario string         `json:"scenario"` // its file
	Met      int            `json:"met"`
	NotMet   int            `json:"not_met"`
	Result   *result.Replay `json:"result"`
}

// values words what an expectation was made of, with how many seeds it was met, and how close
// that was.
func values(v *scenario.Verdict) string {
	var out []string
	for _, n := range v.Names() {
		text := fmt.Sprintf("%s is %s", n, valueText(v.Values[n]))
		if r, ok := v.Ranges[n]; ok {
			text += fmt.Sprintf(" (%s to %s)", valueText(r[0]), valueText(r[1]))
		}
		out = append(out, text)
	}
	text := strings.Join(out, ", ")
	if v.Seeds > 1 {
		text += fmt.Sprintf("; met with %d of %d seeds", v.SeedsMet, v.Seeds)
	}
	if v.Share > 0 && v.Seeds > 1 {
		text += fmt.Sprintf(", %s of them required", three(v.Share*100)+" %")
	}
	if v.Close {
		text += "; close to the bound"
	}
	return text
}

// Held writes what came of several scenarios, and what was not met.
func (s Style) Held(h *HeldAll) string {
	return s.fitted(func(s Style) string { return s.heldText(h) })
}

func (s Style) heldText(h *HeldAll) string {
	var b strings.Builder
	b.WriteString(s.bold(flow(strings.Join(append(h.Names, plural(int64(len(h.Scenarios)), "scenario")), s.dot()), s.Width, 0)) + "\n")
	if h.Partial {
		b.WriteString(s.warn("stopped early: scenarios are missing") + "\n")
	}
	b.WriteByte('\n')
	cols := []column{{name: "scenario", left: true}, {name: "requests", drop: 3}, {name: "failed"}, {name: "error rate", drop: 1}, {name: "elapsed p99", drop: 2}, {name: "expectations", left: true}}
	var rows [][]string
	for _, x := range h.Scenarios {
		r := x.Result
		failed, came := count(r.Failed), fmt.Sprintf("%d met", x.Met)
		if r.Failed > 0 {
			failed = s.red(failed)
		}
		switch {
		case x.Met+x.NotMet == 0:
			came = "none"
		case x.NotMet > 0:
			came = s.red(fmt.Sprintf("%d of %d not met", x.NotMet, x.Met+x.NotMet))
		}
		rows = append(rows, []string{s.bold(strings.TrimSuffix(x.Scenario, ".scenario.hcl")), count(r.Requests), failed, finePercent(r.ErrorRate), timesOf(r).orDash(r.Elapsed.P99), came})
	}
	b.WriteString(s.table(cols, rows, 2))
	if h.NotMet > 0 {
		b.WriteString("\n" + s.bold("not met") + "\n")
	}
	for _, x := range h.Scenarios {
		for i := range x.Result.Expectations {
			if v := &x.Result.Expectations[i]; !v.Met {
				fmt.Fprintf(&b, "  %s: %s\n", s.bold(strings.TrimSuffix(x.Scenario, ".scenario.hcl")), v.Name)
				b.WriteString("    " + flow(v.That, s.Width, 4) + "\n    " + flow(values(v), s.Width, 4) + "\n")
			}
		}
	}
	fmt.Fprintf(&b, "\n%d of %s met\n", h.Met, plural(int64(h.Met+h.NotMet), "expectation"))
	return b.String()
}

// HeldJUnit writes what came of several scenarios in the XML that CI servers read: a
// suite a scenario, a case an expectation.
func HeldJUnit(h *HeldAll) ([]byte, error) {
	all := junitSuites{}
	for _, x := range h.Scenarios {
		s := junitSuite{Name: x.Scenario}
		for i := range x.Result.Expectations {
			v := &x.Result.Expectations[i]
			c := junitCase{Class: x.Scenario, Name: v.Name, Out: v.That + ": " + values(v)}
			if !v.Met {
				c.Out = ""
				c.Failure = &junitFailure{v.That + ": " + values(v), "not met", v.That + "\n" + values(v)}
				s.Failures++
			}
			s.Cases = append(s.Cases, c)
		}
		if len(s.Cases) == 0 {
			s.Cases = []junitCase{{Class: x.Scenario, Name: "nothing is expected", Out: fmt.Sprintf("%s, %s failed", plural(x.Result.Requests, "request"), count(x.Result.Failed))}}
		}
		s.Tests = len(s.Cases)
		all.Tests += s.Tests
		all.Failures += s.Failures
		all.Suites = append(all.Suites, s)
	}
	if h.Partial {
		all.Tests, all.Failures = all.Tests+1, all.Failures+1
		all.Suites = append(all.Suites, junitSuite{Name: "the replay", Tests: 1, Failures: 1, Cases: []junitCase{{Class: "the replay", Name: "ran to its end", Failure: &junitFailure{"it was stopped", "stopped", "it was stopped before all scenarios were replayed"}}}})
	}
	text, err := xml.MarshalIndent(all, "", "  ")
	return append([]byte(xml.Header), append(text, '\n')...), err
}
