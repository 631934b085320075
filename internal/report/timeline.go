package report

import (
	"encoding/csv"
	"io"
	"strconv"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
)

// TimelineCSV writes the course of a replay as comma-separated values with a
// header row: for each bucket the time it began, in seconds, what was answered
// and failed, percentiles of how long answers took, in seconds, and of every backend
// the attempts begun and those open at its end. The error is that of writing.
func TimelineCSV(w io.Writer, c *config.Config, r *result.Replay) error {
	out := csv.NewWriter(w)
	row := []string{"at", "answered", "failed", "client_left", "p50", "p95", "p99"}
	for _, u := range c.Upstreams {
		for _, b := range u.Backends {
			row = append(row, u.Name+"."+b.Name+" requests", u.Name+"."+b.Name+" in_flight")
		}
	}
	if err := out.Write(row); err != nil {
		return err
	}
	number := func(x float64) string { return strconv.FormatFloat(x, 'f', -1, 64) }
	for _, x := range r.Timeline.Rows {
		row = append(row[:0], number(x.At), strconv.FormatInt(x.Answered, 10), strconv.FormatInt(x.Failed, 10), strconv.FormatInt(x.ClientLeft, 10), number(x.P50), number(x.P95), number(x.P99))
		for _, u := range c.Upstreams {
			for _, b := range u.Backends {
				box := x.Upstreams[u.Name][b.Name]
				row = append(row, strconv.FormatInt(box.Requests, 10), strconv.FormatInt(box.InFlight, 10))
			}
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}
