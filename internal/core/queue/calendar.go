package queue

import (
	"math/bits"
	"slices"

	"kestrix/internal/core/tick"
)

// Calendar holds what is due like Heap and returns it in the same order, in
// nearly constant time however much there is: what comes soon lies in a ring of
// days, each as long as a power of two of nanoseconds, and only the day that has
// come is put in order; what is further off waits in a heap (Brown: Calendar
// Queues, Communications of the ACM 31, 1988). The length of a day follows how
// much happens. It is for events of which none is put in before the last that was
// taken out. The zero value is empty and ready.
type Calendar[T any] struct {
	today []Item[T] // in order, from head on
	head  int
	days  []int32   // the ring, a power of two of them: what was put in last, one more than the number of its spot
	full  []uint64  // a bit for each that holds something
	spots []Item[T] // of all that lies in the ring, see file
	spare int32     // the first of those that hold nothing, one more than its number
	day   int64     // number of the day that today is
	shift uint      // a day has 1<<shift nanoseconds
	early Heap[T]   // put in for a day before today, after today was looked at
	later Heap[T]
	next  uint32
	n     int

	pushes, far, turns int // since the length of a day was last looked at
}

// firstRing and lastRing are how many days lie ahead at first, and at most. Up to
// nearRing, which a near cache holds, days are made so short that most hold one thing.
const (
	firstRing = 1 << 10
	nearRing  = 1 << 12
	lastRing  = 1 << 15
)

// lookEvery is after how many events the length of a day is looked at.
const lookEvery = 1 << 12

// Len returns the number of things due.
func (c *Calendar[T]) Len() int { return c.n }

// At returns when the first is due, tick.Never when nothing is.
func (c *Calendar[T]) At() tick.Time {
	switch {
	case len(c.early.items) > 0:
		return c.early.items[0].At
	case c.n == 0:
		return tick.Never
	case c.head == len(c.today):
		c.nextDay()
	}
	return c.today[c.head].At
}

// Push puts a value in.
func (c *Calendar[T]) Push(at tick.Time, v T) {
	c.next++
	c.n++
	c.pushes++
	day := int64(at) >> c.shift
	if ahead := day - c.day; ahead > 0 && ahead < int64(len(c.days)) && c.spare > 0 && c.pushes < lookEvery {
		// As nearly always: what put does, cut short.
		i := day & int64(len(c.days)-1)
		mine := c.spare
		s := &c.spots[mine-1]
		c.spare = s.link
		s.At, s.order, s.Value, s.link = at, c.next, v, c.days[i]
		c.days[i] = mine
		c.full[i>>6] |= 1 << (i & 63)
		return
	}
	if c.pushes >= lookEvery {
		c.look()
	}
	c.put(Item[T]{At: at, order: c.next, Value: v})
}

func (c *Calendar[T]) put(it Item[T]) {
	if c.days == nil {
		c.days, c.full = make([]int32, firstRing), make([]uint64, firstRing/64)
		c.shift = 20
	}
	d := int64(it.At) >> c.shift
	switch ahead := d - c.day; {
	case ahead < 0:
		c.early.put(it)
	case ahead == 0:
		c.insert(it)
	case ahead < int64(len(c.days)):
		c.file(d, it)
	default:
		c.far++
		c.later.put(it)
	}
}

// file puts an item in the ring. Things of one day are linked: link is one more
// than the number of the spot of what was put in before on that day, or of the next
// spare one. A spot that was left last is taken first, so that what is in use
// stays close together.
func (c *Calendar[T]) file(day int64, it Item[T]) {
	i := day & int64(len(c.days)-1)
	at := c.spare
	if at == 0 {
		c.spots = append(c.spots, Item[T]{})
		at = int32(len(c.spots))
	}
	s := &c.spots[at-1]
	c.spare = s.link
	*s = it
	s.link = c.days[i]
	c.days[i] = at
	c.full[i>>6] |= 1 << (i & 63)
}

// collect takes everything of a place in the ring, in the order it was put in,
// and adds it to out.
func (c *Calendar[T]) collect(i int64, out []Item[T]) []Item[T] {
	from, first := len(out), c.days[i]
	for at := first; at != 0; {
		s := &c.spots[at-1]
		out = append(out, *s)
		if s.link == 0 {
			s.link, c.spare = c.spare, first
			break
		}
		at = s.link
	}
	c.days[i] = 0
	slices.Reverse(out[from:])
	return out
}

// insert puts an item of today where it belongs, which mostly is the end.
func (c *Calendar[T]) insert(it Item[T]) {
	c.today = append(c.today, it)
	i := len(c.today) - 1
	for i > c.head && before(&it, &c.today[i-1]) {
		c.today[i] = c.today[i-1]
		i--
	}
	c.today[i] = it
}

func before[T any](a, b *Item[T]) bool {
	return a.At < b.At || a.At == b.At && earlier(a.order, b.order)
}

