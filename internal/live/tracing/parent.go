package tracing

import "strings"

// Parse takes the values of the header field Traceparent apart: trace id and parent id in
// hexadecimal digits, and flags. ok is false where there is none, or no valid one (W3C Trace
// Context, section 3.2).
func Parse(traceparent []string) (id, parent string, flags byte, ok bool) {
	if len(traceparent) != 1 {
		return "", "", 0, false
	}
	const zeros = "00000000000000000000000000000000"
	s := traceparent[0] // VERSION-TRACE-PARENT-FLAGS
	if len(s) < 55 || s[2] != '-' || s[35] != '-' || s[52] != '-' || len(s) > 55 && (s[:2] == "00" || s[55] != '-') {
		return "", "", 0, false
	}
	version, last := s[:2], s[53:55]
	id, parent = s[3:35], s[36:52]
	const digits = "0123456789abcdef"
	if version == "ff" || id == zeros || parent == zeros[:16] || strings.Trim(version+id+parent+last, digits) != "" {
		return "", "", 0, false
	}
	return id, parent, byte(strings.IndexByte(digits, last[0])<<4 | strings.IndexByte(digits, last[1])), true
}

// TraceID returns the trace id of the values of the header field Traceparent; empty where there
// is none, or no valid one.
func TraceID(traceparent []string) string {
	id, _, _, _ := Parse(traceparent)
	return id
}
