package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"

	"kestrix/internal/core/study"
)

// svg gathers shapes.
type svg struct{ b strings.Builder }

func (v *svg) text(x, y float64, class, s string) {
	var e bytes.Buffer
	_ = xml.EscapeText(&e, []byte(s)) // a buffer takes everything
	fmt.Fprintf(&v.b, "<text x=\"%.0f\" y=\"%.0f\" class=\"%s\">%s</text>\n", x, y, class, e.String())
}

func (v *svg) card(x, y, w, h float64) {
	fmt.Fprintf(&v.b, "<rect x=\"%.0f\" y=\"%.0f\" width=\"%.0f\" height=\"%.0f\" rx=\"4\" class=\"card\"/>\n", x, y, w, h)
}

func (v *svg) way(x1, y1, x2, y2 float64) {
	mid := (x1 + x2) / 2
	fmt.Fprintf(&v.b, "<path d=\"M%.0f %.0f C%.0f %.0f %.0f %.0f %.0f %.0f\" class=\"way\"/>\n", x1, y1, mid, y1, mid, y2, x2, y2)
}

// Places of the three columns, in pixels of a picture 1280 wide.
const (
	mapWidth   = 1280
	frontX     = 24
	frontWidth = 220
	routeX     = 290
	routeWidth = 400
	upX        = 840
	upWidth    = 416
	rowHeight  = 19
)

// MapSVG draws a configuration: frontends on the left, their routes in the order
// they are tried, upstreams with their backends on the right.
func MapSVG(title string, p *study.Map) string {
	var v svg
	left, right := 64.0, 64.0
	ups := map[string]float64{}
	for _, u := range p.Upstreams {
		ups[u.Name] = right + 20
		right = v.upstream(u, right) + 18
	}
	for _, f := range p.Frontends {
		top := left
		for i, r := range f.Routes {
			v.card(routeX, left, routeWidth, 42)
			v.text(routeX+12, left+18, "name", fmt.Sprintf("%d  %s", i+1, r.Name))
			words := r.When
			if r.Answer != "" {
				words += ": " + r.Answer
			}
			v.text(routeX+12, left+34, "small", clip(words, 60))
			v.way(frontX+frontWidth, top+24, routeX, left+21)
			if y, ok := ups[r.SendTo]; ok {
				v.way(routeX+routeWidth, left+21, upX, y)
			}
			left += 52
		}
		h := 34 + float64(len(f.Listen))*rowHeight
		v.card(frontX, top, frontWidth, h)
		v.text(frontX+12, top+20, "name", f.Name+" · "+f.Protocol)
		for i, l := range f.Listen {
			v.text(frontX+12, top+40+float64(i)*rowHeight, "small", clip(l, 32))
		}
		left = max(left, top+h+10) + 18
	}
	height := max(left, right) + 16
	var out strings.Builder
	fmt.Fprintf(&out, "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 %d %.0f\" width=\"%d\" height=\"%.0f\" role=\"img\">\n", mapWidth, height, mapWidth, height)
	fmt.Fprintf(&out, "<style>text{font-family:system-ui,sans-serif;fill:%s;font-size:13px}.title{font-size:18px;font-weight:600}.head{font-size:12px;fill:%s}.name{font-weight:600}.small{font-size:12px}.num{font-size:12px;text-anchor:end;font-variant-numeric:tabular-nums}.card{fill:%s;stroke:%s}.way{fill:none;stroke:%s;stroke-width:1.5}.bar{fill:%s}.rule{stroke:%s}</style>\n", ink.light, ink.light, paper.light, ink.light, accent.light, accent.light, thin.light)
	fmt.Fprintf(&out, "<rect width=\"%d\" height=\"%.0f\" fill=\"%s\"/>\n", mapWidth, height, paper.light)
	var head svg
	head.text(frontX, 30, "title", title)
	head.text(frontX, 54, "head", "frontends")
	head.text(routeX, 54, "head", "routes: the first that fits decides")
	head.text(upX, 54, "head", "upstreams, and the share each backend's weight gives it")
	out.WriteString(head.b.String())
	// Ways lie below cards.
	for _, l := range strings.SplitAfter(v.b.String(), "\n") {
		if strings.HasPrefix(l, "<path") {
			out.WriteString(l)
		}
	}
	for _, l := range strings.SplitAfter(v.b.String(), "\n") {
		if !strings.HasPrefix(l, "<path") {
			out.WriteString(l)
		}
	}
	out.WriteString("</svg>\n")
	return out.String()
}

// upstream draws one and returns where it ends.
func (v *svg) upstream(u study.MapUpstream, top float64) float64 {
	shown := u.Backends
	more := 0
	if len(shown) > mapBackends+1 {
		more = len(shown) - mapBackends
		shown = shown[:mapBackends]
	}
	rows := len(shown)
	if more > 0 {
		rows++
	}
	lines := strings.Split(flow(strings.Join(u.Settings, ", "), 64, 0), "\n")
	row := float64(rowHeight)
	for i := range shown {
		if stands(&shown[i]) != "" {
			row = rowHeight + 14 // a line more, for where it stands
			break
		}
	}
	h := 33 + 17*float64(len(lines)) + float64(rows)*row
	v.card(upX, top, upWidth, h)
	v.text(upX+12, top+20, "name", u.Name+" · "+u.Algorithm)
	for i, l := range lines {
		v.text(upX+12, top+37+17*float64(i), "small", l)
	}
	first := top + 41 + 17*float64(len(lines))
	for i, x := range shown {
		y := first + float64(i)*row
		v.text(upX+12, y, "small", clip(x.Name, 16))
		v.text(upX+120, y, "small", clip(x.Address, 22))
		v.text(upX+120, y+14, "small", clip(strings.TrimPrefix(stands(&x), ", "), 40))
		fmt.Fprintf(&v.b, "<rect x=\"%d\" y=\"%.0f\" width=\"%.1f\" height=\"8\" class=\"bar\"/>\n", upX+280, y-8, 70*x.Share)
		v.text(upX+upWidth-12, y, "num", percent(x.Share))
	}
	if more > 0 {
		v.text(upX+12, first+float64(len(shown))*row, "small", fmt.Sprintf("and %d more", more))
	}
	return top + h
}