// Pop takes the first out. There must be one.
func (c *Calendar[T]) Pop() (tick.Time, T) {
	at, v, _ := c.Take(tick.Never)
	return at, v
}

// Take takes the first out if it is due by a moment.
func (c *Calendar[T]) Take(by tick.Time) (at tick.Time, v T, ok bool) {
	if len(c.early.items) > 0 {
		if c.early.items[0].At > by {
			return at, v, false
		}
		c.n--
		at, v = c.early.Pop()
		return at, v, true
	}
	if c.head == len(c.today) {
		if c.n == 0 {
			return at, v, false
		}
		c.nextDay()
	}
	it := &c.today[c.head]
	if it.At > by {
		return at, v, false
	}
	c.head++
	c.n--
	return it.At, it.Value, true
}

// nextDay goes on to the next day on which something is due. There must be one.
func (c *Calendar[T]) nextDay() {
	c.turns++
	c.today, c.head = c.today[:0], 0
	day := int64(-1)
	from := (c.day + 1) & int64(len(c.days)-1)
	if soon := c.full[from>>6] >> (from & 63); soon != 0 {
		day = c.day + 1 + int64(bits.TrailingZeros64(soon))
	} else {
		day = c.nextFull()
	}
	if len(c.later.items) > 0 {
		if far := int64(c.later.At()) >> c.shift; day < 0 || far < day {
			day = far
		}
	}
	c.day = day
	for at := c.later.At(); at != tick.Never && int64(at)>>c.shift < day+int64(len(c.days)); at = c.later.At() {
		it := c.later.items[0]
		c.later.Pop()
		if d := int64(it.At) >> c.shift; d == day {
			c.today = append(c.today, it)
		} else {
			c.file(d, it)
		}
	}
	i := day & int64(len(c.days)-1)
	if c.full[i>>6]&(1<<(i&63)) != 0 {
		c.full[i>>6] &^= 1 << (i & 63)
		at := c.days[i]
		if s := &c.spots[at-1]; s.link == 0 && len(c.today) == 0 {
			c.today = append(c.today, *s) // as on most days
			s.link, c.spare, c.days[i] = c.spare, at, 0
			return
		}
		c.today = c.collect(i, c.today)
	}
	c.sort()
}

// nextFull returns the number of the next day in the ring on which something is
// due, -1 if there is none.
func (c *Calendar[T]) nextFull() int64 {
	mask := int64(len(c.days) - 1)
	from := (c.day + 1) & mask
	words := int64(len(c.full))
	for k := range words + 1 {
		w := (from>>6 + k) & (words - 1)
		word := c.full[w]
		if k == 0 {
			word = word >> (from & 63) << (from & 63)
		} else if k == words {
			word &= 1<<(from&63) - 1
		}
		if word != 0 {
			i := w<<6 | int64(bits.TrailingZeros64(word))
			return c.day + 1 + (i-from)&mask
		}
	}
	return -1
}

// sort puts today in order. Days are made to hold a few.
func (c *Calendar[T]) sort() {
	t := c.today
	for i := 1; i < len(t); i++ {
		if !before(&t[i], &t[i-1]) {
			continue
		}
		it := t[i]
		k := i
		for k > 0 && before(&it, &t[k-1]) {
			t[k] = t[k-1]
			k--
		}
		t[k] = it
	}
}

// look makes days shorter when too much falls on each, and more of them, or longer,
// when too much lies beyond the ring.
func (c *Calendar[T]) look() {
	shift, ring := c.shift, len(c.days)
	each := c.pushes / max(c.turns, 1)
	beyond := c.far*8 > c.pushes
	switch {
	case each > 3:
		shift = max(8, shift-uint(min(bits.Len(uint(each))-1, int(shift))))
	case c.pushes*4 > 5*c.turns && !beyond && ring < nearRing && shift > 8:
		shift--
	case beyond && c.pushes*2 < 3*c.turns && shift < 40 && ring >= nearRing:
		shift++
	case beyond:
		ring = min(2*ring, lastRing)
	}
	c.pushes, c.far, c.turns = 0, 0, 0
	if shift == c.shift && ring == len(c.days) {
		return
	}
	// Everything is put in anew, with the numbers it had.
	all := append([]Item[T](nil), c.today[c.head:]...)
	for i := range c.days {
		all = c.collect(int64(i), all)
	}
	if clear(c.full); ring != len(c.days) {
		c.days, c.full = make([]int32, ring), make([]uint64, ring/64)
	}
	c.today, c.head = c.today[:0], 0
	c.day = c.day << c.shift >> shift
	c.shift = shift
	all = append(append(all, c.early.items...), c.later.items...)
	c.early, c.later = Heap[T]{}, Heap[T]{}
	for _, it := range all {
		c.put(it)
	}
	c.far = 0
}
