package request

import (
	"slices"
	"strings"
)

// Path returns the normal form of a path, in which routes compare paths, hashes go
// by them and rewriting begins (RFC 3986 section 6.2.2): escapes of letters, digits
// and "-._~" are those characters, other escapes are in capitals, bytes that no path
// may hold are escapes, and the segments "." and ".." are resolved. Every spelling
// of a path has the same normal form.
func Path(path string) string {
	path = Escaped(path)
	if !strings.Contains(path, "/.") {
		return path
	}
	var out []string
	segments := strings.Split(path, "/")
	for i, s := range segments {
		last := i == len(segments)-1
		switch s {
		case ".", "..":
			if s == ".." && len(out) > 1 {
				out = out[:len(out)-1]
			}
			if last {
				out = append(out, "")
			}
		default:
			out = append(out, s)
		}
	}
	return strings.Join(out, "/")
}

// Escaped returns a path, or a pattern for paths, with its escapes in one form; dot
// segments stay.
func Escaped(path string) string {
	i := 0
	for i < len(path) && unescaped[path[i]] {
		i++
	}
	if i == len(path) {
		return path
	}
	const digits = "0123456789ABCDEF"
	out := append(make([]byte, 0, len(path)+8), path[:i]...)
	for ; i < len(path); i++ {
		c := path[i]
		if c == '%' && i+2 < len(path) {
			high, low := strings.IndexByte(digits, upper(path[i+1])), strings.IndexByte(digits, upper(path[i+2]))
			if high >= 0 && low >= 0 {
				i += 2
				if c = byte(high<<4 | low); unreserved(c) {
					out = append(out, c)
				} else {
					out = append(out, '%', digits[high], digits[low])
				}
				continue
			}
		}
		if !unescaped[c] { // "%" included, which begins no escape here
			out = append(out, '%', digits[c>>4], digits[c&15])
			continue
		}
		out = append(out, c)
	}
	return string(out)
}

func upper(c byte) byte {
	if c >= 'a' && c <= 'f' {
		return c - 'a' + 'A'
	}
	return c
}

// unescaped holds the bytes that stand in a path for themselves (RFC 3986 section 3.3:
// pchar and "/").
var unescaped = func() (t [256]bool) {
	for c := range t {
		t[c] = unreserved(byte(c)) || strings.IndexByte("!$&'()*+,;=:@/", byte(c)) >= 0
	}
	return t
}()

// unreserved characters mean the same whether they are escaped or not (section
// 2.3).
func unreserved(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '.' || c == '_' || c == '~'
}

// Readings returns the other paths that servers make of a path in normal form, nil
// if there are none: some take several slashes for one, some an escaped slash or a
// backslash for a slash, some drop what follows a ";" in a segment. A request whose
// readings lead to different routes could walk past the one that is meant to guard
// what it names.
func Readings(path string) []string {
	if !severalReadings(path) {
		return nil
	}
	var out []string
	for how := 1; how < 8; how++ {
		other := path
		if how&1 != 0 {
			other = separators.Replace(other)
		}
		if how&2 != 0 {
			other = withoutParameters(other)
		}
		if how&4 != 0 {
			for strings.Contains(other, "//") {
				other = strings.ReplaceAll(other, "//", "/")
			}
		}
		if other = Path(other); other != path && !slices.Contains(out, other) {
			out = append(out, other)
		}
	}
	return out
}

// severalReadings reports whether a path holds anything that servers read in several
// ways.
func severalReadings(path string) bool {
	last := byte(0)
	for i := range len(path) {
		c := path[i]
		if c == ';' || c == '%' || c == '/' && last == '/' {
			return true
		}
		last = c
	}
	return false
}

// separators turns what some servers take for a slash into one.
var separators = strings.NewReplacer("%2F", "/", "%5C", "/")

// withoutParameters takes the parameters off each segment of a path (RFC 3986
// section 3.3).
func withoutParameters(path string) string {
	if !strings.Contains(path, ";") {
		return path
	}
	segments := strings.Split(path, "/")
	for i, s := range segments {
		segments[i], _, _ = strings.Cut(s, ";")
	}
	return strings.Join(segments, "/")
}
