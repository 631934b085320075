package replay

import (
	"context"
	"fmt"
	"time"

	"kestrix/internal/core/draw"
	"kestrix/internal/core/trace"
)

// order puts the arrival that was written last where it belongs among those
// that wait.
func (f *feed) order(name string, line int64, a *arrival) error {
	f.records++
	if f.o.Stamp == "end" && a.duration >= 0 {
		f.fromEnd(a)
	}
	if !f.started {
		f.started, f.first, f.last = true, a.at, a.at
	}
	if a.at >= f.last {
		f.last = a.at
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
	// It moves down past all that come after it.
	x := *a
	b, i := len(f.blocks)-1, len(f.blocks[len(f.blocks)-1])-1
	for {
		pb, pi := b, i-1
		if pi < 0 {
			if pb--; pb < 0 {
				break
			}
			pi = len(f.blocks[pb]) - 1
		}
		before := &f.blocks[pb][pi]
		if before.at <= x.at || f.spreadOut(pb, pi) {
			break
		}
		f.blocks[b][i] = *before
		b, i = pb, pi
	}
	f.blocks[b][i] = x
	return nil
}

// spreadOut says whether an arrival's second has been settled.
func (f *feed) spreadOut(b, i int) bool { return b == 0 && i < f.settled }

// release settles what no later record can come before, and hands on the blocks
// of which that is all. Stamps of whole seconds are spread evenly over their
// second once all of it is there.
func (f *feed) release(ctx context.Context, before int64) {
	const second = int64(time.Second)
	before = before / second * second
	b, i := 0, f.settled
	for b < len(f.blocks) {
		if i == len(f.blocks[b]) {
			b, i = b+1, 0
			continue
		}
		a := &f.blocks[b][i]
		if a.at >= before {
			break
		}
		if !f.spread || !a.whole {
			i++
			continue
		}
		// Those of the same second, over the ends of blocks.
		at, n := a.at, int64(0)
		eb, ei := b, i
		for eb < len(f.blocks) {
			if ei == len(f.blocks[eb]) {
				eb, ei = eb+1, 0
				continue
			}
			if x := &f.blocks[eb][ei]; x.at != at || !x.whole {
				break
			}
			n++
			ei++
		}
		f.shifted += n - 1
		// at + k*second/n, without a division for each k.
		step, over, rest := second/n, second%n, int64(0)
		for range n {
			for i == len(f.blocks[b]) {
				b, i = b+1, 0
			}
			f.blocks[b][i].at = at
			at += step
			if rest += over; rest >= n {
				rest -= n
				at++
			}
			i++
		}
	}
	for ; b > 0; b-- {
		f.send(ctx, f.blocks[0])
		f.blocks = f.blocks[1:]
	}
	f.settled = i
	if before > 1<<61 && len(f.blocks) > 0 {
		f.send(ctx, f.blocks[0]) // the end
		f.blocks = nil
	}
}

func (f *feed) send(ctx context.Context, block []arrival) {
	if len(block) == 0 {
		return
	}
	select {
	case f.out <- block:
	case <-ctx.Done():
	}
}

// giveBack takes a block that has been used, for another time.
func (f *feed) giveBack(b []arrival) {
	select {
	case f.spare <- b:
	default:
	}
}

// block gives an empty one.
func (f *feed) block() []arrival {
	select {
	case b := <-f.spare:
		return b[:0]
	default:
		return make([]arrival, 0, batchSize)
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
