package report

import (
	"fmt"
	"time"

	"kestrix/internal/core/check"
)

// Live writes what was seen of the machine as a table.
func (s Style) Live(rows []check.Seen) string {
	return s.fitted(func(s Style) string { return s.liveText(rows) })
}

func (s Style) liveText(rows []check.Seen) string {
	var cells [][]string
	for _, r := range rows {
		result := r.Result
		if !r.Good {
			result = s.red(r.Result)
		}
		duration := ""
		if r.Took > 0 {
			duration = milliseconds(r.Took)
		}
		cells = append(cells, []string{r.Kind, r.Who, r.What, result, duration, r.Detail})
	}
	return s.table([]column{
		{name: "kind", left: true}, {name: "who", left: true}, {name: "what", left: true}, {name: "result", left: true},
		{name: "duration", drop: 2}, {name: "detail", left: true, drop: 1},
	}, cells, 2)
}

func milliseconds(d time.Duration) string {
	ms := float64(d) / 1e6
	if ms >= 100 {
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f ms", ms)
}

// SeenJSON is what was seen of one thing, as JSON.
type SeenJSON struct {
	Kind   string  `json:"kind"`
	Who    string  `json:"who"`
	What   string  `json:"what"`
	Result string  `json:"result"`
	Detail string  `json:"detail"`
	Took   float64 `json:"duration"` // seconds
	Good   bool    `json:"good"`
}

// LiveJSON returns what was seen in the form that is written as JSON.
func LiveJSON(rows []check.Seen) []SeenJSON {
	out := []SeenJSON{}
	for _, r := range rows {
		out = append(out, SeenJSON{r.Kind, r.Who, r.What, r.Result, r.Detail, r.Took.Seconds(), r.Good})
	}
	return out
}
