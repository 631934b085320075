package wire

import (
	"fmt"
	"strings"

	"golang.org/x/net/http2/hpack"

	"kestrix/internal/core/request"
)

// section is what is known of a header section of HTTP/2.
type section struct {
	stream uint32
	opens  bool // it begins a request; else it stands behind a body
	again  bool // on a stream whose number is not new
	ended  bool // no body follows
	lost   bool // it cannot be decoded
	most   int  // bytes beyond which nothing of it is missing
	frames int
	bytes  int

	method, scheme, authority, path, host string
	given                                 [4]bool // the pseudo-headers, in this order
	hosts, lengths                        int
	length                                int64
	regular                               bool   // a field that is no pseudo-header has come
	why                                   string // the first thing that is wrong
	found                                 bool   // the library finds something wrong while it decodes
}

// wrong notes what is wrong, the first of it.
func (s *section) wrong(format string, args ...any) {
	if s.why == "" {
		s.why = fmt.Sprintf(format, args...)
	}
}

// emit takes in a field.
func (f *Frames) emit(h hpack.HeaderField) {
	s := &f.section
	s.bytes += len(h.Name) + len(h.Value) + len(": \r\n") // as HTTP/1.1 would count
	if !s.opens {
		return // the library refuses pseudo-headers there, and fields that may not stand behind a body
	}
	if !allText(h.Value, valueByte) {
		s.found = true
		s.wrong("a control character in the header field %.40s", h.Name)
	}
	if strings.HasPrefix(h.Name, ":") {
		s.found = s.found || s.regular
		s.pseudo(h.Name, h.Value)
		return
	}
	s.regular = true
	s.field(h.Name, h.Value)
}

// pseudo takes in a pseudo-header field (RFC 9113 section 8.3.1).
func (s *section) pseudo(name, value string) {
	if s.regular {
		s.wrong("the pseudo-header %.20q behind other fields", name)
	}
	var place *string
	at := 0
	switch name {
	case ":method":
		place = &s.method
	case ":scheme":
		place, at = &s.scheme, 1
	case ":authority":
		place, at = &s.authority, 2
	case ":path":
		place, at = &s.path, 3
	}
	switch {
	case place == nil:
		s.wrong("the pseudo-header %.20q, which requests do not have here", name)
	case s.given[at]:
		s.wrong("two pseudo-headers %q", name)
	case value == "" && name != ":authority":
		s.wrong("an empty pseudo-header %q", name)
	default:
		*place, s.given[at] = value, true
	}
}

// field takes in any other field (RFC 9113 sections 8.2.1 and 8.2.2).
func (s *section) field(name, value string) {
	if name == "" || !allText(name, tokenByte) || strings.ToLower(name) != name {
		s.found = true
		s.wrong("a header field whose name has a character that none may have")
		return
	}
	if value != strings.Trim(value, " \t") {
		s.wrong("a space at an end of the header field %.40s", name)
	}
	switch name {
	case "connection", "proxy-connection", "keep-alive", "transfer-encoding", "upgrade":
		s.wrong("the field %s, which HTTP/2 does not have", name)
	case "te":
		if value != "trailers" {
			s.wrong("a TE other than trailers")
		}
	case "host":
		s.hosts++
		s.host = value
	case "content-length":
		s.lengths++
		n, err := length([]byte(value))
		if err != nil {
			s.wrong("a Content-Length that is no length")
		}
		s.length = n
	}
}

// malformed returns what is wrong with a request whose fields have all come,
// empty for nothing.
func (s *section) malformed() string {
	switch {
	case s.why != "":
		return s.why
	case s.method == "" || !allText(s.method, tokenByte) || s.method == "PRI":
		return "no proper :method"
	case s.lengths > 1:
		return "two Content-Lengths"
	case s.ended && s.length > 0:
		return "a Content-Length without a body"
	case s.hosts > 1:
		return fmt.Sprintf("%d Host fields where one is missing", s.hosts)
	case s.method == "CONNECT":
		if s.scheme != "" || s.path != "" || !request.ValidHost(s.authority) {
			return "a CONNECT that is none"
		}
		return ""
	}
	if why := s.wrongTarget(); why != "" {
		return why
	}
	return s.wrongHost()
}

// wrongTarget returns what is wrong with the scheme and path, empty for nothing.
func (s *section) wrongTarget() string {
	if s.scheme != "http" && s.scheme != "https" {
		return "no :scheme that is spoken here"
	}
	if s.path == "" || s.path[0] != '/' && s.path != "*" {
		return "a :path that is no path"
	}
	if err := checkTarget(s.method, s.path); err != nil {
		return strings.TrimPrefix(err.Error(), ErrMalformed.Error()+": ")
	}
	return ""
}

// wrongHost returns what is wrong with the authority and Host, empty for nothing.
func (s *section) wrongHost() string {
	switch {
	case s.authority == "" && s.host == "":
		return "neither :authority nor Host"
	case s.authority != "" && !request.ValidHost(s.authority):
		return "an :authority that is none"
	case s.host != "" && !request.ValidHost(s.host):
		return "a Host that is none"
	case s.authority != "" && s.hosts > 0 && !request.SameHost(s.authority, s.host, s.scheme):
		return "an :authority and another Host"
	}
	return ""
}
