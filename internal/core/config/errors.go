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
	Help: "responses of the proxy itself when a request fails",
	Keys: []*Key{
		{Name: "form", Type: Text, Default: `"by-accept"`, Why: "a browser gets a page, a program gets JSON", Allowed: []string{"by-accept", "text", "problem"},
			Meanings: []string{"problem details (RFC 9457) for clients that accept JSON, text for others", "always text", "always problem details"}, Help: "format of the response", Example: `"problem"`},
		{Name: "pages", Type: FieldTable, Help: "error pages, a file per status or range of statuses, relative to the folder of the configuration. {status}, {reason} and {request_id} in a file are replaced. Clients that accept problem details get those instead",
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
