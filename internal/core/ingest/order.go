package ingest

import (
	"context"
	"fmt"
	"sort"
	"time"

	"kestrix/internal/core/rng"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/units"
)

// Sequence is the arrivals of a trace in the order of time, for all replays whose plans
// need the same of its records.
type Sequence struct {
	*Plan
	pipeline *Pipeline
	known    misses
	records  int64
	late     int64 // records that stood out of order
	first    int64
	last     int64
	started  bool
	blocks   [][]Arrival // in order; the last is being filled
	settled  int         // how many of the first block have been spread
	shifted  int64       // stamps that were moved within their second
	out      chan *shared
	readers  []*Reader
	tail     []Arrival   // those of the last stretch, where it is repeated
	Sample   []Arrival   // the first arrivals, as many as Options.Sample says; several replays read them side by side
	Kept     [][]Arrival // all arrivals, where Options.Keep is set and allows so many; read only
	Total    int         // how many there were, where Options.Keep is set
}

// slot returns the place of the next arrival, where it is written and stays.
func (l *Sequence) slot() *Arrival {
	last := len(l.blocks) - 1
	if last < 0 || len(l.blocks[last]) == cap(l.blocks[last]) {
		l.blocks = append(l.blocks, l.pipeline.block())
		last++
	}
	b := &l.blocks[last]
	*b = (*b)[:len(*b)+1]
	return &(*b)[len(*b)-1]
}

// newest is the place that was given last.
func (l *Sequence) newest() *Arrival {
	b := l.blocks[len(l.blocks)-1]
	return &b[len(b)-1]
}

// giveUp takes that place back.
func (l *Sequence) giveUp() {
	b := &l.blocks[len(l.blocks)-1]
	*b = (*b)[:len(*b)-1]
}

// inOrder takes in what of some arrivals need not be moved; it returns how many there
// are before the first that has to be.
func (l *Sequence) inOrder(some []Arrival) int {
	if l.o.Stamp == "end" || !l.started {
		return 0
	}
	i, last := 0, l.last
	for i < len(some) && some[i].At >= last {
		last = some[i].At
		i++
	}
	l.records += int64(i)
	l.last = last
	return i
}

// order puts the arrival that was written last where it belongs among those
// that wait.
func (l *Sequence) order(name string, line int64, a *Arrival) error {
	l.records++
	if l.o.Stamp == "end" {
		l.fromEnd(a)
	}
	if !l.started {
		l.started, l.first, l.last = true, a.At, a.At
	}
	if a.At >= l.last {
		l.last = a.At
		return nil
	}
	l.late++
	if ago := l.last - a.At; ago > int64(l.o.Window) {
		return &trace.LineError{
			Name: name, Line: line, Column: 1, CannotBeSkip: true,
			Why: fmt.Sprintf("the time %s is %s before an earlier record; records are sorted within %s; -window %s accepts it, or sort the trace first",
				time.Unix(0, a.At).UTC().Format("2006-01-02 15:04:05"), units.Duration(time.Duration(ago)), units.Duration(l.o.Window), time.Duration(ago+1e9).Truncate(time.Second)),
		}
	}
	l.first = min(l.first, a.At)
	// It moves down past all that come after it.
	x := *a
	b, i := len(l.blocks)-1, len(l.blocks[len(l.blocks)-1])-1
	for {
		pb, pi := b, i-1
		if pi < 0 {
			if pb--; pb < 0 {
				break
			}
			pi = len(l.blocks[pb]) - 1
		}
		before := &l.blocks[pb][pi]
		if before.At <= x.At || l.spreadOut(pb, pi) {
			break
		}
		l.blocks[b][i] = *before
		b, i = pb, pi
	}
	l.blocks[b][i] = x
	return nil
}

// spreadOut reports whether an arrival's second has been settled.
func (l *Sequence) spreadOut(b, i int) bool { return b == 0 && i < l.settled }

