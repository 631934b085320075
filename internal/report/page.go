package report

import (
	"bytes"
	_ "embed"
	"html/template"
)

//go:embed page/page.css
var pageRules string

// pageCSS is the style sheet of every page.
var pageCSS = paletteCSS() + pageRules

//go:embed page/base.html
var baseHTML string

//go:embed page/replay.html
var replayHTML string

//go:embed page/compare.html
var compareHTML string

//go:embed page/sweep.html
var sweepHTML string

//go:embed page/hunt.html
var huntHTML string

//go:embed page/trace.html
var traceHTML string

// pages are the templates of all pages: each is one file that needs no network and
// runs no script.
var pages = template.Must(template.New("").Parse(baseHTML + replayHTML + compareHTML + sweepHTML + huntHTML + traceHTML + rehearseHTML))

// pageTop is what the top of every page shows.
type pageTop struct {
	Title, Headline, Of, Version string
	CSS                          template.CSS
	Bad                          bool // the headline is bad news
	Notes                        []string
	Figures                      []pageFigure
	Assumed                      []string // see assumptions
}

// pageFigure is a number under its name.
type pageFigure struct {
	Name, Value, More string
	Bad               bool
}

func top(title, version string) pageTop {
	return pageTop{Title: title, Version: version, CSS: template.CSS(pageCSS)}
}

// render writes a page.
func render(name string, v any) ([]byte, error) {
	var b bytes.Buffer
	if err := pages.ExecuteTemplate(&b, name, v); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
