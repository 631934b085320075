package replay

import (
	"context"
	"fmt"
	"slices"
	"time"

	"kestrix/internal/core/draw"
	"kestrix/internal/core/trace"
)

// order puts an arrival where it belongs among those that wait.
func (f *feed) order(name string, line int64, a arrival) error {
	f.records++
	if !f.started {
		f.started, f.first, f.last = true, a.at, a.at
	}
	if a.at >= f.last {
		f.last = a.at
		f.pending = append(f.pending, a)
		return nil
	}
	f.late++
	if late := f.last - a.at; late > int64(f.o.Window) {
		return &trace.LineError{
			Name: name, Line: line, Column: 1, CannotBeSkip: true,
			Why: fmt.Sprintf("the time %s is %s before one above it; records are put in order within %s: -window %s takes this one, or sort the trace first",
				time.Unix(0, a.at).UTC().Format("2006-01-02 15:04:05"), time.Duration(late), f.o.Window, time.Duration(late+1e9).Truncate(time.Second)),
		}
	}
	f.first = min(f.first, a.at)
	waiting := f.pending[f.head:]
	i, _ := slices.BinarySearchFunc(waiting, a.at+1, func(x arrival, at int64) int {
		if x.at < at {
			return -1
		}
		return 1
	})
	f.pending = slices.Insert(f.pending, f.head+i, a)
	return nil
}

// release hands on what no later record can come before. Stamps of whole
// seconds are spread evenly over their second once all of it is there.
func (f *feed) release(ctx context.Context, before int64) {
	const second = int64(time.Second)
	before = before / second * second
	for f.head < len(f.pending) && f.pending[f.head].at < before {
		end := f.head + 1
		if f.spread && f.pending[f.head].whole {
			at := f.pending[f.head].at
			for end < len(f.pending) && f.pending[end].at == at && f.pending[end].whole {
				end++
			}
			n := int64(end - f.head)
			f.shifted += n - 1
			for i := f.head; i < end; i++ {
				f.pending[i].at = at + int64(i-f.head)*second/n
			}
		}
		for ; f.head < end; f.head++ {
			if len(f.batch) == cap(f.batch) {
				f.flush(ctx)
			}
			f.batch = append(f.batch, f.pending[f.head])
		}
	}
	if f.head > 4096 && f.head > len(f.pending)/2 {
		n := copy(f.pending, f.pending[f.head:])
		f.pending, f.head = f.pending[:n], 0
	}
}

func (f *feed) flush(ctx context.Context) {
	if len(f.batch) > 0 {
		select {
		case f.out <- f.batch:
		case <-ctx.Done():
		}
	}
	select {
	case b := <-f.spare:
		f.batch = b[:0]
	default:
		f.batch = make([]arrival, 0, batchSize)
	}
}

// fromEnd moves an arrival from the end of its request, which its stamp tells,
// to its beginning. A stamp of whole seconds lies anywhere in its second.
func (f *feed) fromEnd(a *arrival) {
	if a.whole && f.spread {
		a.at += int64(draw.Unit(draw.Bits(f.o.Seed, uint64(f.records), 0, draw.Stamp)) * 1e9)
		f.shifted++
	}
	a.at -= a.duration
	a.whole = false
}
