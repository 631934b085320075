package route

import (
	"regexp"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
)

// Pattern is what a host, path or text must look like. In a host and a path
// `*` stands for one segment or a part of one and `**` for the rest; in other
// texts `*` stands for any text.
type Pattern struct {
	text     string
	sep      byte     // '.', '/' or 0 for plain text
	literal  bool     // no wildcard: text is compared as it is
	rest     bool     // a path pattern whose only wildcard is a final **
	prefix   string   // what stands before the "/**" of such a one
	segments []string // for every other pattern
	re       *regexp.Regexp
}

// compile makes the pattern of a match with one of Path, Host and Plain.
func compile(m config.Match, kind func(string) Pattern) Pattern {
	if m.Regexp != nil {
		return Pattern{text: m.String(), re: m.Regexp}
	}
	return kind(m.Text)
}

// Path compiles the pattern of a path.
func Path(text string) Pattern {
	text = request.Escaped(text) // as the paths that it is compared with
	p := Pattern{text: text, sep: '/', literal: !strings.Contains(text, "*")}
	if before, ok := strings.CutSuffix(text, "/**"); ok && !strings.Contains(before, "*") {
		p.rest, p.prefix = true, before
	}
	p.segments = strings.Split(text, "/")
	return p
}

// Host compiles the pattern of a host name, which is compared without case.
func Host(text string) Pattern {
	text = strings.ToLower(text)
	return Pattern{text: text, sep: '.', literal: !strings.Contains(text, "*"), segments: strings.Split(text, ".")}
}

// Plain compiles a pattern in which `*` stands for any text at all.
func Plain(text string) Pattern {
	return Pattern{text: text, literal: !strings.Contains(text, "*"), segments: []string{text}}
}

// String returns the pattern as written.
func (p *Pattern) String() string { return p.text }

// Match reports whether s fits. A host must be handed in in lower case.
func (p *Pattern) Match(s string) bool {
	switch {
	case p.re != nil:
		return p.re.MatchString(s)
	case p.literal:
		return s == p.text
	case p.text == "**" || p.text == "/**" && p.sep == '/':
		return true
	case p.sep == 0:
		return wild(p.text, s)
	case p.rest:
		return len(s) >= len(p.prefix) && s[:len(p.prefix)] == p.prefix && (len(s) == len(p.prefix) || s[len(p.prefix)] == '/')
	}
	if p.sep == '.' && p.segments[0] == "**" {
		return matchEnd(p.segments[1:], s)
	}
	return matchSegments(p.segments, p.sep, s)
}

// matchEnd reports whether the last labels of a host match segments.
func matchEnd(segs []string, s string) bool {
	for i := len(segs) - 1; i >= 0; i-- {
		cut := strings.LastIndexByte(s, '.')
		if !wild(segs[i], s[cut+1:]) {
			return false
		}
		if cut < 0 {
			return i == 0
		}
		s = s[:cut]
	}
	return true
}

// matchSegments reports whether the parts of a text match segments, of which the last
// may be "**", for any rest.
func matchSegments(segs []string, sep byte, s string) bool {
	for i, seg := range segs {
		if seg == "**" && i == len(segs)-1 {
			return true
		}
		cut := strings.IndexByte(s, sep)
		part := s
		if cut >= 0 {
			part = s[:cut]
		}
		if !wild(seg, part) {
			return false
		}
		if cut < 0 {
			// Nothing is left; what remains of the pattern may only be "**".
			return i == len(segs)-1 || i == len(segs)-2 && segs[i+1] == "**"
		}
		s = s[cut+1:]
	}
	return false
}

// wild matches text with `*` for any run of characters, without recursion.
func wild(pattern, s string) bool {
	star, mark := -1, 0
	i, j := 0, 0
	for j < len(s) {
		switch {
		case i < len(pattern) && pattern[i] == '*':
			star, mark = i, j
			i++
		case i < len(pattern) && pattern[i] == s[j]:
			i, j = i+1, j+1
		case star >= 0:
			mark++
			i, j = star+1, mark
		default:
			return false
		}
	}
	for i < len(pattern) && pattern[i] == '*' {
		i++
	}
	return i == len(pattern)
}
