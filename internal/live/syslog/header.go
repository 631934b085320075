package syslog

import (
	"fmt"
	"os"
	"strconv"
	"time"

	"kestrix/internal/core/config"
)

// Informational is the severity of access lines (RFC 5424 section 6.2.1, table 2).
const Informational = 6

// header returns what writes the beginning of a message, up to the line. The local form,
// which is that of the C library's syslog, has no host; RFC 3164 section 4.1 has one, and
// RFC 5424 section 6 has the year and the zone as well, and id as the kind of the message.
func header(s *config.Syslog, id string) func(b []byte, t time.Time, severity int) []byte {
	host, err := os.Hostname()
	if err != nil || host == "" {
		host = "-"
	}
	form, local, rest := "Jan _2 15:04:05", true, fmt.Sprintf(" kestrix[%d]: ", os.Getpid())
	first := ">"
	switch s.Format {
	case "rfc3164":
		rest = " " + host + rest
	case "rfc5424":
		first += "1 "
		form, local, rest = "2006-01-02T15:04:05.000000Z07:00", false, fmt.Sprintf(" %s kestrix %d %s - ", host, os.Getpid(), id)
	}
	return func(b []byte, t time.Time, severity int) []byte {
		b = strconv.AppendInt(append(b, '<'), int64(s.Facility<<3|severity), 10)
		if !local {
			t = t.UTC()
		}
		return append(t.AppendFormat(append(b, first...), form), rest...)
	}
}
