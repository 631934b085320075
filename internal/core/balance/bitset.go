package balance

import "math/bits"

// bitset is a set of small numbers in which the next one from any place on is
// found in O(log n), sixty-four times fewer words at each level.
type bitset struct {
	levels [][]uint64 // the lowest first; a bit of a higher one says that a word of the level below is not 0
	n      int
}

// newBitset returns an empty one for numbers below n.
func newBitset(n int) bitset {
	b := bitset{n: n}
	for {
		n = (n + 63) / 64
		b.levels = append(b.levels, make([]uint64, n))
		if n <= 1 {
			return b
		}
	}
}

// put puts a number in, or takes it out.
func (b *bitset) put(i int, in bool) {
	for _, words := range b.levels {
		w := &words[i>>6]
		was := *w
		if *w &^= 1 << (i & 63); in {
			*w |= 1 << (i & 63)
		}
		if (*w == 0) == (was == 0) {
			return // nothing changes for the levels above
		}
		i >>= 6
	}
}

// next returns the smallest number from i on, -1 if there is none.
func (b *bitset) next(i int) int {
	for l, words := range b.levels {
		if w := i >> 6; w < len(words) {
			if rest := words[w] >> (i & 63) << (i & 63); rest != 0 {
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

// places are the positions of each slot in a list that has some of them several
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
