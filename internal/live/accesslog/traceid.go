package accesslog

import "strings"

// TraceID returns the trace id of the values of the header field Traceparent; empty where
// there is none, or no valid one (W3C Trace Context, section 3.2).
func TraceID(traceparent []string) string {
	if len(traceparent) != 1 {
		return ""
	}
	const zeros = "00000000000000000000000000000000"
	s := traceparent[0] // VERSION-TRACE-PARENT-FLAGS
	if len(s) < 55 || s[2] != '-' || s[35] != '-' || s[52] != '-' || len(s) > 55 && (s[:2] == "00" || s[55] != '-') {
		return ""
	}
	version, id, parent, flags := s[:2], s[3:35], s[36:52], s[53:55]
	if version == "ff" || id == zeros || parent == zeros[:16] || strings.Trim(version+id+parent+flags, "0123456789abcdef") != "" {
		return ""
	}
	return id
}
