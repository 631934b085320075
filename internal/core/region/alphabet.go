package region

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// state is what an alphabet has to remember of a text so far.
type state uint16

// oddity is how unlikely it is that somebody sends a text.
type oddity uint8

const (
	likely oddity = iota
	unlikely
	ambiguous // a path that servers read in several ways, see request.Readings
	asterisk  // the path of OPTIONS for the whole server (RFC 9110 section 9.3.7)
)

// apart reports whether texts of the oddity are kept apart from others that fit the same.
func (o oddity) apart() bool { return o == asterisk }

// alphabet is the texts that a part of a request can be: those in normal form, as package
// request makes them.
type alphabet struct {
	runes []rune            // the most plausible first
	more  func(c rune) bool // whether there are others; nil if there are none
	start state
	step  func(s state, c rune) (state, bool)
	ends  func(s state) (oddity, bool)
	// least reports whether whatever may follow another state may follow this one.
	least func(s state) bool
}

// tell returns the characters that tell the states of patterns apart: those that are always
// tried, and of those beyond them the ends of the patterns' ranges and what stands beside them.
func (a *alphabet) tell(patterns []*pattern) []rune {
	if a.more == nil {
		return a.runes
	}
	out, known := slices.Clone(a.runes), map[rune]bool{}
	for _, c := range out {
		known[c] = true
	}
	add := func(c rune) {
		for _, x := range []rune{c, c - 1, c + 1} {
			if !known[x] && utf8.ValidRune(x) && a.more(x) {
				known[x] = true
				out = append(out, x)
			}
		}
	}
	add('é')
	for _, p := range patterns {
		for i := range p.insts {
			if !p.insts[i].steps() {
				continue
			}
			for _, c := range p.insts[i].Rune {
				add(c)
				for f := unicode.SimpleFold(c); f != c; f = unicode.SimpleFold(f) {
					add(f)
				}
			}
		}
	}
	return out
}

// likelyFirst are the characters of plausible texts.
const likelyFirst = "xabcdefghijklmnopqrstuvwyz0123456789"

// runesOf returns the characters of a text.
func runesOf(s string) []rune { return []rune(s) }

// Hosts, see request.ValidHost: names of letters, digits, "-", "_" and ".", or an address in
// brackets; empty where a request names none.
const (
	hostStart state = iota
	hostLabel
	hostDot    // the last character is a dot
	hostOdd    // an empty label was seen, in a label
	hostOddDot // likewise, after a dot
	hostBracket
	hostClosed
)

var hosts = &alphabet{
	runes: runesOf(likelyFirst + "-_.[:]"),
	start: hostStart,
	step: func(s state, c rune) (state, bool) {
		switch {
		case s == hostClosed:
			return 0, false
		case s == hostBracket:
			if c == ']' {
				return hostClosed, true
			}
			return hostBracket, strings.ContainsRune("0123456789abcdef:.", c)
		case c == '[':
			return hostBracket, s == hostStart
		case c == ']' || c == ':':
			return 0, false
		case c == '.':
			if s == hostLabel {
				return hostDot, true
			}
			return hostOddDot, true
		case s == hostStart || s == hostLabel || s == hostDot:
			return hostLabel, true
		}
		return hostOdd, true
	},
	ends: func(s state) (oddity, bool) {
		switch s {
		case hostLabel:
			return likely, true
		case hostBracket:
			return 0, false
		}
		return unlikely, true
	},
	least: func(s state) bool { return s == hostLabel },
}

// Names of a TLS handshake are hosts in lower case, or none.
var names = hosts

// Paths in normal form, see request.Path: they begin with "/", no segment is "." or "..", and
// an escape is in capitals and of a character that cannot stand for itself.
const (
	pathStart   state = iota
	pathSegment       // at the beginning of a segment
	pathDot           // which is "." so far
	pathDots          // which is ".." so far
	pathIn            // in any other segment
	pathStar          // "*" alone
	pathEscape        // behind "%"; what follows is behind it and a digit
	pathEscape2
	pathEscape3
	pathEscape4
	pathEscape5
	pathEscape6
	pathEscape7
	pathEscapeHigh                // of which any digit may follow
	pathSeveral    state = 1 << 8 // there are several readings
)

