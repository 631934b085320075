// Package report turns results into text, pages, figures and other formats.
//
// The commands call it. It must never compute a figure that its argument does not have,
// read files or print: it returns texts.
package report

import (
	"fmt"
	"kestrix/internal/core/units"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// Style is how text is to look where it is printed.
type Style struct {
	Colour   bool // on a terminal, and never with NO_COLOR
	Unicode  bool // the locale can show bars and rules; else # and -
	Terminal bool // whether tables must fit the width; in a file or a pipe they never hide a column
	Width    int  // columns of flowing text
	All      bool // list every row of long tables

	hide   []string  // columns that tables hide
	hidden *[]string // columns that did not fit, see fit; nil outside of it
}

func (s Style) wrap(code, text string) string {
	if !s.Colour || text == "" {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

func (s Style) bold(text string) string { return s.wrap("1", text) }
func (s Style) red(text string) string  { return s.wrap("31", text) }

// warn colours a warning. The colour, rgb(175, 95, 0), has a contrast of at least 4.4 on white and on black alike (WCAG 2.2,
// section 1.4.3); the yellow of terminals is unreadable on a light ground.
func (s Style) warn(text string) string { return s.wrap("38;5;130", text) }

// visible returns how many columns a text takes, without its colours.
func visible(s string) int {
	n, escape := 0, false
	for _, r := range s {
		switch {
		case r == 0x1b:
			escape = true
		case escape:
			escape = r != 'm'
		default:
			n++
		}
	}
	return n
}

func padLeft(s string, width int) string {
	return strings.Repeat(" ", max(0, width-visible(s))) + s
}

func padRight(s string, width int) string {
	return s + strings.Repeat(" ", max(0, width-visible(s)))
}

// rule is a line of dashes.
func (s Style) rule(n int) string {
	if s.Unicode {
		return strings.Repeat("─", n)
	}
	return strings.Repeat("-", n)
}

// dot is what stands between parts of a heading.
func (s Style) dot() string {
	if s.Unicode {
		return " · "
	}
	return " - "
}

// bar draws a share from 0 to 1, in eighths of a column where it can.
func (s Style) bar(share float64, width int) string {
	share = min(max(share, 0), 1)
	if !s.Unicode {
		return padRight(strings.Repeat("#", int(math.Round(share*float64(width)))), width)
	}
	eighths := int(math.Round(share * float64(width) * 8))
	b := strings.Repeat("█", eighths/8)
	if rest := eighths % 8; rest > 0 {
		b += string([]rune("▏▎▍▌▋▊▉")[rest-1])
	}
	return padRight(b, width)
}

// spark draws a row of numbers as a small chart, each against top.
func (s Style) spark(values []float64, top float64) string {
	steps := []rune("▁▂▃▄▅▆▇█")
	if !s.Unicode {
		steps = []rune(".:-=+*%#")
	}
	var b strings.Builder
	for _, v := range values {
		if v <= 0 || top <= 0 {
			b.WriteByte(' ')
			continue
		}
		i := int(math.Ceil(v/top*float64(len(steps)))) - 1
		b.WriteRune(steps[min(max(i, 0), len(steps)-1)])
	}
	return b.String()
}

// count writes a whole number with thousands separators.
func count(n int64) string { return units.Count(n) }

// Plural writes a number of things, as in "2 records".
func Plural(n int64, one string) string { return plural(n, one) }

// Count writes a whole number with thousands separators.
func Count(n int64) string { return count(n) }

// three writes a number with three significant digits.
func three(x float64) string { return units.Three(x) }

// Span writes seconds as a duration with its unit.
func Span(sec float64) string { return span(sec) }

// span writes seconds as a duration.
func span(sec float64) string { return units.Span(sec) }

// clock writes a time as m:ss.s, or h:mm:ss beyond an hour.
func clock(sec float64) string {
	tenths := int64(math.Round(sec * 10))
	if tenths >= 36000 {
		s := (tenths + 5) / 10
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d.%d", tenths/600, tenths/10%60, tenths%10)
}

// moment writes a time since the start of a replay, as mm:ss.s.
func moment(sec float64) string {
	c := clock(sec)
	if len(c) == len("0:00.0") {
		c = "0" + c
	}
	return c
}

// percent writes a share from 0 to 1.
func percent(share float64) string { return strconv.FormatFloat(share*100, 'f', 1, 64) + " %" }

// finePercent writes a share with as many places as it needs to be neither 0
// nor 100 when it is not.
func finePercent(share float64) string {
	for places := 2; places < 6; places++ {
		s := strconv.FormatFloat(share*100, 'f', places, 64)
		if f, _ := strconv.ParseFloat(s, 64); (f != 0 || share == 0) && (f != 100 || share == 1) {
			return s + " %"
		}
	}
	return strconv.FormatFloat(share*100, 'g', 3, 64) + " %"
}

// plural joins a number and a word.
func plural(n int64, one string) string {
	if n == 1 {
		return "1 " + one
	}
	switch {
	case strings.HasSuffix(one, "s"):
		return count(n) + " " + one + "es"
	case strings.HasSuffix(one, "y") && !strings.HasSuffix(one, "ay"):
		return count(n) + " " + strings.TrimSuffix(one, "y") + "ies"
	}
	return count(n) + " " + one + "s"
}

// wallTime writes a moment of a trace, in UTC.
func wallTime(sec float64) string {
	return time.Unix(0, int64(sec*1e9)).UTC().Format("2006-01-02 15:04:05")
}

// clip cuts a text to so many columns.
func clip(s string, width int) string {
	if utf8.RuneCountInString(s) <= width {
		return s
	}
	r := []rune(s)
	return string(r[:max(width-1, 0)]) + "…"
}

// glue stands for a space at which no line ends: a number stays with its unit.
const glue = "\x00"

var gluedUnits = strings.NewReplacer(" %", glue+"%", " ms", glue+"ms", " µs", glue+"µs", " s ", glue+"s ", " s,", glue+"s,", " s;", glue+"s;", " s.", glue+"s.")

// flow breaks a text into lines of at most width columns, those after the
// first indented.
func flow(text string, width, indent int) string { return flowFrom(text, width, indent, indent) }

// flowFrom is flow for a text whose first line begins at a column of its own.
func flowFrom(text string, width, first, indent int) string {
	width = max(width, indent+20)
	var b strings.Builder
	column := first
	for i, w := range strings.Fields(gluedUnits.Replace(text)) {
		w = strings.ReplaceAll(w, glue, " ")
		n := visible(w)
		if i > 0 {
			if column+1+n > width {
				b.WriteString("\n" + strings.Repeat(" ", indent))
				column = indent
			} else {
				b.WriteByte(' ')
				column++
			}
		}
		b.WriteString(w)
		column += n
	}
	return b.String()
}
