package balance

import (
	"math"
	"math/bits"
)

// tournament finds the smallest of keys that change one at a time: a tree in which
// each node has the smaller of the two below it.
type tournament struct {
	tree []entry // tree[1] is the smallest; the leaves begin at size
	size int
}

// entry is a leaf with its key.
type entry struct {
	key
	leaf uint64
}

// key is a load and what decides between equal ones.
type key struct {
	load uint64 // the bits of a number of 0 or more, which order as it does
	turn uint64
}

// out is the key of a leaf that does not compete.
var out = key{load: math.MaxUint64}

// keyOf returns a key.
func keyOf(load float64, turn int64) key { return key{math.Float64bits(load), uint64(turn) ^ 1<<63} }

// newTournament returns one in which no leaf competes yet.
func newTournament(leaves int) tournament {
	t := tournament{size: 1}
	for t.size < leaves {
		t.size *= 2
	}
	t.tree = make([]entry, 2*t.size)
	for i := range t.tree {
		t.tree[i] = entry{out, uint64(max(i-t.size, 0))}
	}
	return t
}

// set sets the key of a leaf and plays its matches again. Of equal keys the lower leaf
// wins.
func (t *tournament) set(leaf int, k key) {
	e := entry{k, uint64(leaf)}
	i := t.size + leaf
	t.tree[i] = e
	for ; i > 1; i /= 2 {
		// Branch-free, as no processor predicts who wins: the difference of two keys
		// borrows if the other is smaller, or, left of this one, equal.
		o := &t.tree[i^1]
		_, less := bits.Sub64(o.turn, e.turn, uint64(i&1))
		_, less = bits.Sub64(o.load, e.load, less)
		e.load ^= (e.load ^ o.load) & -less
		e.turn ^= (e.turn ^ o.turn) & -less
		e.leaf ^= (e.leaf ^ o.leaf) & -less
		t.tree[i/2] = e
	}
}

// best returns the leaf with the smallest key, -1 if none competes.
func (t *tournament) best() int {
	if t.size == 0 || t.tree[1].load == out.load {
		return -1
	}
	return int(t.tree[1].leaf)
}
