package report

import (
	"fmt"
	"image/color"
	"strconv"
	"strings"
)

// colour is one that things are drawn in: in figures, maps and light pages, in dark pages,
// and on paper. A style sheet has it by its name.
type colour struct{ name, light, dark, print string }

// The palette: a sea chart, and eight colours for series that those who see colours
// otherwise can tell apart (after Okabe, Ito: Color Universal Design, 2002), darkened until
// text in them can be read.
var (
	paper  = colour{"paper", "#fbfaf6", "#121a20", "#ffffff"}
	ink    = colour{"ink", "#1d2a35", "#e6e2d8", "#000000"}
	thin   = colour{"thin", "#d7d3c7", "#34424d", "#bbbbbb"}
	soft   = colour{"soft", "#5b6670", "#a3adb3", "#444444"}
	card   = colour{"card", "#ffffff", "#18222a", "#ffffff"}
	accent = colour{"accent", "#1f7a6d", "#5cc4b3", "#1f7a6d"}
	warn   = colour{"warn", "#a8410b", "#ff9d68", "#a8410b"}
	hatch  = colour{"hatch", "#8a6d00", "#d8bd4a", "#7a6200"}
)

// look is how a series is drawn: in a colour, and in dashes, by which it is told from
// others without one. Dashes are lengths drawn and left out, in pixels.
type look struct {
	colour
	dashes []float64
}

var (
	wholeAccent = look{accent, nil}
	dashedWarn  = look{warn, []float64{5, 2}}
)

// looks are those of series that stand beside each other.
var looks = []look{
	{colour{"s0", "#0072b2", "#56b4e9", "#0072b2"}, nil},
	{colour{"s1", "#b35a00", "#e69f00", "#b35a00"}, []float64{7, 3}},
	{colour{"s2", "#00795c", "#3ccfa3", "#00795c"}, []float64{2, 2.5}},
	{colour{"s3", "#8f4a77", "#dd9ac4", "#8f4a77"}, []float64{8, 2, 2, 2}},
	{colour{"s4", "#1d2a35", "#e6e2d8", "#000000"}, []float64{1, 2}},
	{colour{"s5", "#3b7fa8", "#8fd0f5", "#3b7fa8"}, []float64{10, 3}},
	{colour{"s6", "#857400", "#f0e442", "#857400"}, []float64{4, 4}},
	{colour{"s7", "#5b6670", "#a3adb3", "#444444"}, []float64{6, 2, 1, 2}},
}

// rgb returns the colour as figures have it.
func (c colour) rgb() color.Color {
	n, _ := strconv.ParseUint(c.light[1:], 16, 32) // constants of ours
	return color.RGBA{uint8(n >> 16), uint8(n >> 8), uint8(n), 255}
}

// paletteCSS returns the style sheet of colours and looks.
func paletteCSS() string {
	var b strings.Builder
	root := func(scheme string, of func(colour) string) {
		b.WriteString(":root {")
		all := []colour{paper, ink, thin, soft, card, accent, warn, hatch}
		for _, l := range looks {
			all = append(all, l.colour)
		}
		for _, c := range all {
			fmt.Fprintf(&b, " --%s: %s;", c.name, of(c))
		}
		fmt.Fprintf(&b, " color-scheme: %s; }", scheme)
	}
	root("light", func(c colour) string { return c.light })
	b.WriteString("\n@media (prefers-color-scheme: dark) { ")
	root("dark", func(c colour) string { return c.dark })
	b.WriteString(" }\n@media print { ")
	root("light", func(c colour) string { return c.print })
	b.WriteString(" }\n")
	for _, l := range append([]look{wholeAccent, dashedWarn}, looks...) {
		dashes := ""
		if len(l.dashes) > 0 {
			dashes = " stroke-dasharray: " + strings.Trim(fmt.Sprint(l.dashes), "[]") + ";"
		}
		fmt.Fprintf(&b, "svg .line.%[1]s { stroke: var(--%[1]s);%[2]s } svg .area.%[1]s { fill: var(--%[1]s); stroke: var(--%[1]s); } svg text.%[1]s, svg .point.%[1]s { fill: var(--%[1]s); }\n", l.name, dashes)
	}
	return b.String()
}
