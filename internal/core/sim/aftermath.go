package sim

import (
	"math"

	"kestrix/internal/core/result"
	"kestrix/internal/core/tick"
)

// course counts how requests fared by the moment at which they arrived. It is kept where a
// fault may end, to see when all is as before.
type course struct {
	width tick.Time
	rows  []result.CourseRow
}

// maxCourse bounds the rows; when it is reached their width doubles.
const maxCourse = 4096

// row returns that of a moment.
func (c *course) row(at tick.Time) *result.CourseRow {
	for int(at/c.width) >= maxCourse {
		half := c.rows[:0]
		for i := 0; i < len(c.rows); i += 2 {
			r := c.rows[i]
			if i+1 < len(c.rows) {
				r.Add(c.rows[i+1])
			}
			half = append(half, r)
		}
		c.rows, c.width = half, c.width*2
	}
	for int(at/c.width) >= len(c.rows) {
		c.rows = append(c.rows, result.CourseRow{})
	}
	return &c.rows[at/c.width]
}

// result returns the course as it is reported; nil if none was kept.
func (c *course) result() *result.Course {
	if c == nil {
		return nil
	}
	return &result.Course{Width: c.width.Seconds(), Rows: c.rows}
}

// When all is as before: in a time of at least 5 s and 20 requests as few fail or are left,
// but for 1 %, and they take no more than 1.5 times as long.
const (
	quietFor  = 5.0 // seconds
	quietOf   = 20  // requests
	quietMore = 0.01
	quietSlow = 1.5
)

// Aftermath returns what came of the requests that arrived from some moment on until all was
// as it is otherwise, which usual tells of a time: what came of the requests without the
// fault, or before it. It is empty where too few requests follow to tell by.
func Aftermath(c *result.Course, from float64, usual func(from, to float64) result.CourseRow) result.Aftermath {
	var a result.Aftermath
	end, judged := c.Width*float64(len(c.Rows)), false
	for at := math.Ceil(from/c.Width-1e-9) * c.Width; at < end; at += c.Width {
		window := c.Between(at, at+quietFor)
		to := at + math.Max(quietFor, c.Width)
		for window.Arrived < quietOf && to < end {
			window.Add(c.Between(to, to+c.Width))
			to += c.Width
		}
		if window.Arrived < quietOf {
			break // the rest is too few to tell by
		}
		judged = true
		if asUsual(window, usual(at, to)) {
			until := math.Max(at-from, 0)
			a.Until = &until
			over := c.Between(from, at)
			a.Requests, a.Failed = over.Arrived, over.Failed
			return a
		}
	}
	if !judged {
		return a
	}
	rest := c.Between(from, end)
	a.Requests, a.Failed = rest.Arrived, rest.Failed
	return a
}

// asUsual reports whether requests fared as others did.
func asUsual(these, others result.CourseRow) bool {
	n := float64(these.Arrived)
	lost, mean := 0.0, 0.0
	if others.Arrived > 0 {
		lost, mean = float64(others.Failed+others.Left)/float64(others.Arrived)*n, others.Elapsed/float64(others.Arrived)
	}
	return float64(these.Failed+these.Left) <= lost+2*math.Sqrt(lost)+quietMore*n && these.Elapsed/n <= quietSlow*mean+0.001
}

// aftermath returns what came after the end of a fault, held against what was before it.
func (e *Engine) aftermath(f *fault) result.Aftermath {
	before := e.course.result().Between(0, f.at.Seconds())
	if !f.ended || before.Arrived == 0 {
		return result.Aftermath{}
	}
	return Aftermath(e.course.result(), f.until.Seconds(), func(float64, float64) result.CourseRow { return before })
}
