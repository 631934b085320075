package trace

import (
	"math"
	"strings"
)

// noHost stands in a URL, which cannot do without one, where the host is not
// known (RFC 6761 section 6.4).
const noHost = "unknown.invalid"

// harRoot is the key under which an archive keeps everything.
const harRoot = `log`

// archive walks the list log.entries of an HTTP Archive.
func archive(j *jsonl, each func(entry []byte, at int) bool, found *bool) string {
	j.space()
	stopped := false
	why := j.object(func(key []byte) string {
		if text(key) != harRoot || !j.at('{') {
			return j.skip(0)
		}
		return j.object(func(key []byte) string {
			if text(key) != "entries" || !j.at('[') {
				return j.skip(0)
			}
			*found = true
			return j.each(each, &stopped)
		})
	})
	if stopped {
		return ""
	}
	return why
}

// list reads [ value, ... ]; value must read one.
func (j *jsonl) list(value func() string) string {
	j.i++
	j.space()
	if j.take(']') {
		return ""
	}
	for {
		j.space()
		if why := value(); why != "" {
			return why
		}
		j.space()
		if j.take(']') {
			return ""
		}
		if !j.take(',') {
			return "\",\" or \"]\" is expected"
		}
	}
}

// entry reads one entry into a record. -1 and 0 stand for what is not known.
func (j *jsonl) entry(r *Record) string {
	if !j.at('{') {
		return "an entry is an object in braces"
	}
	socket := false
	why := j.object(func(key []byte) string {
		switch text(key) {
		case "startedDateTime":
			return j.harText(func(v []byte) string { return stampRFC3339(v, r) })
		case "time":
			return j.harNumber(func(x float64) { r.Duration = int64(math.Round(min(x*1e6, float64(longest)))) })
		case "request":
			return j.inside(func(key []byte) string { return j.harRequest(text(key), r) })
		case "response":
			return j.inside(func(key []byte) string { return j.harResponse(text(key), r) })
		case "_resourceType":
			return j.harText(func(v []byte) string {
				socket = text(v) == "websocket" || text(v) == "eventsource"
				return ""
			})
		// Not of the standard: what a record of ours needs to come back whole.
		case "_client":
			return j.harText(func(v []byte) string { r.Client = v; return "" })
		case "_session":
			return j.harText(func(v []byte) string { r.Session = v; return "" })
		case "_frontend":
			return j.harText(func(v []byte) string { r.Frontend = v; return "" })
		case "_upstream":
			return j.harText(func(v []byte) string { r.Upstream = v; return "" })
		case "_backend":
			return j.harText(func(v []byte) string { r.Backend = v; return "" })
		case "_protocol":
			return j.harText(func(v []byte) string { r.Protocol = protocol(v); return "" })
		}
		return j.skip(0)
	})
	if socket && r.Protocol == HTTP {
		r.Protocol = Stream
	}
	return why
}

func (j *jsonl) harRequest(key string, r *Record) string {
	switch key {
	case "method":
		return j.harText(func(v []byte) string { r.Method = v; return "" })
	case "url":
		return j.harText(func(v []byte) string {
			why := target(v, r)
			if string(r.Host) == noHost {
				r.Host = nil
			}
			return why
		})
	case "headers":
		return j.harPairs(func(name, value []byte) {
			switch n := text(name); {
			case strings.EqualFold(n, "user-agent"):
				r.UserAgent = known(value)
			case strings.EqualFold(n, "referer"):
				r.Referer = known(value)
			case strings.EqualFold(n, "cookie"), strings.HasPrefix(n, ":"):
			case strings.EqualFold(n, "host"):
				if r.Host == nil {
					r.Host = known(value)
				}
			default:
				r.Headers = append(r.Headers, KV{name, value})
			}
		})
	case "cookies":
		return j.harPairs(func(name, value []byte) { r.Cookies = append(r.Cookies, KV{name, value}) })
	}
	return j.skip(0)
}

func (j *jsonl) harResponse(key string, r *Record) string {
	switch key {
	case "status":
		return j.harNumber(func(x float64) {
			if x >= 100 && x <= 999 {
				r.Status = int(x)
			}
		})
	case "bodySize":
		return j.harNumber(func(x float64) { r.Bytes = int64(min(x, 1e18)) })
	case "content":
		return j.inside(func(key []byte) string {
			if text(key) != "size" {
				return j.skip(0)
			}
			return j.harNumber(func(x float64) {
				if r.Bytes < 0 {
					r.Bytes = int64(min(x, 1e18))
				}
			})
		})
	}
	return j.skip(0)
}

// inside reads an object; anything else in its place says nothing.
func (j *jsonl) inside(value func(key []byte) string) string {
	if !j.at('{') {
		return j.skip(0)
	}
	return j.object(value)
}

// harText reads a text; anything else in its place, or an empty one, says
// nothing.
func (j *jsonl) harText(take func([]byte) string) string {
	if !j.at('"') {
		return j.skip(0)
	}
	start := j.i
	var v []byte
	if why := j.text(&v); why != "" {
		return why
	}
	if len(v) == 0 {
		return ""
	}
	why := take(v)
	if why != "" {
		j.i = start
	}
	return why
}

// harNumber reads a number above 0; anything else says nothing.
func (j *jsonl) harNumber(take func(float64)) string {
	if j.at('"') || j.at('{') || j.at('[') || j.at('t') || j.at('f') {
		return j.skip(0)
	}
	x, ok, why := j.number()
	if why == "" && ok && x > 0 {
		take(x)
	}
	return why
}

// harPairs reads a list of objects with name and value.
func (j *jsonl) harPairs(take func(name, value []byte)) string {
	if !j.at('[') {
		return j.skip(0)
	}
	return j.list(func() string {
		var name, value []byte
		why := j.inside(func(key []byte) string {
			switch text(key) {
			case "name":
				return j.harText(func(v []byte) string { name = v; return "" })
			case "value":
				return j.harText(func(v []byte) string { value = v; return "" })
			}
			return j.skip(0)
		})
		if name != nil {
			take(name, value)
		}
		return why
	})
}