// release settles what no later record can come before, and hands on the blocks
// of which that is all. Stamps of whole seconds are spread evenly over their
// second once all of it is there.
func (l *Sequence) release(ctx context.Context, before int64) {
	const second = int64(time.Second)
	before = before / second * second
	b, i := 0, l.settled
	for b < len(l.blocks) {
		if i == len(l.blocks[b]) {
			b, i = b+1, 0
			continue
		}
		a := &l.blocks[b][i]
		if a.At >= before {
			break
		}
		if !l.spread || !a.whole {
			i++
			continue
		}
		// Those of the same second, over the ends of blocks.
		at, n := a.At, int64(0)
		eb, ei := b, i
		for eb < len(l.blocks) {
			if ei == len(l.blocks[eb]) {
				eb, ei = eb+1, 0
				continue
			}
			if x := &l.blocks[eb][ei]; x.At != at || !x.whole {
				break
			}
			n++
			ei++
		}
		l.shifted += n - 1
		// at + k*second/n, without a division for each k.
		step, over, rest := second/n, second%n, int64(0)
		for range n {
			for i == len(l.blocks[b]) {
				b, i = b+1, 0
			}
			l.blocks[b][i].At = at
			at += step
			if rest += over; rest >= n {
				rest -= n
				at++
			}
			i++
		}
	}
	for ; b > 0; b-- {
		l.send(ctx, l.blocks[0])
		l.blocks = l.blocks[1:]
	}
	l.settled = i
	if before > 1<<61 && len(l.blocks) > 0 {
		l.send(ctx, l.blocks[0]) // the end
		l.blocks = nil
	}
	if before > 1<<61 {
		l.repeat(ctx)
	}
}

// keepTail keeps the arrivals of the last stretch of what is sent.
func (l *Sequence) keepTail(block []Arrival) {
	if l.o.Repeat == 0 || len(block) == 0 {
		return
	}
	l.tail = append(l.tail, block...)
	from := block[len(block)-1].At - int64(l.o.Stretch)
	if i := sort.Search(len(l.tail), func(i int) bool { return l.tail[i].At > from }); i > len(l.tail)/2 {
		l.tail = append(l.tail[:0], l.tail[i:]...) // moved once in a while, not with each block
	}
}

// repeat sends the arrivals of the last stretch again, as often as the options say.
func (l *Sequence) repeat(ctx context.Context) {
	if l.o.Repeat == 0 || len(l.tail) == 0 {
		return
	}
	last := l.tail[len(l.tail)-1].At
	i := sort.Search(len(l.tail), func(i int) bool { return l.tail[i].At > last-int64(l.o.Stretch) })
	stretch := l.tail[i:]
	period := last - stretch[0].At
	period = max(period+period/int64(max(len(stretch)-1, 1)), int64(time.Second)) // with the gap before the first
	until := last + int64(l.o.Repeat)
	for later := period; ctx.Err() == nil; later += period {
		block := l.pipeline.block()
		for _, a := range stretch {
			if a.At += later; a.At > until {
				if len(block) > 0 {
					l.hand(ctx, block)
				}
				return
			}
			if block = append(block, a); len(block) == cap(block) {
				l.hand(ctx, block)
				block = l.pipeline.block()
			}
		}
		if len(block) > 0 {
			l.hand(ctx, block)
		}
	}
}

func (l *Sequence) send(ctx context.Context, block []Arrival) {
	if len(block) == 0 {
		return
	}
	if more := l.o.Sample - len(l.Sample); more > 0 {
		for _, a := range block[:min(more, len(block))] {
			a.Page = 0 // what belongs to the page is in the sample as well, in its turn
			l.Sample = append(l.Sample, a)
		}
	}
	l.keepTail(block)
	l.hand(ctx, block)
}

// hand hands a block on to the readers, or keeps it.
func (l *Sequence) hand(ctx context.Context, block []Arrival) {
	if l.o.Keep > 0 {
		if l.Total += len(block); l.Total <= l.o.Keep {
			l.Kept = append(l.Kept, block)
		}
		return
	}
	b := &shared{block: block}
	b.left.Store(int32(max(len(l.readers), 1)))
	select {
	case l.out <- b:
	case <-ctx.Done():
	}
}

// fromEnd moves an arrival from the end of its request, which its stamp tells,
// to its beginning, if it is known how long it took. A stamp of whole seconds lies
// anywhere in its second.
func (l *Sequence) fromEnd(a *Arrival) {
	if a.whole && l.spread {
		a.At += int64(rng.Unit(rng.Bits(l.o.Seed, uint64(l.records), 0, rng.Stamp)) * 1e9)
		l.shifted++
	}
	a.At -= max(a.Duration, 0)
	a.whole = false
}
