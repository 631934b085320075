package report

import (
	"fmt"
	"html"
	"html/template"
	"math"
	"strconv"
	"strings"
)

// chart draws lines over time as a part of a page: its colours are the page's, so
// that it is dark where that is. Time runs from left to right.
type chart struct {
	b                        strings.Builder
	width, height            float64
	left, right, top, bottom float64 // of the plot
	from, until              float64 // seconds
	low, high                float64 // of the values; logarithmic if log
	log                      bool
}

const chartWidth = 1080

func newChart(height, from, until float64) *chart {
	c := &chart{width: chartWidth, height: height, left: 64, right: chartWidth - 92, top: 26 + bandRow, bottom: height - 24, from: from, until: until}
	if c.until <= c.from {
		c.until = c.from + 1
	}
	return c
}

func (c *chart) x(t float64) float64 {
	return c.left + (min(max(t, c.from), c.until)-c.from)/(c.until-c.from)*(c.right-c.left)
}

func (c *chart) y(v float64) float64 {
	share := 0.0
	switch {
	case c.log:
		share = math.Log(min(max(v, c.low), c.high)/c.low) / math.Log(c.high/c.low)
	case c.high > 0:
		share = v / c.high
	}
	return c.bottom - share*(c.bottom-c.top)
}

// px writes a place with as many digits as one sees.
func px(v float64) string { return strconv.FormatFloat(math.Round(v*10)/10, 'f', -1, 64) }

func (c *chart) text(x, y float64, class, s string) {
	fmt.Fprintf(&c.b, `<text x="%s" y="%s" class="%s">%s</text>`, px(x), px(y), class, html.EscapeString(s))
}

// letter is the width of a bold letter of a label, on average.
const letter = 7.4

// roomFor moves the left end of the plot so that the longest of the names of rows fits beside it. The plot keeps its half of
// the chart: names of more than some 60 letters are cut there.
func (c *chart) roomFor(names []string, least float64) {
	longest := 0
	for _, n := range names {
		longest = max(longest, len([]rune(n)))
	}
	c.left = min(max(least, float64(longest)*letter+20), chartWidth*0.44)
}

// label writes the name of a row left of the plot, whole where the pointer rests on it.
func (c *chart) label(y float64, name string) {
	fmt.Fprintf(&c.b, `<text x="%s" y="%s" class="e b"><title>%s</title>%s</text>`,
		px(c.left-8), px(y), html.EscapeString(name), html.EscapeString(clip(name, int((c.left-12)/letter))))
}

func (c *chart) rule(x1, y1, x2, y2 float64, class string) {
	fmt.Fprintf(&c.b, `<path class="%s" d="M%s %sL%s %s"/>`, class, px(x1), px(y1), px(x2), px(y2))
}

// times draws the axis of time under the plot.
func (c *chart) times(at []mark) {
	for _, m := range at {
		c.rule(c.x(m.at), c.bottom, c.x(m.at), c.bottom+4, "axis")
		c.text(c.x(m.at), c.bottom+17, "m soft", m.text)
	}
	c.rule(c.left, c.bottom, c.right, c.bottom, "axis")
}

// values draws the lines of the other axis, each with what it stands for.
func (c *chart) values(at []float64, word func(float64) string) {
	for _, v := range at {
		if v > 0 {
			c.rule(c.left, c.y(v), c.right, c.y(v), "rule")
		}
		c.text(c.left-7, c.y(v)+4, "e soft", word(v))
	}
}

// tick writes a round number of an axis.
func tick(v float64) string {
	if v >= 1000 {
		return count(int64(math.Round(v)))
	}
	return strconv.FormatFloat(v, 'g', 4, 64)
}

// steps5 returns a few round values from 0 to at least a value.
func steps5(high float64) []float64 {
	if high <= 0 {
		return []float64{0, 1}
	}
	step := math.Pow(10, math.Floor(math.Log10(high)))
	for _, s := range []float64{0.2, 0.25, 0.5, 1, 2} {
		if high/(step*s) <= 4.5 {
			step *= s
			break
		}
	}
	out := []float64{0}
	for v := step; ; v += step {
		out = append(out, v)
		if v >= high*0.999 {
			return out
		}
	}
}

