package balance

import (
	"math"
	"math/bits"
)

// packed tells the smallest of keys of one word each, made of a load, a tie that
// decides between equal loads, and the number of the leaf. Up to sixteen leaves
// are all looked at; of more, the smallest stands at the root of a tournament
// tree (Knuth, The Art of Computer Programming 3, section 5.4.1).
type packed struct {
	tree []uint64 // tree[1] is the smallest; leaves stand from size on
	size int
	bits uint // for a leaf
}

// loadBits are those of a load; a tie has what is left. The highest bit of each is 0
// in a key, and tells when one has grown too large.
const (
	loadBits = 24
	loadAt   = 64 - loadBits
	tooLarge = 1<<63 | 1<<(loadAt-1)
)

// grow makes room for so many leaves, all out.
func (p *packed) grow(leaves int) {
	p.bits = uint(bits.Len(uint(max(leaves, 2) - 1)))
	p.size = 1 << p.bits
	p.tree = make([]uint64, 2*p.size)
	for i := range p.tree {
		p.tree[i] = math.MaxUint64
	}
}

// fits says whether a key holds them.
func (p *packed) fits(load, tie uint64) bool {
	return load < 1<<(loadBits-1) && tie < 1<<(loadAt-1-p.bits)
}

// step is by how much a key grows with a load and a tie.
func (p *packed) step(load, tie uint64) uint64 { return load<<loadAt + tie<<p.bits }

// put gives a leaf a key.
func (p *packed) put(leaf int, load, tie uint64) { p.set(leaf, p.step(load, tie)|uint64(leaf)) }

// add adds a step to a leaf's key, or its negative; false, with nothing done, if what
// comes of it does not fit in, or the leaf has none.
func (p *packed) add(leaf int, step uint64) bool {
	k := p.tree[p.size+leaf]
	if (k|(k+step))&tooLarge != 0 {
		return false
	}
	p.set(leaf, k+step)
	return true
}

// competes says whether a leaf has a key.
func (p *packed) competes(leaf int) bool { return p.tree[p.size+leaf] != math.MaxUint64 }

// tie gives that of a leaf that has a key.
func (p *packed) tie(leaf int) uint64 {
	return p.tree[p.size+leaf] & (1<<loadAt - 1) >> p.bits
}

// leave takes a leaf out.
func (p *packed) leave(leaf int) { p.set(leaf, math.MaxUint64) }

// set plays the matches of a leaf again, up to the root. The smallest so far is
// carried along: reading it back from where it has just been written would take
// longer than the match.
func (p *packed) set(leaf int, k uint64) {
	tree := p.tree
	i := p.size + leaf
	tree[i] = k
	for i > 1 && i^1 < len(tree) {
		k = min(k, tree[i^1])
		i >>= 1
		tree[i] = k
	}
}

// best gives the leaf with the smallest key, -1 if all are out.
func (p *packed) best() int {
	k := p.tree[1]
	if k == math.MaxUint64 {
		return -1
	}
	return int(k & (1<<p.bits - 1))
}

// tournament tells the smallest of keys of two words, in the same way.
type tournament struct {
	tree []match // tree[1] is the smallest
	size int
}

// match is who won it.
type match struct {
	key
	leaf uint64
}

// key is a load and what decides between equal ones.
type key struct {
	load uint64 // all bits set for one that is out
	tie  uint64 // the bits of a number of 0 or more, which order as it does
}

// nobody is the key of one that is out.
var nobody = key{math.MaxUint64, math.MaxUint64}

// put gives a leaf a key.
func (t *tournament) put(leaf int, k key) {
	if leaf >= t.size {
		t.grow(leaf + 1)
	}
	m := match{k, uint64(leaf)}
	i := t.size + leaf
	t.tree[i] = m
	for i > 1 {
		other := &t.tree[i^1]
		// The smaller one, of equals the left one, without a jump that could
		// not be foretold.
		_, borrow := bits.Sub64(other.leaf, m.leaf, 0)
		_, borrow = bits.Sub64(other.tie, m.tie, borrow)
		_, borrow = bits.Sub64(other.load, m.load, borrow)
		take := -borrow
		m.load ^= (m.load ^ other.load) & take
		m.tie ^= (m.tie ^ other.tie) & take
		m.leaf ^= (m.leaf ^ other.leaf) & take
		i >>= 1
		t.tree[i] = m
	}
}

// grow makes room for so many leaves. What is new is out.
func (t *tournament) grow(leaves int) {
	old := t.tree[t.size:]
	for t.size = max(t.size, 2); t.size < leaves; {
		t.size *= 2
	}
	t.tree = make([]match, 2*t.size)
	for i := range t.tree {
		t.tree[i] = match{nobody, uint64(max(i-t.size, 0))}
	}
	for leaf, m := range old {
		t.put(leaf, m.key)
	}
}

// best gives the leaf with the smallest key, -1 if all are out.
func (t *tournament) best() int {
	if t.size == 0 || t.tree[1].key == nobody {
		return -1
	}
	return int(t.tree[1].leaf)
}
