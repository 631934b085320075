package report

import (
	"fmt"
	"strings"

	"kestrix/internal/core/result"
)

// DemoRow is one replay of the demo's story.
type DemoRow struct {
	Config   string
	Scenario string
	Result   *result.Replay
}

// Chapter is the heading of a step of the demo.
func (s Style) Chapter(n int, title, text string) string {
	line := fmt.Sprintf("%d  %s ", n, title)
	out := "\n" + s.bold(line+s.rule(max(s.Width-visible(line), 3))) + "\n"
	if text != "" {
		out += flow(text, s.Width, 0) + "\n"
	}
	return out
}

// Command shows a command as it would be typed.
func (s Style) Command(args []string) string {
	return "\n" + s.bold("$ kestrix "+strings.Join(args, " ")) + "\n"
}

// DemoTable sums the demo's replays up, a line each.
func (s Style) DemoTable(rows []DemoRow) string {
	var cells [][]string
	for _, r := range rows {
		failed := finePercent(r.Result.ErrorRate)
		if r.Result.Failed > 0 {
			failed = s.red(failed)
		}
		cells = append(cells, []string{
			s.bold(r.Config), r.Scenario, count(r.Result.Answered), count(r.Result.Failed), failed, count(r.Result.Retried),
			timesOf(r.Result).of(r.Result.Elapsed.P50), timesOf(r.Result).of(r.Result.Elapsed.P99), count(r.Result.Sessions.Misses),
		})
	}
	return s.table([]column{
		{name: "configuration", left: true}, {name: "scenario", left: true, drop: 1}, {name: "answered"}, {name: "failed"}, {name: ""},
		{name: "retried", drop: 2}, {name: "elapsed p50", drop: 3}, {name: "elapsed p99"}, {name: "sessions lost", drop: 4},
	}, cells, 2)
}
