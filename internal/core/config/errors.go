package config

import (
	"fmt"
	"strings"

	"github.com/hashicorp/hcl/v2"
)

// Errors says how the answers look that the proxy gives by itself when
// something is wrong.
type Errors struct {
	Range hcl.Range
	Form  string // by-accept, text or problem
	Pages []ErrorPage
}

// ErrorPage is a page of one's own for a range of statuses.
type ErrorPage struct {
	Status StatusRange
	File   Placed[string]
}

// Page returns the position of the page for a status, -1 if there is none. One
// for the status alone goes before one for a range.
func (e *Errors) Page(status int) int {
	found := -1
	for i, p := range e.Pages {
		if p.Status.From == status && p.Status.To == status {
			return i
		}
		if found < 0 && status >= p.Status.From && status <= p.Status.To {
			found = i
		}
	}
	return found
}

var errorsBlock = &Block{
	Name: "errors", Always: true,
	Help: "how the answers look that the proxy gives by itself when something is wrong",
	Keys: []*Key{
		{Name: "form", Type: Text, Default: `"by-accept"`, Allowed: []string{"by-accept", "text", "problem"},
			Help: "problem details (RFC 9457) for clients that accept JSON and text for all others, or always one of them", Example: `"problem"`},
		{Name: "pages", Type: FieldTable, Help: "your own pages, by status or range of statuses: a file each, relative to the folder of the configuration, read when the configuration is; {status} and {reason} in it stand for the answer's. Clients that want problem details get those",
			Example: `{ "503" = "back-soon.html", "500-599" = "sorry.html" }`},
	},
}

func (d *Decoder) errors(n *Node) Errors {
	e := Errors{Range: n.Range, Form: Get[string](n, "form")}
	for _, p := range Get[[]FieldPair](n, "pages") {
		r, ok := parseStatusRange(p.Name.Value)
		if !ok || r.From < 400 {
			d.Add(IDType, p.Name.Range, fmt.Sprintf("%q is not the status of an error", shorten(p.Name.Value)), `like "503" or "500-599"`)
			continue
		}
		if strings.TrimSpace(p.Value.Value) == "" {
			d.Add(IDType, p.Value.Range, "the page has no file", `like "sorry.html"`)
			continue
		}
		e.Pages = append(e.Pages, ErrorPage{r, p.Value})
	}
	return e
}
