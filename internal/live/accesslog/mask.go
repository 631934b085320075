package accesslog

import (
	"net/url"
	"slices"
	"strings"
)

// mask stands for a value that is not shown.
const mask = "MASKED"

// Mask replaces the values of the query parameters of certain names in the target of a
// request or a URL. Names are compared without their escapes, as applications read them. What
// a client separates by ";" is taken apart as well, as some applications do.
func Mask(target string, names []string) string {
	path, query, has := strings.Cut(target, "?")
	if !has || query == "" {
		return target
	}
	query, fragment, fragmented := strings.Cut(query, "#")
	var out strings.Builder
	out.WriteString(path)
	out.WriteByte('?')
	changed := false
	for query != "" {
		pair := query
		if end := strings.IndexAny(query, "&;"); end >= 0 {
			pair = query[:end]
		}
		query = query[len(pair):]
		name, _, valued := strings.Cut(pair, "=")
		plain, err := url.QueryUnescape(name)
		if err != nil {
			plain = name
		}
		if valued && slices.Contains(names, plain) {
			pair, changed = name+"="+mask, true
		}
		out.WriteString(pair)
		if query != "" {
			out.WriteByte(query[0])
			query = query[1:]
		}
	}
	if !changed {
		return target
	}
	if fragmented {
		out.WriteString("#" + fragment)
	}
	return out.String()
}
