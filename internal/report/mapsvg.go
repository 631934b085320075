package report

import (
	"bytes"
	"cmp"
	"encoding/xml"
	"fmt"
	"math"
	"slices"
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
	for _, u := range fewCrossings(p) {
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
	head.text(routeX, 54, "head", "routes: the first that matches decides")
	head.text(upX, 54, "head", "upstreams; share of each backend by its weight")
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

// fewCrossings returns the upstreams in an order in which few lines from routes cross: by the mean place of their routes
// (the barycenter heuristic, Sugiyama, Tagawa and Toda 1981), then by exchanges of neighbours that remove a crossing.
// Upstreams without a route are last.
func fewCrossings(p *study.Map) []study.MapUpstream {
	from := map[string][]int{} // the places of the routes of each
	place := 0
	for _, f := range p.Frontends {
		for _, r := range f.Routes {
			from[r.SendTo] = append(from[r.SendTo], place)
			place++
		}
	}
	mean := func(u *study.MapUpstream) float64 {
		sum := 0.0
		for _, x := range from[u.Name] {
			sum += float64(x)
		}
		if len(from[u.Name]) == 0 {
			return math.Inf(1)
		}
		return sum / float64(len(from[u.Name]))
	}
	out := slices.Clone(p.Upstreams)
	slices.SortStableFunc(out, func(a, b study.MapUpstream) int { return cmp.Compare(mean(&a), mean(&b)) })
	for swapped, rounds := true, 0; swapped && rounds < len(out); rounds++ {
		swapped = false
		for i := 1; i < len(out); i++ {
			a, b := from[out[i-1].Name], from[out[i].Name]
			if crossings(b, a) < crossings(a, b) {
				out[i-1], out[i] = out[i], out[i-1]
				swapped = true
			}
		}
	}
	return out
}

// crossings counts the lines to an upper upstream that cross lines to a lower one.
func crossings(upper, lower []int) int {
	n := 0
	for _, x := range upper {
		for _, y := range lower {
			if y < x {
				n++
			}
		}
	}
	return n
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
	row, long := float64(rowHeight), false
	for i := range shown {
		x := &shown[i]
		long = long || len(x.Name) > 16 || len(x.Address) > 22
		if long || stands(x) != "" {
			row = rowHeight + 14 // a line more, for the zone, and for the address beside long names
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
		if long {
			v.text(upX+12, y, "small", clip(x.Name, 42))
			v.text(upX+12, y+14, "small", clip(x.Address+stands(&x), 66))
		} else {
			v.text(upX+12, y, "small", x.Name)
			v.text(upX+120, y, "small", x.Address)
			v.text(upX+120, y+14, "small", clip(strings.TrimPrefix(stands(&x), ", "), 40))
		}
		fmt.Fprintf(&v.b, "<rect x=\"%d\" y=\"%.0f\" width=\"%.1f\" height=\"8\" class=\"bar\"/>\n", upX+280, y-8, 70*x.Share)
		v.text(upX+upWidth-12, y, "num", percent(x.Share))
	}
	if more > 0 {
		v.text(upX+12, first+float64(len(shown))*row, "small", fmt.Sprintf("and %d more", more))
	}
	return top + h
}
