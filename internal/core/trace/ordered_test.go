package trace

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestRecordsAreGivenInOrder has records come out of order within a window: all are
// given, sorted, whole seconds spread over theirs, and none before it can be.
func TestRecordsAreGivenInOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		window := time.Duration(rapid.IntRange(1, 5).Draw(t, "window")) * time.Second
		spread := rapid.Bool().Draw(t, "spread")
		n := rapid.IntRange(0, 60).Draw(t, "records")
		o := Ordered{Window: window, Spread: spread}
		var times []int64
		at, newest := int64(1e18), int64(0)
		var got []*Record
		path := []byte("/a")
		for i := range n {
			at += rapid.Int64Range(0, 2e9).Draw(t, "step")
			r := Record{Time: max(at-rapid.Int64Range(0, int64(window)).Draw(t, "back"), newest-int64(window)), Path: path, Line: int64(i)}
			if rapid.Bool().Draw(t, "whole") {
				whole := r.Time / 1e9 * 1e9
				if whole >= newest-int64(window) {
					r.Time, r.WholeSecond = whole, true
				}
			}
			newest = max(newest, r.Time)
			times = append(times, r.Time)
			ready, err := o.Add(&r)
			require.NoError(t, err)
			for _, x := range ready {
				assert.Less(t, x.Time, newest-int64(window)+1e9, "nothing that could still come before it")
			}
			got = append(got, ready...)
			path[1]++ // the record's own text must not change
		}
		got = append(got, o.Rest()...)
		require.Len(t, got, n)
		slices.Sort(times)
		second := map[int64]int64{}
		for i, x := range got {
			if i > 0 {
				assert.LessOrEqual(t, got[i-1].Time, x.Time, "in order")
			}
			assert.Equal(t, byte('a'+x.Line), x.Path[1])
			if x.WholeSecond {
				second[x.Time/1e9]++
			} else {
				_, there := slices.BinarySearch(times, x.Time)
				assert.True(t, there, "only whole seconds are moved")
			}
		}
		if !spread {
			for i, x := range got {
				assert.Equal(t, times[i], x.Time)
			}
		}
	})
}

func TestWhatCannotBePutInOrder(t *testing.T) {
	o := Ordered{Window: time.Second}
	_, err := o.Add(&Record{Time: NoTime, Line: 7})
	assert.EqualError(t, err, ":7:1: the record has no time, at which it could be sent")
	_, err = o.Add(&Record{Time: 1e18})
	require.NoError(t, err)
	_, err = o.Add(&Record{Time: 1e18 - 3e9, Line: 9})
	assert.ErrorContains(t, err, "is 3 s before an earlier record; records are sorted within 1 s; a larger -window sorts more")
	// Three stamps of one second lie evenly in it.
	o = Ordered{Window: time.Second, Spread: true}
	for range 3 {
		_, err = o.Add(&Record{Time: 5e9, WholeSecond: true})
		require.NoError(t, err)
	}
	var at []int64
	for _, r := range o.Rest() {
		at = append(at, r.Time)
	}
	assert.Equal(t, []int64{5e9, 5e9 + 333333333, 5e9 + 666666666}, at)
}
