package balance

import "math/bits"

// bitset is a set of small numbers in which the next one from any place on is
// found in O(log n), with sixty-four ways at each level.
type bitset struct {
	low    []uint64   // the lowest level
	levels [][]uint64 // all of them, that first; a bit of one says that a word of the level below is not 0
	n      int
}

// newBitset gives an empty one for numbers below n.
func newBitset(n int) bitset {
	b := bitset{n: n}
	for {
		n = (n + 63) / 64
		b.levels = append(b.levels, make([]uint64, n))
		if n <= 1 {
			b.low = b.levels[0]
			return b
		}
	}
}

func (b *bitset) put(i int, in bool) {
	if change(&b.low[i>>6], i, in) {
		b.putAbove(i>>6, in)
	}
}

// putAbove tells the levels above the lowest that a word has got its first member,
// or lost its last.
func (b *bitset) putAbove(i int, in bool) {
	for _, words := range b.levels[1:] {
		if !change(&words[i>>6], i, in) {
			return
		}
		i >>= 6
	}
}

// change puts a bit into a word or takes it out, and says whether the word has become
// empty by that, or ceased to be.
func change(w *uint64, i int, in bool) bool {
	was := *w
	if *w &^= 1 << (i & 63); in {
		*w |= 1 << (i & 63)
	}
	return (*w == 0) != (was == 0)
}

// next gives the smallest number from i on, -1 if there is none.
func (b *bitset) next(i int) int {
	if w := i >> 6; w < len(b.low) {
		if rest := b.low[w] >> (i & 63); rest != 0 {
			return i + bits.TrailingZeros64(rest) // as nearly always
		}
	}
	return b.nextAbove(i)
}

// nextAbove is next where none is left in the word of i.
func (b *bitset) nextAbove(i int) int {
	if i >= b.n {
		return -1
	}
	i = i>>6 + 1
	for l := 1; l < len(b.levels); l++ {
		if w := i >> 6; w < len(b.levels[l]) {
			if rest := b.levels[l][w] >> (i & 63) << (i & 63); rest != 0 {
				i = w<<6 | bits.TrailingZeros64(rest)
				for l--; l >= 0; l-- {
					i = i<<6 | bits.TrailingZeros64(b.levels[l][i])
				}
				return i
			}
		}
		i = i>>6 + 1
	}
	return -1
}

// around is next, going on from the beginning after the end.
func (b *bitset) around(i int) int {
	if at := b.next(i); at >= 0 {
		return at
	}
	return b.next(0)
}

// places are where each slot stands in a line that holds some of them several
// times.
type places struct {
	from []int32 // by slot, and one more: its part of at
	at   []int32
}

func placesOf(line []int32, slots int) places {
	p := places{from: make([]int32, slots+1), at: make([]int32, len(line))}
	for _, s := range line {
		p.from[s+1]++
	}
	for i := range slots {
		p.from[i+1] += p.from[i]
	}
	next := append([]int32(nil), p.from...)
	for i, s := range line {
		p.at[next[s]] = int32(i)
		next[s]++
	}
	return p
}

func (p *places) of(slot int) []int32 {
	if slot+1 >= len(p.from) {
		return nil
	}
	return p.at[p.from[slot]:p.from[slot+1]]
}
