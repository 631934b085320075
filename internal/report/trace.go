package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"kestrix/internal/core/trace"
)

// Trace writes the summary of a trace as text.
func (s Style) Trace(name string, t *trace.Summary) string {
	return s.fitted(func(s Style) string { return s.traceText(name, t) })
}

func (s Style) traceText(name string, t *trace.Summary) string {
	var b strings.Builder
	format := trace.TitleOf(t.Format)
	switch {
	case t.Format == "":
		format = "nothing was read"
	case format == "":
		format = t.Format + " formats"
	}
	fmt.Fprintf(&b, "%s%s%s\n", s.bold(name), s.dot(), format)
	line := plural(t.Records, "record") + " from " + plural(int64(t.Clients), "client")
	if t.Sessions > 0 {
		line += ", " + plural(int64(t.Sessions), "session")
	}
	if t.First != nil {
		line += fmt.Sprintf("; %s to %s UTC, %s", wallTime(*t.First), wallTime(*t.Last), span(*t.Last-*t.First))
		if t.WholeSeconds {
			line += ", stamps of whole seconds"
		}
	}
	b.WriteString(flow(line, s.Width, 0) + "\n")
	if t.BadLines > 0 {
		fmt.Fprintf(&b, "%s\n", s.warn(plural(t.BadLines, "line")+" could not be read and passed over; the first:"))
		for _, x := range t.Bad {
			fmt.Fprintf(&b, "  line %d, column %d: %s\n", x.Line, x.Column, x.Why)
		}
	}
	b.WriteByte('\n')
	if r := t.Rate; r != nil {
		fmt.Fprintf(&b, "  rate      mean %s/s, peak %s/s at %s\n", three(r.Mean), three(r.Peak), wallTime(r.PeakAt))
		values, per := s.course(r)
		fmt.Fprintf(&b, "            %s\n            one column is %s, the tallest %s/s\n", strings.TrimRight(s.spark(values, slices.Max(values)), " "), span(per), three(slices.Max(values)/per))
	}
	if d := t.Duration; d != nil {
		fmt.Fprintf(&b, "  duration  mean %s, p50 %s, p90 %s, p95 %s, p99 %s, max %s\n", span(d.Mean), span(d.P50), span(d.P90), span(d.P95), span(d.P99), span(d.Max))
		if t.Format == "w3c" && d.P50 > 10 {
			fmt.Fprintf(&b, "            %s\n", s.warn(flow("time-taken is read as seconds, as the standard says; if it is milliseconds here: -map duration/ms=time-taken", s.Width, 12)))
		}
	} else {
		cure := ""
		if f := trace.FormatOf(t.Format); f != nil && f.DurationBy() != "" {
			cure = "; " + f.DurationBy()
		}
		b.WriteString("  duration  not recorded" + cure + "\n")
	}
	fmt.Fprintf(&b, "  methods   %s\n", flow(s.shares(t.Methods, t.Records), s.Width, 12))
	fmt.Fprintf(&b, "  statuses  %s\n", flow(s.shares(t.Statuses, t.Records), s.Width, 12))
	fmt.Fprintf(&b, "  bytes     %s\n", bytesText(t.Bytes))
	var unknown []string
	for _, k := range sortedKeys(t.Unknown) {
		if n := t.Unknown[k]; n == t.Records {
			unknown = append(unknown, k)
		} else {
			unknown = append(unknown, fmt.Sprintf("%s in %s", k, plural(n, "record")))
		}
	}
	if len(unknown) > 0 {
		fmt.Fprintf(&b, "  unknown   %s\n", flow(strings.Join(unknown, ", "), s.Width, 12))
	}
	s.top(&b, "busiest clients", t.TopClients, t.Records)
	s.top(&b, "busiest paths", t.TopPaths, t.Records)
	return b.String()
}

// course returns the rate over time in as many columns as there is room for, and
// the seconds of one.
func (s Style) course(r *trace.Rate) ([]float64, float64) {
	first, last := r.Rows[0].At, r.Rows[len(r.Rows)-1].At
	buckets := int((last-first)/r.Bucket) + 1
	per := (buckets + max(s.Width-14, 10) - 1) / max(s.Width-14, 10)
	values := make([]float64, (buckets+per-1)/per)
	for _, row := range r.Rows {
		values[int((row.At-first)/r.Bucket)/per] += float64(row.Requests)
	}
	return values, float64(per) * r.Bucket
}

// shares lists counts with their share, most first.
func (s Style) shares(m map[string]int64, total int64) string {
	keys := sortedKeys(m)
	slices.SortStableFunc(keys, func(a, b string) int { return cmp.Compare(m[b], m[a]) })
	var out []string
	for _, k := range keys[:min(len(keys), 8)] {
		out = append(out, fmt.Sprintf("%s %s (%s)", k, count(m[k]), percent(float64(m[k])/float64(total))))
	}
	if len(keys) > 8 {
		out = append(out, fmt.Sprintf("%d others", len(keys)-8))
	}
	if len(out) == 0 {
		return "not recorded"
	}
	return strings.Join(out, ", ")
}

func (s Style) top(b *strings.Builder, title string, list []trace.Count, total int64) {
	if len(list) == 0 {
		return
	}
	fmt.Fprintf(b, "\n%s\n", s.bold(title))
	var rows [][]string
	for _, c := range list[:min(len(list), 5)] {
		share := float64(c.Requests) / float64(total)
		rows = append(rows, []string{clip(c.Name, max(s.Width-50, 20)), count(c.Requests), percent(share), s.bar(share, 24)})
	}
	b.WriteString(s.table([]column{{name: "name", left: true}, {name: "requests"}, {name: "share"}, {name: "", left: true, drop: 1}}, rows, 2))
}

func bytesText(n int64) string {
	switch {
	case n >= 1<<30:
		return three(float64(n)/(1<<30)) + " GiB"
	case n >= 1<<20:
		return three(float64(n)/(1<<20)) + " MiB"
	case n >= 1<<10:
		return three(float64(n)/(1<<10)) + " KiB"
	}
	return count(n) + " B"
}