// decades returns 1, 2 and 5 of the powers of ten between two values, or only the
// powers where that would be many.
func decades(low, high float64) []float64 {
	of := []float64{1, 2, 5}
	if high/low > 500 {
		of = of[:1]
	}
	var out []float64
	for e := math.Floor(math.Log10(low)); e <= math.Ceil(math.Log10(high)); e++ {
		for _, m := range of {
			if v := m * math.Pow(10, e); v >= low*0.999 && v <= high*1.001 {
				out = append(out, v)
			}
		}
	}
	return out
}

// line draws values that each hold until the next; a gap where there is none.
func (c *chart) line(points []point, until float64, l look) {
	var d strings.Builder
	open := false
	for i, p := range points {
		if math.IsNaN(p.v) {
			open = false
			continue
		}
		end := until
		if i+1 < len(points) {
			end = points[i+1].t
		}
		if !open {
			fmt.Fprintf(&d, "M%s %s", px(c.x(p.t)), px(c.y(p.v)))
			open = true
		} else {
			fmt.Fprintf(&d, "V%s", px(c.y(p.v)))
		}
		fmt.Fprintf(&d, "H%s", px(c.x(end)))
	}
	fmt.Fprintf(&c.b, `<path class="line %s" d="%s"/>`, l.name, d.String())
}

// area fills under such values, none of them missing.
func (c *chart) area(points []point, until float64, l look) {
	if len(points) == 0 {
		return
	}
	var d strings.Builder
	fmt.Fprintf(&d, "M%s %s", px(c.x(points[0].t)), px(c.bottom))
	for i, p := range points {
		end := until
		if i+1 < len(points) {
			end = points[i+1].t
		}
		fmt.Fprintf(&d, "V%sH%s", px(c.y(p.v)), px(c.x(end)))
	}
	fmt.Fprintf(&d, "V%sZ", px(c.bottom))
	fmt.Fprintf(&c.b, `<path class="area %s" d="%s"/>`, l.name, d.String())
}

// label is a name at the end of a line.
type label struct {
	y           float64
	text, class string
}

// labels writes names at the right, moved apart where they would overlap.
func (c *chart) labels(all []label) {
	for i := range all {
		for k := range i {
			if d := all[i].y - all[k].y; math.Abs(d) < 13 {
				all[i].y = all[k].y - 13
			}
		}
		c.text(c.right+6, all[i].y+4, all[i].class, all[i].text)
	}
}

// bandRow is how much a row of names above the plot takes.
const bandRow = 14

// bands draws faults as hatched bands from the top of the plot down to a place,
// each named at its top, in a second row where the first has no room. A name that
// has none is in the list of what happened.
func (c *chart) bands(all []band, to float64) {
	end := [2]float64{} // of the names in each row
	for _, x := range all {
		x1, x2 := c.x(x.from), max(c.x(x.until), c.x(x.from)+2)
		fmt.Fprintf(&c.b, `<rect class="band" x="%s" y="%s" width="%s" height="%s"><title>%s</title></rect>`, px(x1), px(c.top), px(x2-x1), px(to-c.top), html.EscapeString(x.name))
		name := clip(x.name, 40)
		wide := float64(len([]rune(name)))*6.4 + 8
		at := max(min(x1, c.right-wide), c.left)
		for row := range end {
			if at >= end[row] {
				c.text(at, c.top-6-bandRow*float64(row), "", name)
				end[row] = at + wide
				break
			}
		}
	}
}

// SVG returns the picture with what it shows in words, for those who do not see it.
func (c *chart) SVG(words string) template.HTML {
	return template.HTML(fmt.Sprintf(`<svg viewBox="0 0 %s %s" role="img" aria-label="%s"><defs>`+
		`<pattern id="hatch" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><path class="k" d="M0 0V6" fill="none"/></pattern>`+
		`<pattern id="weak" width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><path class="w" d="M0 0V4" fill="none"/></pattern></defs>%s</svg>`,
		px(c.width), px(c.height), html.EscapeString(words), c.b.String()))
}
