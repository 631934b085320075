package sim

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/result"
	"kestrix/internal/core/tick"
)

// courseOf makes a course of so many requests a second, of which some fail and each takes as
// long as is said, in seconds.
func courseOf(arrived int64, failed []int64, takes ...float64) *result.Course {
	c := &result.Course{Width: 1}
	for i := range max(len(failed), len(takes)) {
		r := result.CourseRow{Arrived: arrived, Elapsed: 0.1 * float64(arrived)}
		if i < len(failed) {
			r.Failed = failed[i]
		}
		if i < len(takes) {
			r.Elapsed = takes[i] * float64(arrived)
		}
		c.Rows = append(c.Rows, r)
	}
	return c
}

func TestAftermath(t *testing.T) {
	calm := func(from, to float64) result.CourseRow {
		n := int64(10 * (to - from))
		return result.CourseRow{Arrived: n, Elapsed: 0.1 * float64(n)}
	}
	twenty := make([]int64, 20)
	for title, x := range map[string]struct {
		course   *result.Course
		from     float64
		requests int64
		failed   int64
		until    float64 // -1 for never
	}{
		"as before at once":                       {courseOf(10, twenty), 5, 0, 0, 0},
		"in the middle of a row":                  {courseOf(10, twenty), 5.4, 0, 0, 0.6},
		"what fails before it is its own":         {courseOf(10, []int64{9, 9, 9, 9, 9, 0, 0, 0, 0, 0, 0, 0}), 5, 0, 0, 0},
		"three seconds of failures":               {courseOf(10, []int64{0, 0, 0, 0, 0, 4, 4, 4, 0, 0, 0, 0, 0, 0}), 5, 30, 12, 3},
		"a pause in between is not yet as before": {courseOf(10, []int64{0, 0, 0, 0, 0, 4, 0, 0, 0, 4, 0, 0, 0, 0, 0, 0}), 5, 50, 8, 5},
		"slow for four seconds":                   {courseOf(10, nil, 0.1, 0.1, 0.1, 3, 3, 3, 3, 0.1, 0.1, 0.1, 0.1, 0.1), 3, 40, 0, 4},
		"slower by a third is as before":          {courseOf(10, twenty, 0.1, 0.13, 0.13, 0.13, 0.13, 0.13, 0.13), 1, 0, 0, 0},
		"it never is":                             {courseOf(10, []int64{0, 0, 9, 9, 9, 9, 9, 9, 9, 9, 9}), 2, 90, 81, -1},
		"too few follow to tell":                  {courseOf(10, []int64{0, 0, 0, 9}), 3, 0, 0, -1},
		"one in a hundred is none":                {courseOf(100, []int64{0, 0, 1, 1, 1, 1, 1, 1, 1}), 2, 0, 0, 0},
		"few a second take longer to tell":        {courseOf(2, []int64{0, 0, 2, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}), 2, 4, 4, 2},
	} {
		a := Aftermath(x.course, x.from, calm)
		assert.Equal(t, []int64{x.requests, x.failed}, []int64{a.Requests, a.Failed}, title)
		if x.until < 0 {
			assert.Nil(t, a.Until, title)
			continue
		}
		require.NotNil(t, a.Until, title)
		assert.InDelta(t, x.until, *a.Until, 1e-9, title)
	}
}

// TestTheCourseKeepsItsSum: however often rows are joined, nothing is lost of them.
func TestTheCourseKeepsItsSum(t *testing.T) {
	c := &course{width: 1e9}
	for i := range 3 * maxCourse {
		c.row(tick.Time(i)*1e9).Arrived++
		c.row(tick.Time(i/2)*1e9).Failed++
	}
	assert.Equal(t, tick.Time(4e9), c.width)
	all := c.result().Between(0, 1e9)
	assert.Equal(t, []int64{3 * maxCourse, 3 * maxCourse}, []int64{all.Arrived, all.Failed})
	assert.Equal(t, result.CourseRow{Arrived: 4, Failed: 8}, c.result().Between(8, 12))
	var none *course
	assert.Nil(t, none.result())
}