var paths = &alphabet{
	runes: runesOf("x/" + likelyFirst[1:] + "ABCDEFGHIJKLMNOPQRSTUVWXYZ-_.~!$&'()*+,=:@;%"),
	start: pathStart,
	step:  pathStep,
	ends: func(s state) (oddity, bool) {
		switch at := s &^ pathSeveral; {
		case at == pathStar:
			return asterisk, true
		case at != pathSegment && at != pathIn:
			return 0, false
		case s&pathSeveral != 0:
			return ambiguous, true
		}
		return likely, true
	},
	least: func(s state) bool { return s == pathIn },
}

// pathStep follows a character of a path.
func pathStep(s state, c rune) (state, bool) {
	several, at := s&pathSeveral, s&^pathSeveral
	switch {
	case at == pathStar:
		return 0, false
	case at == pathStart:
		if c == '*' {
			return pathStar, true
		}
		return pathSegment, c == '/'
	case at >= pathEscape:
		next, ok := escapeStep(at, c)
		return next | several, ok
	case c == '/':
		if at == pathDot || at == pathDots {
			return 0, false
		}
		if at == pathSegment {
			several = pathSeveral
		}
		return pathSegment | several, true
	case c == '%':
		return pathEscape | pathSeveral, true // it may be that of a slash
	case c == ';':
		return pathIn | pathSeveral, true
	case c == '.' && at == pathSegment:
		return pathDot | several, true
	case c == '.' && at == pathDot:
		return pathDots | several, true
	}
	return pathIn | several, true
}

// escapeStep follows the digits of an escape. Those of letters, digits, "-", ".", "_" and "~"
// stand in no path in normal form.
func escapeStep(at state, c rune) (state, bool) {
	digit := strings.IndexRune("0123456789ABCDEF", c)
	if digit < 0 {
		return 0, false
	}
	if at == pathEscape {
		if digit >= 2 && digit <= 7 {
			return pathEscape2 + state(digit-2), true
		}
		return pathEscapeHigh, true
	}
	if at == pathEscapeHigh {
		return pathIn, true
	}
	decoded := rune(at-pathEscape2+2)<<4 | rune(digit)
	unreserved := decoded < 0x7f && (unicode.IsLetter(decoded) || unicode.IsDigit(decoded) || strings.ContainsRune("-._~", decoded))
	return pathIn, !unreserved
}

// Values of header fields, query parameters and cookies.
const (
	valueStart state = iota
	valueIn
	valueSpace // the last character is a space
)

// values returns the alphabet of values of the characters that may be in one; trimmed ones have
// no space around them.
func values(trimmed bool, may func(c rune) bool) *alphabet {
	var runes []rune
	for _, c := range likelyFirst + "ABCDEFGHIJKLMNOPQRSTUVWXYZ-_.~/:=,; !\"#$%&'()*+<>?@[\\]^`{|}\t\n" {
		if may(c) {
			runes = append(runes, c)
		}
	}
	return &alphabet{
		runes: runes, more: may, start: valueStart,
		step: func(s state, c rune) (state, bool) {
			if (c == ' ' || c == '\t') && trimmed {
				return valueSpace, s != valueStart
			}
			return valueIn, true
		},
		ends: func(s state) (oddity, bool) {
			switch s {
			case valueStart:
				return unlikely, true
			case valueSpace:
				return 0, false
			}
			return likely, true
		},
		least: func(s state) bool { return s == valueIn },
	}
}

// What may be in a header field (RFC 9110 section 5.5), in a cookie, and in a parameter of a
// query, in which anything may be escaped.
var (
	inField      = func(c rune) bool { return c >= ' ' && c != 0x7f || c == '\t' }
	headerValues = values(true, inField)
	cookieValues = values(true, func(c rune) bool { return inField(c) && c != ';' })
	queryValues  = values(false, func(rune) bool { return true })
)
