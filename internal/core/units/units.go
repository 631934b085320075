// Package units writes numbers and durations for people, in one format for every message, report and page.
//
// Any package may use it. It must never read a value: packages config and trace do, each in the syntax of its files.
package units

import (
	"fmt"
	"math"
	"strconv"
	"time"
)

// Count returns a whole number with thousands separators, as in 1,234.
func Count(n int64) string {
	s := strconv.FormatInt(n, 10)
	sign := ""
	if s[0] == '-' {
		sign, s = "-", s[1:]
	}
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return sign + s
}

// Three returns a number with three significant digits, and with thousands separators from 1,000 on.
func Three(x float64) string {
	switch a := math.Abs(x); {
	case a == 0:
		return "0"
	case a >= 1000:
		return Count(int64(math.Round(x)))
	case a >= 99.95:
		return strconv.FormatFloat(x, 'f', 0, 64)
	case a >= 9.995:
		return strconv.FormatFloat(x, 'f', 1, 64)
	case a >= 0.9995:
		return strconv.FormatFloat(x, 'f', 2, 64)
	}
	return strconv.FormatFloat(x, 'g', 3, 64)
}

// Span returns a measured duration in seconds with three significant digits: µs, ms, s below a minute, 2m30s below an hour,
// 1h02m beyond.
func Span(sec float64) string {
	switch {
	case sec == 0:
		return "0 s"
	case sec < 0.0000005:
		return "0 µs"
	case sec < 0.0009995:
		return Three(sec*1e6) + " µs"
	case sec < 0.9995:
		return Three(sec*1e3) + " ms"
	case sec < 59.95:
		return Three(sec) + " s"
	}
	whole := int64(math.Round(sec))
	unit, more, first, second := "m", "s", whole/60, whole%60
	if whole >= 3600 {
		unit, more, first, second = "h", "m", whole/3600, whole%3600/60
	}
	if second == 0 {
		return fmt.Sprintf("%d%s", first, unit)
	}
	return fmt.Sprintf("%d%s%02d%s", first, unit, second, more)
}

// Duration returns a duration of a setting, with as many digits as it has: 1.5 s, 250 ms, 2m30s.
func Duration(d time.Duration) string {
	switch {
	case d == 0:
		return "0 s"
	case d < time.Millisecond:
		return short(d, time.Microsecond) + " µs"
	case d < time.Second:
		return short(d, time.Millisecond) + " ms"
	case d < time.Minute:
		return short(d, time.Second) + " s"
	}
	return Span(d.Seconds())
}

// short returns a duration in a unit, with at most three places.
func short(d, unit time.Duration) string {
	return strconv.FormatFloat(math.Round(float64(d)/float64(unit)*1000)/1000, 'f', -1, 64)
}
