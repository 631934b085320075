package report

import (
	"cmp"
	"fmt"
	"time"

	"kestrix/internal/core/status"
)

// endsSoon is how long before its end a certificate from files is told of. One by ACME is
// renewed at a time that its server chooses, and is told of when that fails.
const endsSoon = 14 * 24 * time.Hour

// manyCertificates are told of one by one.
const manyCertificates = 5

// warnings says what is amiss with a proxy itself, whatever its backends do: certificates,
// the configuration in force, and records that were lost.
func warnings(s *status.Status) []string {
	var w []string
	for i := range s.Certificates {
		if says := certificateWarning(&s.Certificates[i], s.At); says != "" {
			w = append(w, says)
		}
	}
	if more := len(w) - manyCertificates; more > 0 {
		w = append(w[:manyCertificates], "certificates: "+plural(int64(more), "other")+" likewise; all with kestrix status -format json")
	}
	if r := &s.Reloads; r.RefusedAt.After(r.At) {
		w = append(w, fmt.Sprintf("configuration: the newest reload, %s ago, was refused; the configuration in force is that of %s", age(s.At.Sub(r.RefusedAt)), minute(r.At)))
	}
	if s.LostLines > 0 {
		w = append(w, "logs: "+plural(int64(s.LostLines), "line")+" of the access log or the recorded trace lost since the start")
	}
	if s.LostSpans > 0 {
		w = append(w, "tracing: "+plural(int64(s.LostSpans), "span")+" lost since the start")
	}
	return w
}

// certificateWarning says what is amiss with a certificate; nothing if it is valid for long
// enough.
func certificateWarning(c *status.Certificate, at time.Time) string {
	is := "certificate " + cmp.Or(c.Name, c.File) + ": "
	why := ""
	if c.Failing != "" {
		why = "; " + c.Failing
	}
	switch {
	case c.Until.IsZero():
		return is + "there is none yet" + why
	case !at.Before(c.Until):
		return is + "ended " + age(at.Sub(c.Until)) + " ago, at " + minute(c.Until) + why
	case at.Before(c.From):
		return is + "begins in " + age(c.From.Sub(at)) + ", at " + minute(c.From) + why
	case c.Failing != "":
		return is + "not renewed, and ends in " + age(c.Until.Sub(at)) + ", at " + minute(c.Until) + why
	case c.Name == "" && c.Until.Sub(at) < endsSoon:
		return is + "ends in " + age(c.Until.Sub(at)) + ", at " + minute(c.Until)
	}
	return ""
}

// minute writes a moment, such as 2026-04-03 09:12 UTC.
func minute(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }
