package trace

import (
	"bytes"
	"fmt"
	"math"
	"net/netip"
	"strings"
	"time"
)

// combined reads Common and Combined log lines: client, identity, user, time in
// brackets, quoted request, status, bytes; then quoted referer and user agent;
// then any further fields, which Fields names.
type combined struct {
	fields []field

	// The last stamp up to its minute, and what it stands for: most lines
	// differ from the one before in their seconds at most.
	minute [17]byte
	zone   [5]byte
	base   int64
	cached bool

	// The last stamp as a whole, and its time: in a busy second most are equal.
	last     [26]byte
	lastTime int64

	scratch []byte // for texts with escapes
	escapes bool   // the line holds a backslash, as its reader has found
}

// stampWidth is how far after the client the ] of a time without a fraction
// stands when identity and user are both "-".
const stampWidth = len(" - - [") + len("23/Nov/2026:06:55:08 +0000")

// parse reads one line. The column and reason of what is wrong come back; a
// column of 0 says that all is well.
func (c *combined) parse(line []byte, r *Record) (int, string) {
	i := bareEnd(line, 0)
	if i <= 0 || i == len(line) {
		return 1, "this is not a Common or Combined log line: a client and a space are expected first"
	}
	if r.Client = line[:i]; i == 1 && line[0] == '-' {
		r.Client = nil
	}
	shut, column, why := c.when(line, i, r)
	if column > 0 {
		return column, why
	}
	i = shut + 1
	if i+1 >= len(line) || line[i] != ' ' || line[i+1] != '"' {
		return i + 1, "the quoted request is expected after the time"
	}
	request, i, ok := c.quoted(line, i+1)
	if !ok {
		return i + 1, "the quoted request does not end"
	}
	splitRequest(request, r)
	i = skipSpace(line, i)
	if i+3 > len(line) || !digits(line[i:i+3]) || i+3 < len(line) && line[i+3] != ' ' {
		return i + 1, "a status of three digits is expected after the request"
	}
	r.Status = int(line[i]-'0')*100 + int(line[i+1]-'0')*10 + int(line[i+2]-'0')
	if r.Status < 100 {
		r.Status = 0 // as where the client left before any was sent
	}
	i = skipSpace(line, i+3)
	if i >= len(line) {
		return 0, ""
	}
	if i, column, why = c.sizeAndAgent(line, i, r); column > 0 {
		return column, why
	}
	return c.further(line, i, r)
}

// when reads the time in brackets that follows the client, which ends at i. It returns
// where its bracket closes, or what is wrong.
func (c *combined) when(line []byte, i int, r *Record) (shut, column int, why string) {
	open := 0
	// The shape of nearly every line is known; the others are searched.
	if len(line) > i+stampWidth && string(line[i:i+6]) == " - - [" && line[i+stampWidth] == ']' {
		open, shut = i+5, i+stampWidth
	} else {
		open = bytes.IndexByte(line[i:], '[')
		if open < 0 {
			return 0, i + 2, "no [time] follows the client"
		}
		open += i
		shut = bytes.IndexByte(line[open:], ']')
		if shut < 0 {
			return 0, open + 1, "the time in brackets does not end"
		}
		shut += open
	}
	if r.Time, r.WholeSecond, why = c.stamp(line[open+1 : shut]); why != "" {
		return 0, open + 2, why
	}
	if gap := line[i:open]; len(gap) > len(" - - ") {
		c.virtualHost(line[:i], gap, r)
	}
	return shut, 0, ""
}

// virtualHost reads the beginning of a line that has the host before the client, as in
// "www.tern.example:443 192.0.2.1 - - [": of gap, what stands between the first field and
// the time, there is one field more than there is otherwise, and it begins with an address.
func (c *combined) virtualHost(first, gap []byte, r *Record) {
	gap = gap[skipSpace(gap, 0):]
	client := gap[:bareEnd(gap, 0)]
	if bytes.Count(bytes.TrimRight(gap, " "), []byte(" ")) < 2 {
		return // client, identity and user
	}
	if _, err := netip.ParseAddr(CanonicalClient(text(client))); err != nil {
		return // a user whose name has spaces
	}
	r.Host, r.Client = known(first), client
}

// sizeAndAgent reads the bytes, or "-" for none, and the referer and user agent where
// there are some. It returns where further fields begin, or what is wrong.
func (c *combined) sizeAndAgent(line []byte, i int, r *Record) (next, column int, why string) {
	ok := false
	end := bareEnd(line, i)
	if end == i+1 && line[i] == '-' {
		r.Bytes = 0
	} else {
		n, ok := wholeNumber(line[i:end])
		if !ok {
			return i, i + 1, "a number of bytes or - is expected after the status"
		}
		r.Bytes = n
	}
	i = skipSpace(line, end)
	if i < len(line) && line[i] == '"' {
		if r.Referer, i, ok = c.quoted(line, i); !ok {
			return i, i + 1, "the quoted referer does not end"
		}
		r.Referer = known(r.Referer)
		i = skipSpace(line, i)
		if i < len(line) && line[i] == '"' {
			if r.UserAgent, i, ok = c.quoted(line, i); !ok {
				return i, i + 1, "the quoted user agent does not end"
			}
			r.UserAgent = known(r.UserAgent)
			i = skipSpace(line, i)
		}
	}
	return i, 0, ""
}

// further reads the fields after the user agent. Where none are named, a first
// one that is a decimal number is taken for the duration in seconds.
func (c *combined) further(line []byte, i int, r *Record) (int, string) {
	for n := 0; i < len(line); n++ {
		var value []byte
		start := i
		if line[i] == '"' {
			var ok bool
			if value, i, ok = c.quoted(line, i); !ok {
				return i + 1, "a quoted field does not end"
			}
		} else {
			end := bareEnd(line, i)
			value, i = line[i:end], end
		}
		i = skipSpace(line, i)
		if c.fields == nil {
			if n == 0 {
				if d, ok := shortFraction(value); ok {
					r.Duration = d
				}
			}
			return 0, ""
		}
		if n >= len(c.fields) {
			return 0, ""
		}
		if why := c.fields[n].set(r, value); why != "" {
			return start + 1, why
		}
	}
	return 0, ""
}

// known turns "-" and nothing into what is not known.
func known(b []byte) []byte {
	if len(b) == 0 || len(b) == 1 && b[0] == '-' {
		return nil
	}
	return b
}

// clip keeps a quoted piece of a line readable.
func clip(b []byte) string {
	if len(b) > 40 {
		return string(b[:40]) + "…"
	}
	return string(b)
}

// quoted reads the text in quotes that begins at i and returns where it ends. A
// backslash escapes the next byte.
func (c *combined) quoted(line []byte, i int) ([]byte, int, bool) {
	start := i + 1
	j := bytes.IndexByte(line[start:], '"')
	if j < 0 {
		return nil, i, false
	}
	j += start
	if !c.escapes || bytes.IndexByte(line[start:j], '\\') < 0 {
		return line[start:j], j + 1, true
	}
	from := len(c.scratch)
	for k := start; k < len(line); k++ {
		switch line[k] {
		case '"':
			return c.scratch[from:], k + 1, true
		case '\\':
			if k+1 < len(line) {
				k++
				if line[k] != '"' && line[k] != '\\' {
					c.scratch = append(c.scratch, '\\')
				}
			}
		}
		c.scratch = append(c.scratch, line[k])
	}
	return nil, i, false
}

// splitRequest cuts "GET /path HTTP/1.1". What is not of that form, such as
// "-" or the bytes of a TLS greeting, leaves method and path unknown.
func splitRequest(request []byte, r *Record) {
	a := bareEnd(request, 0)
	if a == 0 || a == len(request) {
		return
	}
	for _, ch := range request[:a] {
		if ch < 'A' || ch > 'Z' {
			if ch != '-' && ch != '_' {
				return
			}
		}
	}
	target := request[a+1:]
	if n := len(target); n > 9 && target[n-9] == ' ' && string(target[n-8:n-3]) == "HTTP/" {
		target = target[:n-9]
	} else if b := bytes.LastIndexByte(target, ' '); b >= 0 {
		target = target[:b]
	}
	if len(target) == 0 {
		return
	}
	if target[0] != '/' {
		if rest, ok := bytes.CutPrefix(target, []byte("http://")); ok {
			cut := bytes.IndexByte(rest, '/')
			if cut < 0 {
				return
			}
			r.Host, target = rest[:cut], rest[cut:]
		} else if target[0] != '*' {
			return
		}
	}
	r.Method, r.Path = request[:a], target
}

func skipSpace(line []byte, i int) int {
	for i < len(line) && line[i] == ' ' {
		i++
	}
	return i
}

// bareEnd returns where a field without quotes ends. Such fields are short, for
// which a plain loop is faster than a call.
func bareEnd(line []byte, i int) int {
	for i < len(line) && line[i] != ' ' {
		i++
	}
	return i
}

func digits(b []byte) bool {
	for _, ch := range b {
		if ch < '0' || ch > '9' {
			return false
		}
	}
	return true
}

func wholeNumber(b []byte) (int64, bool) {
	if len(b) == 0 || len(b) > 18 {
		return 0, false
	}
	var n int64
	for _, ch := range b {
		if ch < '0' || ch > '9' {
			return 0, false
		}
		n = n*10 + int64(ch-'0')
	}
	return n, true
}

// fraction reads seconds with a decimal point and up to nine places, by far
// the most frequent duration, into nanoseconds.
func fraction(b []byte) (int64, bool) {
	var n int64
	places := -1
	for _, ch := range b {
		if d := ch - '0'; d <= 9 {
			n = n*10 + int64(d)
			if places >= 0 {
				places++
			}
		} else if ch == '.' && places < 0 {
			places = 0
		} else {
			return 0, false
		}
	}
	if places < 1 || places > 9 || len(b) > 15 || len(b) == places+1 {
		if places < 0 {
			return 0, false
		}
		return decimal(b, 1e9)
	}
	return n * tens[9-places], true
}

var tens = [10]int64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9}

// decimal reads a number without an exponent and multiplies it, giving whole
// nanoseconds.
func decimal(b []byte, unit float64) (int64, bool) {
	var n, scale int64 = 0, 1
	seen, point := false, false
	for _, ch := range b {
		switch {
		case ch == '.' && !point:
			point = true
		case ch >= '0' && ch <= '9':
			seen = true
			if n > math.MaxInt64/100 || scale > math.MaxInt64/100 {
				if !point {
					return 0, false
				}
				continue // digits beyond what counts
			}
			n = n*10 + int64(ch-'0')
			if point {
				scale *= 10
			}
		default:
			return 0, false
		}
	}
	x := float64(n) / float64(scale) * unit
	return int64(math.Round(x)), seen && x < float64(math.MaxInt64/2)
}

// stamp reads 23/Nov/2026:06:55:08 +0000, with or without a fraction of the
// second.
func (c *combined) stamp(b []byte) (at int64, whole bool, why string) {
	if len(b) == 26 && string(b) == string(c.last[:]) {
		return c.lastTime, true, ""
	}
	if len(b) < 26 {
		return 0, false, fmt.Sprintf("the time %q is not like 23/Nov/2026:06:55:08 +0000", clip(b))
	}
	zone := b[len(b)-5:]
	if !c.cached || string(c.minute[:]) != string(b[:17]) || string(c.zone[:]) != string(zone) {
		if why := c.newMinute(b, zone); why != "" {
			return 0, false, why
		}
	}
	sec := int64(b[18]-'0')*10 + int64(b[19]-'0')
	if b[17] != ':' || b[18] < '0' || b[18] > '6' || b[19] < '0' || b[19] > '9' || sec > 60 {
		return 0, false, fmt.Sprintf("the time %q has no seconds from 00 to 60", clip(b))
	}
	at, whole = c.base+sec*int64(time.Second), true
	if middle := b[20 : len(b)-6]; len(middle) > 0 {
		frac, why := stampFraction(middle, b)
		if why != "" {
			return 0, false, why
		}
		at += frac
		whole = false
	}
	if b[len(b)-6] != ' ' {
		return 0, false, fmt.Sprintf("the time %q is not like 23/Nov/2026:06:55:08 +0000", clip(b))
	}
	if len(b) == 26 {
		copy(c.last[:], b)
		c.lastTime = at
	}
	return at, whole, ""
}

// stampFraction returns the nanoseconds of a fraction of a second, such as .25, in a time.
func stampFraction(middle, whole []byte) (ns int64, why string) {
	if middle[0] != '.' && middle[0] != ',' {
		return 0, fmt.Sprintf("the time %q is not like 23/Nov/2026:06:55:08 +0000", clip(whole))
	}
	frac, ok := wholeNumber(middle[1:])
	if !ok || len(middle) > 10 {
		return 0, fmt.Sprintf("the time %q has a fraction that is no number", clip(whole))
	}
	for k := len(middle) - 1; k < 9; k++ {
		frac *= 10
	}
	return frac, ""
}

const months = "JanFebMarAprMayJunJulAugSepOctNovDec"

func (c *combined) newMinute(b, zone []byte) string {
	c.cached = false
	m := strings.Index(months, text(b[3:6]))
	if m < 0 || m%3 != 0 || !minuteShape(b, zone) {
		return fmt.Sprintf("the time %q is not like 23/Nov/2026:06:55:08 +0000", clip(b))
	}
	two := func(i int) int { return int(b[i]-'0')*10 + int(b[i+1]-'0') }
	day, month, year, hour, minute := two(0), time.Month(m/3+1), two(7)*100+two(9), two(12), two(15)
	t := time.Date(year, month, day, hour, minute, 0, 0, time.UTC)
	if t.Day() != day || t.Month() != month || hour > 23 || minute > 59 || day == 0 {
		return fmt.Sprintf("the time %q does not exist", clip(b))
	}
	if year < 1678 || year > 2261 {
		return fmt.Sprintf("the year in %q is out of reach", clip(b)) // of nanoseconds in 64 bits
	}
	offset := int64(zone[1]-'0')*36000 + int64(zone[2]-'0')*3600 + int64(zone[3]-'0')*600 + int64(zone[4]-'0')*60
	if offset > 18*3600 {
		return fmt.Sprintf("the time %q has no such zone", clip(b))
	}
	if zone[0] == '-' {
		offset = -offset
	}
	c.base = t.UnixNano() - offset*int64(time.Second)
	copy(c.minute[:], b[:17])
	copy(c.zone[:], zone)
	c.cached = true
	return ""
}

// minuteShape reports whether a time is like 23/Nov/2026:06:55 and its zone like +0000,
// whatever the name of the month.
func minuteShape(b, zone []byte) bool {
	return b[2] == '/' && b[6] == '/' && b[11] == ':' && b[14] == ':' &&
		digits(b[0:2]) && digits(b[7:11]) && digits(b[12:14]) && digits(b[15:17]) &&
		(zone[0] == '+' || zone[0] == '-') && digits(zone[1:])
}
